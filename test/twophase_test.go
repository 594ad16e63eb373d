package test

import (
	"database/sql"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestNoCutoverBeforeTheUnended: a transaction that is prepared on the source can be
// committed by anybody at any time. While there is one, nothing is cut over; what it did
// arrives when it is committed, also where it was prepared before capture began.
func TestNoCutoverBeforeTheUnended(t *testing.T) {
	for _, from := range []string{"postgres", "mariadb"} {
		t.Run(from, func(t *testing.T) {
			f := start(t)
			source, target := f.sideOf(from, "old"), f.sideOf("postgres", "new")
			in := source.schema + "."
			source.exec("CREATE TABLE " + in + "lots (id int PRIMARY KEY, kg int)")
			source.exec("INSERT INTO " + in + "lots VALUES (1, 10), (2, 20)")
			prepare := func(name string, id int) {
				insert := "INSERT INTO " + in + "lots VALUES (" + itoa(id) + ", 30)"
				if from == "postgres" {
					source.exec("BEGIN; " + insert + "; PREPARE TRANSACTION '" + name + "'")
					return
				}
				db, err := sql.Open("mysql", mariaDB(t).DSN(""))
				check(t, err)
				defer func() { _ = db.Close() }() // the session ends
				db.SetMaxOpenConns(1)
				maria(t, db, "XA START '"+name+"'", insert, "XA END '"+name+"'", "XA PREPARE '"+name+"'")
			}
			commit := map[string]string{"postgres": "COMMIT PREPARED ", "mariadb": "XA COMMIT "}[from]
			manifest := "dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  target: new\n  tables: [\"" + in +
				"lots\"]\n"
			if from == "mariadb" {
				manifest += "  rules:\n" + toSchema(from, "postgres", source.schema) + "\n"
				prepare("before "+source.schema, 3) // on PostgreSQL nobody can begin to follow before it ends
			}
			if a := f.cli("crossing", "create", "--file", write(t, manifest)); a.code != 0 {
				t.Fatal(a.err)
			}
			f.startCrossing()
			f.awaitPhase(contract.PhaseInStep)
			if from == "postgres" {
				prepare("before "+source.schema, 3)
			}
			if a := f.cli("cutover", "ready", "spring"); !strings.Contains(a.out, "could still be committed") {
				t.Errorf("%+v", a)
			} else {
				t.Log("\n" + a.out)
			}
			_, err := client.Do[contract.Cutover](f.API.CutoverWithResponse(t.Context(), "spring",
				contract.NewCutover{Rehearsal: true}))
			if err == nil {
				if k := f.cutOverEnd(); k.State != "failed" && k.State != "undone" ||
					!strings.Contains(k.Error, "could still be committed") {
					t.Errorf("%+v", k)
				}
			} else if !strings.Contains(err.Error(), "could still be committed") {
				t.Error(err)
			}
			source.exec(commit + "'before " + source.schema + "'")
			eventually(t, 20*time.Second, func() bool {
				return len(target.texts("SELECT id FROM public.lots WHERE id = 3")) == 1
			})
			// One that is on its way to its end when writes are stopped has a moment for it.
			prepare("late "+source.schema, 4)
			go func() {
				time.Sleep(300 * time.Millisecond)
				source.exec(commit + "'late " + source.schema + "'")
			}()
			eventually(t, 20*time.Second, func() bool {
				return len(target.texts("SELECT id FROM public.lots WHERE id = 4")) == 1
			})
			if k := f.cutOver(true, contract.Settings{}); k.State != "done" {
				t.Errorf("%+v", k)
			}
			sameTexts(t, "lots", source.texts("SELECT concat_ws('|', id, kg) FROM "+in+"lots ORDER BY id"),
				target.texts("SELECT concat_ws('|', id, kg) FROM public.lots ORDER BY id"))
		})
	}
}

// TestCaptureSaysWhatItWaitsFor: a PostgreSQL server lets capture begin only when the
// transactions that are open have ended; who waits is told which they are.
func TestCaptureSaysWhatItWaitsFor(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), "CREATE TABLE public.lots (id integer PRIMARY KEY); INSERT INTO public.lots VALUES (1)")
	f := start(t)
	f.cross(p, contract.Settings{}, "public.*")
	open := connect(t, p.sourceURL())
	_, err := open.Exec(t.Context(), "SET application_name = 'month end'; BEGIN; INSERT INTO public.lots VALUES (2)")
	check(t, err)
	f.startCrossing()
	c := f.await(time.Minute, "waiting for the transaction", func(c contract.Crossing) bool {
		return c.Progress.Work != nil && strings.Contains(*c.Progress.Work, "month end")
	})
	if !strings.Contains(*c.Progress.Work, "has ended: the transaction of postgres in "+p.source) ||
		!strings.Contains(*c.Progress.Work, ", open for 00:0") {
		t.Error(*c.Progress.Work)
	}
	_, err = open.Exec(t.Context(), "COMMIT")
	check(t, err)
	f.awaitPhase(contract.PhaseInStep)
	sameEverywhere(t, p, "public")
}

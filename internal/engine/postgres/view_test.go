package postgres

import (
	"context"
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/narrow"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

func TestViewsFindEveryDifference(t *testing.T) {
	ddl := []string{`CREATE TYPE public.mood AS ENUM ('x', 'y');
  CREATE TABLE public.h (id integer, k text, v text, m public.mood[], PRIMARY KEY (id, k));
  CREATE TABLE public.bag (v text)`,
		`INSERT INTO public.h SELECT g, 'k' || g % 7, 'v' || g, ARRAY['y']::public.mood[] FROM generate_series(1, 3000) g`,
		`INSERT INTO public.bag SELECT 'b' || g % 20 FROM generate_series(1, 100) g`}
	src, dst := fresh(t, ddl...), fresh(t, ddl...)
	run(t, dst, `UPDATE public.h SET v = 'v7 ' WHERE id = 7; UPDATE public.h SET m = '{x}' WHERE id = 2500;
  DELETE FROM public.h WHERE id = 1999; INSERT INTO public.h VALUES (5000, 'k', 'v', NULL)`)
	run(t, dst, `INSERT INTO public.bag VALUES ('b3'), ('b3'); DELETE FROM public.bag WHERE ctid = (SELECT ctid
  FROM public.bag WHERE v = 'b5' LIMIT 1)`)
	open := func(d *database) engine.View {
		v, _, err := d.OpenView(t.Context(), false, 0)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(v.Close)
		return v
	}
	a, b := open(src), open(dst)
	compare := func(table string, part engine.Part) []narrow.Candidate {
		t.Helper()
		p := planned(t, src, table)
		var sums [2][]rowhash.Sum
		for i, v := range []engine.View{a, b} {
			var err error
			if sums[i], err = v.Sums(t.Context(), p, part, func(int64) {}); err != nil {
				t.Fatal(err)
			}
		}
		pairs := narrow.NewPairs()
		differing := narrow.Parts(sums[0], sums[1])
		if err := a.Rows(t.Context(), p, part, differing, pairs.Source); err != nil {
			t.Fatal(err)
		}
		if err := b.Rows(t.Context(), p, part, differing, pairs.Target); err != nil {
			t.Fatal(err)
		}
		return pairs.Candidates()
	}
	p := planned(t, src, "public.h")
	for name, part := range map[string]engine.Part{
		"ranges":  {Bounds: []domain.KeyValue{{"1000", "k0"}, {"2000", "k0"}}},
		"buckets": {Buckets: 16},
	} {
		got := map[string]domain.FindingKind{}
		for _, c := range compare("public.h", part) {
			got[strings.Join(narrow.SplitKey(c.Key, len(p.Key)), "/")] = c.Kind
		}
		want := map[string]domain.FindingKind{"7/k0": domain.Differing, "2500/k1": domain.Differing,
			"1999/k4": domain.MissingOnTarget, "5000/k": domain.ExtraOnTarget}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("by %s: %v, want %v", name, got, want)
		}
	}
	copies := map[domain.FindingKind]int{}
	for _, c := range compare("public.bag", engine.Part{Buckets: 16}) {
		copies[c.Kind] += c.Copies
	}
	if copies[domain.ExtraOnTarget] != 2 || copies[domain.MissingOnTarget] != 1 {
		t.Errorf("rows without a key: %v", copies)
	}
}

// An exact view holds exactly the transactions whose commit begins before its
// position: checked against the log itself.
func TestExactViewsKnowTheirPosition(t *testing.T) {
	d := fresh(t, `CREATE TABLE public.h (id serial PRIMARY KEY)`)
	p := planned(t, d, "public.h")
	if _, err := d.PrepareCapture(t.Context(), "exactly", []domain.TablePlan{*p}); err != nil {
		t.Fatal(err)
	}
	start, err := d.PrepareCapture(t.Context(), "exactly", []domain.TablePlan{*p}) // can be repeated
	if err != nil {
		t.Fatal(err)
	}
	stop := make(chan struct{})
	done := make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-stop:
				return
			default:
				_, _ = d.pool.Exec(context.Background(), `INSERT INTO public.h DEFAULT VALUES`)
			}
		}
	}()
	time.Sleep(200 * time.Millisecond)
	v, at, err := d.OpenView(t.Context(), true, 10*time.Second)
	if err != nil {
		t.Fatal(err)
	}
	defer v.Close()
	time.Sleep(200 * time.Millisecond)
	close(stop)
	<-done
	end, err := d.Heartbeat(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	c, err := d.OpenCapture(t.Context(), "exactly", start, []engine.CaptureTable{{ID: 1, Plan: p}}, "")
	if err != nil {
		t.Fatal(err)
	}
	var before int64
	for e := range c.Events() {
		c.Took(&e)
		if e.Kind == domain.EventChange && e.Tx.Commit.Before(at) {
			before++
		}
		if e.Kind == domain.EventCommit && !e.Tx.Commit.Before(end) {
			break
		}
	}
	c.Close()
	if n, err := v.Count(t.Context(), p); err != nil || n != before || n == 0 {
		t.Errorf("the view holds %d rows, the log has %d before its position (%v)", n, before, err)
	}
	if err := d.DropCapture(t.Context(), "exactly", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := d.OpenCapture(t.Context(), "exactly", start, nil, ""); !domain.IsKind(err, domain.ProblemConflict) {
		t.Errorf("a lost slot must be a conflict for a person: %v", err)
	}
}

// TestASetIsReadInItsOrder: what an application writes into a text that stands for a set comes back from the
// set in the set's own order, and is no difference.
func TestASetIsReadInItsOrder(t *testing.T) {
	d := fresh(t, `CREATE TABLE public.keepers (id integer PRIMARY KEY, skills text)`, `INSERT INTO public.keepers VALUES
  (1, 'queens,swarms'), (2, 'wax,wax'), (3, ''), (4, NULL), (5, 'drones,wax')`)
	v, _, err := d.OpenView(t.Context(), false, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer v.Close()
	members := []string{"swarms", "queens", "wax"}
	keepers := domain.TableName{Schema: "public", Name: "keepers"}
	p := &domain.TablePlan{Source: keepers, Target: keepers, CrossEngine: true, Key: []string{"id"},
		Columns: []domain.Column{{Name: "id", Type: "integer", BaseType: "integer"},
			{Name: "skills", Type: "text", BaseType: "text", Members: members}}}
	want := map[string]string{"1": "swarms,queens", "2": "wax", "3": "", "4": "NULL", "5": "wax,drones"}
	texts := v.(interface {
		Range(context.Context, *domain.TablePlan, domain.KeyValue, domain.KeyValue, func([]byte, [][]byte) error) error
	})
	got := map[string]string{}
	err = texts.Range(t.Context(), p, nil, nil, func(_ []byte, f [][]byte) error {
		if got[string(f[0])] = string(f[1]); f[1] == nil {
			got[string(f[0])] = "NULL"
		}
		return nil
	})
	if err != nil || !maps.Equal(got, want) {
		t.Errorf("%v %v, want %v", err, got, want)
	}
}

// TestAViewReleasesItsLocks: what it has read can be emptied then, and it still sees what it saw.
func TestAViewReleasesItsLocks(t *testing.T) {
	for _, exact := range []bool{false, true} {
		d := fresh(t, "CREATE TABLE public.a (id integer PRIMARY KEY); CREATE TABLE public.b (id integer PRIMARY KEY)",
			"INSERT INTO public.a VALUES (1), (2)", "INSERT INTO public.b VALUES (1), (2), (3)")
		v, _, err := d.OpenView(t.Context(), exact, 10*time.Second)
		if err != nil {
			t.Fatal(err)
		}
		defer v.Close()
		if n, err := v.Count(t.Context(), planned(t, d, "public.a")); n != 2 || err != nil {
			t.Fatal(n, err)
		}
		empty := func() error {
			_, err := d.pool.Exec(t.Context(), "SET LOCAL lock_timeout = '300ms'; TRUNCATE public.a",
				pgx.QueryExecModeSimpleProtocol)
			return err
		}
		if err := empty(); err == nil || !strings.Contains(err.Error(), "lock timeout") {
			t.Errorf("while it is read, emptying it says %v", err)
		}
		if err := v.(engine.ReleasesLocks).ReleaseLocks(t.Context()); err != nil {
			t.Fatal(err)
		}
		if err := empty(); err != nil {
			t.Error(err)
		}
		run(t, d, "DELETE FROM public.b WHERE id > 1")
		if n, err := v.Count(t.Context(), planned(t, d, "public.b")); n != 3 || err != nil {
			t.Errorf("it sees %d rows, %v", n, err)
		}
	}
}

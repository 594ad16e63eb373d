package test

import (
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// fitCheck runs a fit check to its end.
func (f *ferry) fitCheck(body contract.NewFitCheck) contract.FitCheck {
	f.t.Helper()
	if _, err := client.Do[contract.Crossing](f.API.CheckFitWithResponse(f.t.Context(), "spring", body)); err != nil {
		f.t.Fatal(err)
	}
	f.awaitTask("fit check")
	got, err := client.Do[contract.FitCheck](f.API.GetFitCheckWithResponse(f.t.Context(), "spring"))
	if err != nil {
		f.t.Fatal(err)
	}
	if got.Error != nil || got.EndedAt == nil {
		f.t.Fatalf("the fit check: %+v", got)
	}
	return got
}

func (f *ferry) awaitTask(kind string) {
	f.t.Helper()
	f.await(time.Minute, kind+" ended", func(contract.Crossing) bool {
		list, err := client.Do[[]contract.Task](f.API.ListTasksWithResponse(f.t.Context(), "spring"))
		return err == nil && len(list) > 0 && list[0].Kind == kind && list[0].EndedAt != nil
	})
}

// says reports whether an entry of the verdict has all the words.
func says(list []contract.Entry, v contract.Verdict, words ...string) bool {
	for _, e := range list {
		text := e.Subject + " " + e.Measured
		if e.Remedy != nil {
			text += " " + *e.Remedy
		}
		all := e.Verdict == v
		for _, w := range words {
			all = all && strings.Contains(text, w)
		}
		if all {
			return true
		}
	}
	return false
}

// TestTheFitCheckFindsEachPlantedValue plants values that the other side cannot
// hold among many that it can, in both directions.
func TestTheFitCheckFindsEachPlantedValue(t *testing.T) {
	p := newPair(t)
	name, db := newMaria(t)
	exec1(t, p.sourceURL(), `
CREATE SCHEMA meadow;
CREATE TABLE meadow.lots (id integer PRIMARY KEY, moisture numeric(5,2), sugar numeric, pressed date,
  until timestamptz, heat real, label json);
INSERT INTO meadow.lots SELECT g, g % 90, g / 7.0, date '2026-01-01' + g % 100, now(), g, '{"a": [1]}'
  FROM generate_series(1, 5000) g;
CREATE TABLE meadow.stalls (town text PRIMARY KEY, note text);
INSERT INTO meadow.stalls SELECT 'town ' || g, repeat('n', g) FROM generate_series(1, 1000) g;
CREATE TABLE meadow.fine (id bigint PRIMARY KEY, v text);
INSERT INTO meadow.fine SELECT g, 'fine' FROM generate_series(1, 1000) g;
ANALYZE`)
	planted := `
UPDATE meadow.lots SET moisture = 'NaN' WHERE id = 77;
UPDATE meadow.lots SET sugar = 1e-40 WHERE id = 78;
UPDATE meadow.lots SET pressed = 'infinity' WHERE id IN (79, 80);
UPDATE meadow.lots SET until = '20000-01-01' WHERE id = 81;
UPDATE meadow.lots SET heat = '-infinity' WHERE id = 82;
UPDATE meadow.lots SET label = (repeat('[', 40) || repeat(']', 40))::json WHERE id = 83;
UPDATE meadow.stalls SET town = repeat('w', 900) WHERE town = 'town 5'`
	f := start(t)
	f.register("old", servers.source, p.source)
	f.registerMaria("new", name, db, targetRights(name)...)
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old", Target: "new", Tables: &[]string{"meadow.*"}})); err != nil {
		t.Fatal(err)
	}
	survey := func() []contract.Entry {
		t.Helper()
		list, err := client.Do[[]contract.Entry](f.API.SurveyCrossingWithResponse(t.Context(), "spring"))
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	if list := survey(); !says(list, contract.Notice, "has not been looked at", "dustyferry fit spring") {
		t.Errorf("the survey does not ask for a fit check: %+v", list)
	}
	if got := f.fitCheck(contract.NewFitCheck{}); got.Misfits != 0 || got.Rows != 7000 || got.TablesDone != 3 ||
		!says(got.Entries, contract.Ok, "meadow.fine", "1\u2009000 rows") {
		t.Errorf("before anything is planted: %+v", got)
	}
	if list := survey(); !says(list, contract.Ok, "every value fits") || !says(list, contract.Ok, "meadow.lots",
		"moisture", "found no such value") || says(list, contract.Notice, "moisture") {
		t.Errorf("the survey does not say that all fits: %+v", list)
	}
	exec1(t, p.sourceURL(), planted)
	for _, extremes := range []bool{false, true} {
		got := f.fitCheck(contract.NewFitCheck{Extremes: &extremes})
		for _, words := range [][]string{
			{"meadow.lots", "moisture", "NaN", "varchar(120)"}, {"meadow.lots", "sugar", "digits behind"},
			{"meadow.lots", "pressed", "infinity", "varchar(40)"}, {"meadow.lots", "until", "20000"},
			{"meadow.lots", "heat", "-Infinity", "varchar(30)"}, {"meadow.lots", "label", "40 levels", "longtext"},
			{"meadow.stalls", "town", "900 characters", "longtext"}} {
			if !says(got.Entries, contract.Blocker, words...) {
				t.Errorf("extremes %v: %q is not found in %+v", extremes, words, got.Entries)
			}
		}
		if !extremes && (got.Misfits != 8 || !says(got.Entries, contract.Blocker, "2 values of pressed",
			`key (79) "infinity"`)) {
			t.Errorf("%d misfits: %+v", got.Misfits, got.Entries)
		}
	}
	if list := survey(); !says(list, contract.Blocker, "meadow.stalls", "900 characters", "dustyferry fit spring") {
		t.Errorf("the survey does not block: %+v", list)
	}
	if a := f.cli("fit", "spring", "--table", "meadow.stalls"); a.code != 3 ||
		!strings.Contains(a.out, "900 characters") || strings.Contains(a.out, "moisture") {
		t.Errorf("exit %d:\n%s%s", a.code, a.out, a.err)
	}
	if a := f.cli("fit", "spring", "--share", "none"); a.code != 2 || !strings.Contains(a.err, "percentage") {
		t.Errorf("exit %d:\n%s", a.code, a.err)
	}
}

// TestTheFitCheckOfMariaDB looks the other way.
func TestTheFitCheckOfMariaDB(t *testing.T) {
	p := newPair(t)
	name, db := newMaria(t)
	maria(t, db, "CREATE TABLE lots (id bigint unsigned AUTO_INCREMENT PRIMARY KEY, pressed date NOT NULL, until "+
		"datetime, note text, kind enum('a','b'))",
		"INSERT INTO lots (pressed, until, note, kind) SELECT '2026-01-01', '2026-01-01', 'fine', 1 FROM seq_1_to_3000",
		"SET STATEMENT sql_mode = '' FOR UPDATE lots SET pressed = '0000-00-00' WHERE id = 7",
		"SET STATEMENT sql_mode = '' FOR UPDATE lots SET until = '2026-00-00' WHERE id IN (8, 9)",
		"UPDATE lots SET note = 'nul \\0 byte' WHERE id = 10", "UPDATE lots SET id = 18446744073709551614 WHERE id = 11")
	f := start(t)
	f.registerMaria("old", name, db, sourceRights(name)...)
	f.register("new", servers.target, p.target)
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old", Target: "new", Tables: &[]string{name + ".*"}})); err != nil {
		t.Fatal(err)
	}
	got := f.fitCheck(contract.NewFitCheck{SpeedLimit: ptr(int64(50_000_000))})
	if !says(got.Entries, contract.Blocker, "pressed", "key (7)", "0000-00-00", "text") ||
		!says(got.Entries, contract.Notice, "2 values of until", "becomes NULL") ||
		!says(got.Entries, contract.Blocker, "note", "key (10)", "NUL byte") || !says(got.Entries, contract.Blocker, "id",
		"18446744073709551614", "numeric(20,0)") || got.Misfits != 3 {
		t.Errorf("%+v", got)
	}
	if got := f.fitCheck(contract.NewFitCheck{Share: ptr(0.1)}); got.Rows < 150 || got.Rows > 600 {
		t.Errorf("a tenth of 3000 rows are %d", got.Rows)
	}
}

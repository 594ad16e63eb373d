package test

import (
	"net"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgproto3"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// journalOf returns the entries of an act, newest first.
func (f *ferry) journalOf(act string) []contract.JournalEntry {
	f.t.Helper()
	list, err := client.Do[[]contract.JournalEntry](f.API.ListJournalWithResponse(f.t.Context(),
		&contract.ListJournalParams{Act: &act, Limit: ptr(1000)}))
	if err != nil {
		f.t.Fatal(err)
	}
	return list
}

// told reports whether an entry says all the words in its message and detail.
func told(list []contract.JournalEntry, words ...string) bool {
	for _, e := range list {
		all := true
		for _, w := range words {
			all = all && strings.Contains(e.Message+"\n"+deref(e.Detail), w)
		}
		if all {
			return true
		}
	}
	return false
}

// TestAStoredPasswordStaysWhereItWasGivenFor points a registered database at a listener of
// a stranger's, who hears no password; the attempt is in the journal.
func TestAStoredPasswordStaysWhereItWasGivenFor(t *testing.T) {
	f := start(t)
	p := newPair(t)
	f.register("old", servers.source, p.source)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = ln.Close() }()
	heard := make(chan string, 100)
	go func() {
		for {
			conn, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = conn.Close() }()
				_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
				back := pgproto3.NewBackend(conn, conn)
				if _, err := back.ReceiveStartupMessage(); err != nil {
					return
				}
				back.Send(&pgproto3.AuthenticationCleartextPassword{})
				_ = back.Flush()
				b := make([]byte, 1000)
				n, _ := conn.Read(b)
				heard <- string(b[:n])
			}()
		}
	}()
	port := ln.Addr().(*net.TCPAddr).Port
	change := func(ch contract.DatabaseChange) error {
		_, err := client.Do[contract.Database](f.API.ChangeDatabaseWithResponse(t.Context(), "old", ch))
		return err
	}
	for name, ch := range map[string]contract.DatabaseChange{
		"another port": {Port: &port}, "another host": {Host: ptr("localhost")},
	} {
		if err := change(ch); err == nil || !strings.Contains(err.Error(), "password again") {
			t.Errorf("%s: %v", name, err)
		}
	}
	// With a password given, it is not told to who only asks for it.
	if err := change(contract.DatabaseChange{Port: &port, Password: &servers.source.Password}); err == nil ||
		!strings.Contains(err.Error(), "clear text") {
		t.Errorf("a stranger asked for the password: %v", err)
	}
	select {
	case what := <-heard:
		if strings.Contains(what, servers.source.Password) {
			t.Errorf("the stranger heard %q", what)
		}
	case <-time.After(10 * time.Second):
		t.Error("the stranger was never asked, so that nothing was tried")
	}
	if list := f.journalOf("database"); !told(list, "tried to change database old", itoa(port), "in vain") {
		t.Errorf("the journal does not tell of the attempt: %+v", list)
	}
	if err := change(contract.DatabaseChange{Tls: ptr("prefer")}); err != nil {
		t.Errorf("stronger encryption needs no password: %v", err)
	}
	if err := change(contract.DatabaseChange{Tls: ptr("disable")}); err == nil || !strings.Contains(err.Error(),
		"password again") {
		t.Errorf("weaker encryption: %v", err)
	}
	if err := change(contract.DatabaseChange{Host: ptr("localhost"), Password: &servers.source.Password}); err != nil {
		t.Errorf("another host, with the password: %v", err)
	}
}

// TestLocksHoldForACutoverToo passes settings with a cutover that the house locks; what may
// be passed is in the journal, and so is what each change was and what ran.
func TestLocksHoldForACutoverToo(t *testing.T) {
	f := start(t)
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.a (id integer PRIMARY KEY); INSERT INTO public.a
  SELECT generate_series(1, 500); ANALYZE`)
	house := contract.House{Locked: &[]string{"hold_points", "cutover_depth", "stop_method", "handover_url",
		"handover_command"}}
	if _, err := client.Do[contract.House](f.API.SetHouseWithResponse(t.Context(), house)); err != nil {
		t.Fatal(err)
	}
	f.cross(p, contract.Settings{}, "public.*")
	if _, err := client.Do[contract.Crossing](f.API.ChooseTablesWithResponse(t.Context(), "spring",
		contract.ChooseTablesJSONRequestBody{Patterns: []string{"public.*"},
			Planning: &contract.Planning{After: &[]string{"COMMENT ON TABLE public.a IS 'moved'"}}})); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Do[contract.Crossing](f.API.ChangeCrossingWithResponse(t.Context(), "spring",
		contract.Settings{Lanes: ptr(3), PauseBudgetSeconds: ptr(90.0)})); err != nil {
		t.Fatal(err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	changes := f.journalOf("change")
	if !told(changes, "lanes: 2 → 3", "pause_budget: 2m → 1m30s") ||
		!told(changes, `after: null → ["COMMENT ON TABLE public.a IS 'moved'"]`) {
		t.Errorf("changes: %+v", changes)
	}
	if list := f.journalOf("build"); !told(list, "after 1 ran", "COMMENT ON TABLE public.a IS 'moved'") {
		t.Errorf("the text of what ran is not in the journal: %+v", list)
	}
	name := "spring"
	cut := func(rehearsal bool, set contract.Settings) error {
		_, err := client.Do[contract.Cutover](f.API.CutoverWithResponse(t.Context(), name,
			contract.NewCutover{Rehearsal: rehearsal, Confirm: &name, Settings: &set}))
		return err
	}
	none, word, points := contract.SettingsCutoverDepthNone, contract.Word, []contract.SettingsHoldPoints{
		contract.CloseSource}
	for locked, set := range map[string]contract.Settings{"cutover_depth": {CutoverDepth: &none},
		"stop_method": {StopMethod: &word}, "hold_points": {HoldPoints: &points},
		"handover_url": {HandoverUrl: ptr("http://127.0.0.1:1/")}, "handover_command": {HandoverCommand: ptr("true")}} {
		if err := cut(true, set); err == nil || !strings.Contains(err.Error(), locked) || !strings.Contains(err.Error(),
			"lock it") {
			t.Errorf("%s was passed with a rehearsal: %v", locked, err)
		}
	}
	if err := cut(true, contract.Settings{Lanes: ptr(9)}); err == nil || !strings.Contains(err.Error(),
		"no setting of a cutover") {
		t.Errorf("lanes with a rehearsal: %v", err)
	}
	if err := cut(true, contract.Settings{PauseBudgetSeconds: ptr(30.0)}); err != nil {
		t.Fatal(err)
	}
	if k := f.cutOverEnd(); k.State != "done" || k.PauseBudgetSeconds != 30 {
		t.Errorf("the rehearsal: %+v", k)
	}
	if list := f.journalOf("cutover"); !told(list, "started a rehearsal", "pause_budget: 1m30s → 30s") {
		t.Errorf("the override is not in the journal: %+v", list)
	}
	// A command that runs is in the journal, word for word.
	if _, err := client.Do[contract.House](f.API.SetHouseWithResponse(t.Context(), contract.House{})); err != nil {
		t.Fatal(err)
	}
	if err := cut(false, contract.Settings{HandoverCommand: ptr("echo the barn has moved")}); err != nil {
		t.Fatal(err)
	}
	if k := f.cutOverEnd(); k.State != "done" {
		t.Errorf("the cutover: %+v", k)
	}
	if list := f.journalOf("hand over"); !told(list, "the hand-over command ran", "echo the barn has moved") {
		t.Errorf("the command is not in the journal: %+v", list)
	}
}

// TestComparisonsOfBeforeProveNothing loads a table again after a clean comparison: neither
// the readiness list nor the certificate counts it for that table.
func TestComparisonsOfBeforeProveNothing(t *testing.T) {
	f := start(t)
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.a (id integer PRIMARY KEY); INSERT INTO public.a
  SELECT generate_series(1, 500);
CREATE TABLE public.b (id integer PRIMARY KEY); INSERT INTO public.b SELECT generate_series(1, 300); ANALYZE`)
	f.cross(p, contract.Settings{}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	compared := func(want contract.Verdict, words string) {
		t.Helper()
		list, err := client.Do[[]contract.Entry](f.API.GetReadinessWithResponse(t.Context(), "spring"))
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range list {
			if e.Topic == "reconciliation" && (e.Verdict != want || !strings.Contains(e.Measured, words)) {
				t.Errorf("%s, %q; want %s, %q", e.Verdict, e.Measured, want, words)
			}
		}
	}
	compared("notice", "not been compared")
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		t.Fatalf("%+v", r)
	}
	compared("ok", "all 2 tables were compared by hashes")
	if a := f.cli("crossing", "restart", "spring", "--table", "public.a", "--confirm", "public.a"); a.code != 0 {
		t.Fatal(a.err)
	}
	f.await(time.Minute, "loaded again", func(c contract.Crossing) bool { return c.Phase != contract.PhaseInStep })
	f.awaitPhase(contract.PhaseInStep)
	compared("notice", "1 table was of 2 not compared since they were loaded: public.a")
	if a := f.cli("crossing", "close", "spring", "--wait", "--confirm", "spring"); a.code != 0 {
		t.Fatal(a.err)
	}
	cert, err := client.Do[map[string]any](f.API.GetCertificateWithResponse(t.Context(), "spring",
		&contract.GetCertificateParams{}))
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range cert["tables"].([]any) {
		m := x.(map[string]any)
		again := m["table"] == "public.a"
		if (m["source_hash"] == nil) != again || (m["compared_at"] == nil) != again {
			t.Errorf("the certificate says of %s: hash %v, compared %v", m["table"], m["source_hash"], m["compared_at"])
		}
	}
	if cert["tables_not_compared"] != 1.0 {
		t.Errorf("%v tables are said not to be compared", cert["tables_not_compared"])
	}
	if a := f.cli("certificate", "spring"); !strings.Contains(a.out, "not compared since it was loaded") {
		t.Errorf("the certificate as a text:\n%s", a.out)
	}
}

// TestARefreshThatCannotBeIsRefusedBeforeItBegins: a table without a watermark was planned
// to keep what stood. Nothing is refreshed, every run has an end, and the crossing and its
// schedule say why.
func TestARefreshThatCannotBeIsRefusedBeforeItBegins(t *testing.T) {
	f := start(t)
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.seen (id integer PRIMARY KEY, at timestamptz DEFAULT now());
  INSERT INTO public.seen SELECT generate_series(1, 50);
CREATE TABLE public.kept (id integer PRIMARY KEY); INSERT INTO public.kept SELECT generate_series(1, 50); ANALYZE`)
	exec1(t, p.targetURL(), `CREATE TABLE public.kept (id integer PRIMARY KEY); INSERT INTO public.kept
  SELECT generate_series(1001, 1010)`)
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	if a := f.cli("crossing", "create", "--file", write(t, "dusty_ferry: 1\ncrossing:\n  name: spring\n  "+
		"follow_changes: false\n  source: old\n  target: new\n  tables: [public.*]\n  rules:\n  - {tables: public.seen, "+
		"watermark: at}\n  - {tables: public.kept, standing: keep}\n")); a.code != 0 {
		t.Fatal(a.err)
	}
	f.startCrossing()
	c := f.awaitPhase(contract.PhaseInStep)
	if c.PhaseLabel != "loaded" {
		t.Errorf("a crossing that follows nothing is %q", c.PhaseLabel)
	}
	if a := f.cli("crossing", "show", "spring"); !strings.Contains(a.out, "loaded, running") ||
		strings.Contains(a.out, "in step, running") {
		t.Errorf("show:\n%s", a.out)
	}
	exec1(t, p.sourceURL(), `INSERT INTO public.seen SELECT generate_series(101, 150)`)
	if a := f.cli("crossing", "refresh", "spring", "--confirm", "new"); a.code != 1 ||
		!strings.Contains(a.err, "public.kept") {
		t.Errorf("a refresh that cannot be: exit %d %s", a.code, a.err)
	}
	if n := one[int](t, p.targetURL(), `SELECT count(*)::int FROM public.seen`); n != 50 {
		t.Errorf("%d rows were refreshed all the same", n-50)
	}
	if a := f.cli("schedule", "set", "spring", "--cron", "* * * * *", "--confirm", "new"); a.code != 0 {
		t.Fatal(a.err)
	}
	for range 2 { // and the schedule goes on afterwards
		before := len(f.runs())
		exec1(t, f.set.ControlURL, `UPDATE schedules SET next_at = now()`)
		eventually(t, 30*time.Second, func() bool { return len(f.runs()) > before && f.runs()[0].EndedAt != nil })
	}
	for _, r := range f.runs() {
		if r.State == contract.RunStateRunning || r.EndedAt == nil {
			t.Errorf("a run without an end: %+v", r)
		}
	}
	if r := f.runs()[0]; r.State != contract.RunStateFailed || !strings.Contains(r.Note, "public.kept") {
		t.Errorf("the run: %+v", r)
	}
	if c := f.show(); !strings.Contains(c.WaitsFor, "the last run failed") ||
		!strings.Contains(c.WaitsFor, "public.kept") {
		t.Errorf("the crossing says %q", c.WaitsFor)
	}
}

func (f *ferry) runs() []contract.Run {
	f.t.Helper()
	list, err := client.Do[[]contract.Run](f.API.ListRunsWithResponse(f.t.Context(), "spring"))
	if err != nil {
		f.t.Fatal(err)
	}
	return list
}

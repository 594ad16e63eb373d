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

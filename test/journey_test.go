package test

import (
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
)

// TestTheWholeJourney takes the cooperative's live database to a new server
// while its application writes, and compares both sides in plain SQL at the end.
func TestTheWholeJourney(t *testing.T) {
	p := newPair(t)
	if err := demo.Fill(t.Context(), p.sourceURL(), 30_000); err != nil {
		t.Fatal(err)
	}
	f := start(t)
	app := demo.StartApp(t.Context(), demo.Postgres(p.sourceURL()), 3, 2*time.Millisecond)
	defer app.Stop()
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(256 << 10)), Lanes: ptr(3)}, "saltmarsh.*")
	survey, err := client.Do[[]contract.Entry](f.API.SurveyCrossingWithResponse(t.Context(), "spring"))
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range survey {
		if e.Verdict == contract.Blocker {
			t.Errorf("the survey blocks: %+v", e)
		}
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)

	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" || r.Tables != demo.Tables {
		t.Errorf("reconciliation with both sides live: %+v", r)
	}
	if k := f.cutOver(true, contract.Settings{}); k.State != "done" || k.WritePauseSeconds == nil {
		f.story()
		t.Fatalf("rehearsal: %+v", k)
	}
	f.awaitPhase(contract.PhaseInStep)
	before := app.Written()
	time.Sleep(300 * time.Millisecond)
	if app.Written() == before {
		t.Error("after the rehearsal the source takes no writes")
	}
	k := f.cutOver(false, contract.Settings{})
	if k.State != "done" {
		f.story()
		t.Fatalf("cutover: %+v", k)
	}
	t.Logf("writes were paused for %.3f s", *k.WritePauseSeconds)
	f.awaitPhase(contract.PhaseCutOver)
	app.Stop()
	if n, why := app.Failed(); n > 0 {
		t.Errorf("%d transactions of the application failed: %s", n, why)
	}
	if app.Refused() == 0 {
		t.Error("the closed source refused no write")
	}
	sameEverywhere(t, p, "saltmarsh")
	sequences(t, p)

	if _, err := client.Do[contract.Crossing](f.API.CloseCrossingWithResponse(t.Context(), "spring",
		contract.CloseCrossingJSONRequestBody{Reopen: true, Confirm: ptr("spring")})); err != nil {
		t.Fatal(err)
	}
	f.awaitPhase(contract.PhaseClosed)
	var cert map[string]any
	for end := time.Now().Add(patience * 20 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		if cert, err = client.Do[map[string]any](f.API.GetCertificateWithResponse(t.Context(), "spring",
			&contract.GetCertificateParams{})); err == nil {
			break
		}
	}
	if err != nil || cert["findings"] != float64(0) {
		t.Errorf("certificate %v (%v)", cert["findings"], err)
	}
	nothingLeft(t, p)
}

// sequences checks that new rows on the target get numbers beyond the old ones.
func sequences(t *testing.T, p pair) {
	t.Helper()
	for _, q := range []string{
		`INSERT INTO saltmarsh.scale_readings (apiary, number, read_at, weight_kg, firmware)
  VALUES ('dyke-1', 1, now(), 1, 'after')`,
		`INSERT INTO saltmarsh.keepers (name, email, joined) VALUES ('New', 'new@saltmarsh.example', '2026-11-23')`,
		`INSERT INTO saltmarsh.orders (total) VALUES (1)`,
		`INSERT INTO saltmarsh.harvest_lots (lot, net_kg) VALUES ('after', 1)`,
	} {
		exec1(t, p.targetURL(), q)
	}
}

// nothingLeft checks that closing removed everything of ours from both servers.
func nothingLeft(t *testing.T, p pair) {
	t.Helper()
	for _, url := range []string{p.sourceURL(), p.targetURL()} {
		for what, q := range map[string]string{
			"schemas":      `SELECT count(*) FROM pg_namespace WHERE nspname = 'dusty_ferry'`,
			"publications": `SELECT count(*) FROM pg_publication`,
			"slots":        `SELECT count(*) FROM pg_replication_slots WHERE database = current_database()`,
			"triggers":     `SELECT count(*) FROM pg_trigger WHERE tgname LIKE '%dusty%'`,
			"identities":   `SELECT count(*) FROM pg_class WHERE relreplident = 'f'`,
		} {
			if n := one[int64](t, url, q); n != 0 {
				t.Errorf("%d %s left behind on %s", n, what, url[strings.LastIndex(url, "/"):])
			}
		}
	}
}

package test

import (
	"testing"
	"time"

	"dustyferry/internal/contract"
)

// TestVeryWideRows carries values of 40 MB through the load, and changes of the
// rows that leave them unsaid through capture.
func TestVeryWideRows(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `
CREATE TABLE public.scans (id integer PRIMARY KEY, note text, scan bytea);
ALTER TABLE public.scans ALTER scan SET STORAGE EXTERNAL;
INSERT INTO public.scans SELECT g, 'comb ' || g, convert_to(repeat(md5(g::text), 1250000), 'UTF8')
  FROM generate_series(1, 4) g`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	exec1(t, p.sourceURL(), `UPDATE public.scans SET note = 'seen' WHERE id % 2 = 0`)
	settle(t, f)
	sameEverywhere(t, p, "public")
}

// TestAnIdleSourceLetsGoOfItsLog: with nothing to carry, the slot moves on all
// the same, and the lag is measured as nothing.
func TestAnIdleSourceLetsGoOfItsLog(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.quiet (id integer PRIMARY KEY); CREATE TABLE public.busy (id integer)`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.quiet")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	at := func() int64 {
		return one[int64](t, p.sourceURL(), `SELECT pg_wal_lsn_diff(confirmed_flush_lsn, '0/0')::bigint
  FROM pg_replication_slots WHERE database = current_database()`)
	}
	before := at()
	exec1(t, p.sourceURL(), `INSERT INTO public.busy SELECT generate_series(1, 200000)`) // not ours
	end := one[int64](t, p.sourceURL(), `SELECT pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0')::bigint`)
	eventually(t, 20*time.Second, func() bool { return at() >= end })
	if at() == before {
		t.Error("the slot did not move")
	}
	if c := f.show(); c.Progress.LagSeconds > 2 {
		t.Errorf("an idle crossing shows a lag of %.1f s", c.Progress.LagSeconds)
	}
}

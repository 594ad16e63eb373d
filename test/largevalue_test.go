package test

import (
	"context"
	"fmt"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/contract"
)

// TestALargeValueIsFollowed: a value of 100 MB passes through the log, in a transaction that is
// streamed and in one that is not, put, changed and moved, and never lies in memory twice.
func TestALargeValueIsFollowed(t *testing.T) {
	const size = 100_000_000
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.scans (id integer PRIMARY KEY, note text, scan text);
  ALTER TABLE public.scans ALTER scan SET STORAGE EXTERNAL`)
	f := start(t)
	// What compares touched rows holds them of both sides.
	f.cross(p, contract.Settings{VouchEverySeconds: ptr(0.0)}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)

	// The beginning of a value that is kept out of line is read without the rest of it.
	begins := func() bool {
		const first = `SELECT coalesce(string_agg(id || ' ' || note || ' ' || octet_length(scan) || ' ' || substr(scan, 1, 32),
  ', ' ORDER BY id), '') FROM public.scans`
		return one[string](t, p.sourceURL(), first) == one[string](t, p.targetURL(), first)
	}
	same := func() bool {
		const sum = `SELECT coalesce(string_agg(id || ' ' || note || ' ' || length(scan) || ' ' || md5(scan), ', '
  ORDER BY id), '') FROM public.scans`
		return one[string](t, p.sourceURL(), sum) == one[string](t, p.targetURL(), sum)
	}
	for n, sql := range []string{
		fmt.Sprintf(`INSERT INTO public.scans SELECT 1, 'put', repeat(md5('a'), %d)`, size/32),
		`UPDATE public.scans SET note = 'its scan is unsaid'`,
		fmt.Sprintf(`UPDATE public.scans SET scan = repeat(md5('b'), %d)`, size/32),
		`UPDATE public.scans SET id = 2`,
		fmt.Sprintf(`UPDATE public.scans SET scan = repeat(md5('c'), %d)`, size/32), // that is not streamed
	} {
		debug.FreeOSMemory()
		most, stop := mostMemory()
		if n == 4 {
			exec1(t, p.sourceURL(), `ALTER SYSTEM SET logical_decoding_work_mem = '1GB'`)
			t.Cleanup(func() { // for the other tests of this server
				ctx := context.Background()
				if c, err := pgx.Connect(ctx, p.sourceURL()); err == nil {
					_, _ = c.Exec(ctx, `ALTER SYSTEM RESET logical_decoding_work_mem`)
					_, _ = c.Exec(ctx, `SELECT pg_reload_conf()`)
					_ = c.Close(ctx)
				}
			})
			exec1(t, p.sourceURL(), `SELECT pg_reload_conf()`)
		}
		exec1(t, p.sourceURL(), sql)
		eventually(t, time.Minute, begins)
		if !same() {
			t.Errorf("%.60s: the values differ", sql)
		}
		stop()
		t.Logf("%.60s: at most %d MB", sql, *most/1e6)
		if *most > size*3/2 {
			t.Errorf("%.60s took %d MB of memory for a value of %d MB", sql, *most/1e6, size/1_000_000)
		}
	}
	if r := f.reconcile("hashes"); r.State != "clean" {
		t.Errorf("the sides were compared: %s", r.State)
	}
}

// mostMemory watches how much more memory this process uses than it does now.
func mostMemory() (most *int64, stop func()) {
	runtime.GC()
	used := func() int64 {
		s := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}, {Name: "/memory/classes/heap/unused:bytes"}}
		metrics.Read(s)
		return int64(s[0].Value.Uint64() + s[1].Value.Uint64())
	}
	base := used()
	most = new(int64)
	end, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(time.Millisecond)
		defer tick.Stop()
		for {
			*most = max(*most, used()-base)
			select {
			case <-end:
				return
			case <-tick.C:
			}
		}
	}()
	return most, func() { close(end); <-done }
}

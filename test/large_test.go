package test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/contract"
)

// TestLargeTransactions follows transactions that are larger than a batch, and larger than
// what the server keeps in memory, while small ones go on beside them: parts are rolled
// back, a whole one is, capture is interrupted in the middle of one, and one is prepared
// in two phases. At no moment is part of one on the target.
func TestLargeTransactions(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.readings (id integer PRIMARY KEY, grams integer, note text);
  CREATE TABLE public.lots (id integer PRIMARY KEY, n integer)`)
	exec1(t, p.sourceURL(), `INSERT INTO public.readings SELECT g, 0, 'as it was' FROM generate_series(1, 1000) g;
  INSERT INTO public.lots VALUES (1, 0)`)
	// everything larger is streamed
	exec1(t, p.sourceURL(), "ALTER DATABASE "+p.source+" SET logical_decoding_work_mem = '64kB'")
	f := start(t)
	f.cross(p, contract.Settings{BatchChanges: ptr(2000)}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	ctx, stop := context.WithCancel(t.Context())
	var wg sync.WaitGroup
	defer wg.Wait()
	defer stop()
	wg.Go(func() { // small transactions all the time
		c, err := pgx.Connect(ctx, p.sourceURL())
		if err != nil {
			return
		}
		defer func() { _ = c.Close(context.WithoutCancel(ctx)) }()
		for ctx.Err() == nil {
			_, _ = c.Exec(ctx, `UPDATE public.lots SET n = n + 1 WHERE id = 1`)
			time.Sleep(2 * time.Millisecond)
		}
	})
	partly := make(chan string, 1)
	wg.Go(func() { // a reader of the target: each large transaction has 20000 rows of a kind, or none
		c, err := pgx.Connect(ctx, p.targetURL())
		if err != nil {
			return
		}
		defer func() { _ = c.Close(context.WithoutCancel(ctx)) }()
		for ctx.Err() == nil {
			var kinds []string
			rows, err := c.Query(ctx, `SELECT note || ': ' || count(*) FROM public.readings WHERE id > 1000 GROUP BY note
  HAVING count(*) <> 20000`)
			if err == nil {
				kinds, _ = pgx.CollectRows(rows, pgx.RowTo[string])
			}
			if len(kinds) > 0 {
				select {
				case partly <- strings.Join(kinds, ", "):
				default:
				}
			}
			time.Sleep(5 * time.Millisecond)
		}
	})
	large := func(n int, end string) {
		t.Helper()
		c := connect(t, p.sourceURL())
		base := n * 100_000
		steps := []string{"BEGIN", fmt.Sprintf("INSERT INTO public.readings SELECT %d + g, g, 'large %d' FROM "+
			"generate_series(1, 12000) g", base, n),
			"SAVEPOINT s", fmt.Sprintf("INSERT INTO public.readings SELECT %d + g, g, 'never' FROM generate_series(1, 15000) g",
				base+50_000), "UPDATE public.readings SET grams = -1 WHERE id <= 1000", "ROLLBACK TO SAVEPOINT s",
			fmt.Sprintf("INSERT INTO public.readings SELECT %d + g, g, 'large %d' FROM generate_series(1, 8000) g", base+20_000,
				n), "UPDATE public.readings SET grams = grams + 1 WHERE id <= 1000"}
		for _, q := range append(steps, strings.Split(end, ";")...) {
			if _, err := c.Exec(t.Context(), q); err != nil {
				t.Fatal(err)
			}
			if n == 2 { // in the middle of it capture begins anew
				exec1(t, p.sourceURL(), `SELECT pg_terminate_backend(active_pid) FROM pg_replication_slots WHERE active`)
			}
		}
		_ = c.Close(t.Context())
	}
	large(1, "COMMIT")
	large(2, "COMMIT")
	large(3, "ROLLBACK")
	large(4, "COMMIT")
	if one[string](t, p.sourceURL(), "SHOW max_prepared_transactions") != "0" {
		large(5, "PREPARE TRANSACTION 'honey';COMMIT PREPARED 'honey'")
		large(6, "PREPARE TRANSACTION 'wax';ROLLBACK PREPARED 'wax'")
	} else {
		t.Error("the server takes no prepared transactions: they are not tested")
	}
	f.await(time.Minute, "caught up", func(c contract.Crossing) bool {
		return c.Progress.LagSeconds < 1 && c.Progress.Capture != "waiting"
	})
	stop()
	wg.Wait()
	select {
	case what := <-partly:
		t.Errorf("part of a transaction was on the target: %s", what)
	default:
	}
	settle(t, f)
	sameEverywhere(t, p, "public")
	if t.Failed() {
		for _, url := range []string{p.sourceURL(), p.targetURL()} {
			t.Log(one[string](t, url, `SELECT string_agg(x, '; ')
  FROM (SELECT note || ' ' || id / 100000 || ': ' || count(*) AS x FROM public.readings GROUP BY note, id / 100000
  ORDER BY 1) y`))
		}
		f.story()
	}
	streamed := one[int64](t, p.sourceURL(), "SELECT stream_txns FROM pg_stat_replication_slots s JOIN "+
		"pg_replication_slots r USING (slot_name) WHERE r.database = current_database()")
	if streamed == 0 {
		t.Error("no transaction was streamed: this tested less than it should")
	}
	t.Logf("%d transactions were streamed while they were in progress", streamed)
}

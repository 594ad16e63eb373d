package main

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/bench/rig"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/engine/postgres"
)

// latency is how long commits took from the source to the target, milliseconds.
type latency struct {
	Pace          float64 `json:"transactions_per_second"`
	P50, P99, Max float64
	N             int
}

// latency lets four writers commit at a steady pace for twenty seconds, and asks both
// servers afterwards when each row was committed.
func (b *bench) latency(ctx context.Context, pace int) (latency, error) {
	var out latency
	const writers, first, length = 4, 500_000_000, 20 * time.Second
	var wg sync.WaitGroup
	errs := make(chan error, writers)
	from := time.Now()
	for w := range writers {
		wg.Go(func() {
			c, err := pgx.Connect(ctx, b.source.URL("postgres"))
			if err != nil {
				errs <- err
				return
			}
			defer func() { _ = c.Close(ctx) }()
			for n := 0; time.Since(from) < length; n++ {
				due := from.Add(time.Duration(n) * writers * time.Second / time.Duration(pace))
				time.Sleep(time.Until(due))
				if _, err := c.Exec(ctx, "INSERT INTO public.readings VALUES ($1, 'paced', 1, now(), 'x')",
					first+n*writers+w); err != nil {
					errs <- err
					return
				}
			}
		})
	}
	wg.Wait()
	took := time.Since(from)
	select {
	case err := <-errs:
		return out, err
	default:
	}
	sent, err := committed(ctx, b.source.URL("postgres"), first)
	if err != nil {
		return out, err
	}
	var came map[int64]time.Time
	for end := time.Now().Add(time.Minute); len(came) < len(sent); time.Sleep(100 * time.Millisecond) {
		if came, err = committed(ctx, b.target.URL("postgres"), first); err != nil {
			return out, err
		}
		if time.Now().After(end) {
			return out, fmt.Errorf("%d of %d rows arrived", len(came), len(sent))
		}
	}
	return lagOf(sent, came, took), nil
}

// committed is when the rows from first on were committed on a PostgreSQL server.
func committed(ctx context.Context, url string, first int64) (map[int64]time.Time, error) {
	c, err := pgx.Connect(ctx, url)
	if err != nil {
		return nil, err
	}
	defer func() { _ = c.Close(ctx) }()
	rows, err := c.Query(ctx, "SELECT id, pg_xact_commit_timestamp(xmin) FROM public.readings WHERE id >= $1", first)
	if err != nil {
		return nil, err
	}
	at := map[int64]time.Time{}
	var id int64
	var t time.Time
	_, err = pgx.ForEachRow(rows, []any{&id, &t}, func() error { at[id] = t; return nil })
	return at, err
}

// first is how long the first change after a quiet time takes until it can be read on the
// target, milliseconds.
func first(ctx context.Context, target string, insert func(id int) error) (float64, error) {
	dst, err := pgx.Connect(ctx, target)
	if err != nil {
		return 0, err
	}
	defer func() { _ = dst.Close(ctx) }()
	var ms []float64
	for n := range 20 {
		time.Sleep(700*time.Millisecond + time.Duration(n*37)*time.Millisecond)
		id := 400_000_000 + n
		if err := insert(id); err != nil {
			return 0, err
		}
		from := time.Now()
		for there := false; !there; {
			if err := dst.QueryRow(ctx, "SELECT EXISTS (SELECT FROM public.readings WHERE id = $1)", id).Scan(
				&there); err != nil {
				return 0, err
			}
		}
		ms = append(ms, time.Since(from).Seconds()*1000)
	}
	return rig.Median(ms), nil
}

// calm is what following costs when little happens.
type calm struct {
	Quiet     float64 // share of a core without a crossing, and with one
	Following float64
	First     float64 // milliseconds until the first change after a quiet time is on the target
	Lag       latency
}

// quietly measures that: follow brings a crossing in step, insert makes a change, paced
// measures commits at a pace, unless that is 0.
func (b *bench) quietly(ctx context.Context, pace int, follow func(context.Context) error, insert func(id int) error,
	paced func(context.Context, int) (latency, error)) (calm, error) {
	var c calm
	c.Quiet = rig.CPU(20 * time.Second) // of this process: the service, and a sleeping bench
	if err := follow(ctx); err != nil {
		return c, err
	}
	c.Following = rig.CPU(20 * time.Second)
	var err error
	if c.First, err = first(ctx, b.target.URL("postgres"), insert); err != nil {
		return c, err
	}
	fmt.Printf("quiet: %.2f %% of a core without a crossing, %.2f %% with one; the first change was on the target after "+
		"%.1f ms (median of 20)\n", c.Quiet*100, c.Following*100, c.First)
	if pace == 0 {
		return c, nil
	}
	if c.Lag, err = paced(ctx, pace); err != nil {
		return c, err
	}
	fmt.Printf("commit to commit at %.0f transactions/s: half within %.1f ms, 99 of 100 within %.1f ms, all within %.0f "+
		"ms (%d transactions)\n", c.Lag.Pace, c.Lag.P50, c.Lag.P99, c.Lag.Max, c.Lag.N)
	return c, nil
}

// decode reads the backlog with the product's own capture, to nothing.
func (b *bench) decode(ctx context.Context, changes int) (float64, error) {
	db, err := engine.Open(ctx, postgres.Driver{}, engine.Endpoint{Host: b.source.Host, Port: b.source.Port,
		Database: "postgres", User: b.source.User, Password: b.source.Password, TLS: "disable"})
	if err != nil {
		return 0, err
	}
	defer db.Close()
	cat, err := db.Catalog(ctx)
	if err != nil {
		return 0, err
	}
	plan, err := db.Plan(cat.Table(domain.TableName{Schema: "public", Name: "readings"}))
	if err != nil {
		return 0, err
	}
	conn, err := pgx.Connect(ctx, b.source.URL("postgres"))
	if err != nil {
		return 0, err
	}
	defer func() { _ = conn.Close(ctx) }()
	var at int64
	if err := conn.QueryRow(ctx, "SELECT (confirmed_flush_lsn - '0/0'::pg_lsn)::bigint FROM pg_replication_slots WHERE "+
		"slot_name = 'decoded'").Scan(&at); err != nil {
		return 0, err
	}
	c, err := db.OpenCapture(ctx, "decoded", domain.PositionAt(uint64(at)), []engine.CaptureTable{{ID: 1, Plan: &plan}},
		"")
	if err != nil {
		return 0, err
	}
	defer c.Close()
	from := time.Now()
	for n := 0; n < changes; {
		e, ok := <-c.Events()
		if !ok {
			return 0, c.Err()
		}
		c.Took(&e)
		if e.Kind == domain.EventChange {
			n++
		}
	}
	return float64(changes) / time.Since(from).Seconds(), nil
}

package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/bench/rig"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// labels has a key at random, so that its rows lie in no order of it.
const labels = `
CREATE TABLE public.labels (code uuid PRIMARY KEY, apiary text, number smallint, read_at timestamp,
  weight_kg numeric(7,3), inside_c real, outside_c double precision, humidity smallint, battery_mv integer, firmware text,
  remark text)`

// measureRandom measures a load with changes followed of a table with a random key that is larger
// than the source's cache, in the order of the disk and in that of the key, beside two psql in a
// pipe that copy shares of the pages into a table with its key; and how often each page was read.
func measureRandom(ctx context.Context, rows, streams, pairs int) error {
	b, end, err := startPair(ctx, rows, streams, map[string]string{"shared_buffers": "64MB"})
	if err != nil {
		return err
	}
	defer end()
	b.pattern = "public.labels"
	fmt.Printf("filling %d rows of 11 columns\n", rows)
	if err := b.sql(ctx, b.source, labels, fmt.Sprintf(`
INSERT INTO public.labels SELECT gen_random_uuid(), 'dyke-' || i %% 50, i %% 8, timestamp '2025-01-01' + i * interval
  '13 seconds', round((i %% 60000 / 1000.0)::numeric, 3), i %% 40, i %% 30 / 3.0, i %% 100, 3000 + i %% 1200,
  'scale-fw-' || i %% 7, repeat('calibrated by hand ', 5) FROM generate_series(1, %d) i`, rows),
		"VACUUM ANALYZE public.labels", "CHECKPOINT"); err != nil {
		return err
	}
	pages, err := number(ctx, b.source, "SELECT pg_relation_size('public.labels') / 8192")
	if err != nil {
		return err
	}
	b.old, b.fresh = rig.Postgres("old", b.source), rig.Postgres("new", b.target)
	stop, err := b.startService(ctx)
	if err != nil {
		return err
	}
	defer stop()
	type side struct {
		name string
		f    func(context.Context) (measure, error)
		all  []measure
		read []float64 // how often each page
	}
	sides := []*side{{name: "pipe", f: func(ctx context.Context) (measure, error) { return b.pagePipe(ctx, int(pages)) }},
		{name: "disk", f: func(ctx context.Context) (measure, error) {
			return b.fromFirst(ctx, contract.LoadCapture, contract.Disk)
		}},
		{name: "key", f: func(ctx context.Context) (measure, error) {
			return b.fromFirst(ctx, contract.LoadCapture, contract.Key)
		}}}
	for i := range pairs + 1 {
		for _, s := range sides {
			if err := b.sql(ctx, b.target, "DROP TABLE IF EXISTS public.labels", "CHECKPOINT"); err != nil {
				return err
			}
			before, err := number(ctx, b.source, pagesRead)
			if err != nil {
				return err
			}
			m, err := s.f(ctx)
			if err != nil {
				return fmt.Errorf("%s: %w", s.name, err)
			}
			time.Sleep(1500 * time.Millisecond) // until the server has counted
			after, err := number(ctx, b.source, pagesRead)
			if err != nil {
				return err
			}
			times := (after - before) / pages
			fmt.Printf("round %d %-5s %9.0f rows/s, %6.2f CPU s, each page read %.2f times\n", i, s.name, m.RowsPerSecond,
				m.CPUSeconds, times)
			if i > 0 {
				s.all, s.read = append(s.all, m), append(s.read, times)
			}
		}
	}
	ratio := func(s *side) float64 {
		var v []float64
		for i := range s.all {
			v = append(v, s.all[i].RowsPerSecond/sides[0].all[i].RowsPerSecond)
		}
		return round(rig.Median(v))
	}
	fmt.Printf("median of %d rounds: in the order of the disk %.3f of the pipe, each page read %.2f times; by the key "+
		"%.3f, %.2f times\n", pairs, ratio(sides[1]), rig.Median(sides[1].read), ratio(sides[2]), rig.Median(sides[2].read))
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"bench": "load random key", "rows": rows, "streams": streams,
		"pages": pages, "ratio": ratio(sides[1]), "pages_read": round(rig.Median(sides[1].read)),
		"key_ratio": ratio(sides[2]), "key_pages_read": round(rig.Median(sides[2].read)),
		"pipe": mid(sides[0].all), "disk": mid(sides[1].all), "key": mid(sides[2].all)})
}

const pagesRead = "SELECT heap_blks_read FROM pg_statio_user_tables WHERE relname = 'labels'"

func number(ctx context.Context, s *localserver.Postgres, query string) (float64, error) {
	c, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return 0, err
	}
	defer func() { _ = c.Close(ctx) }()
	var n int64
	err = c.QueryRow(ctx, query).Scan(&n)
	return float64(n), err
}

// pagePipe is the limit: psql to psql, a share of the pages for each stream, into a table with its key.
func (b *bench) pagePipe(ctx context.Context, pages int) (measure, error) {
	if err := b.sql(ctx, b.target, labels); err != nil {
		return measure{}, err
	}
	var wg sync.WaitGroup
	errs := make([]error, b.streams)
	from := time.Now()
	for i := range b.streams {
		wg.Go(func() {
			upper := ""
			if i < b.streams-1 {
				upper = fmt.Sprintf(" AND ctid < '(%d,0)'", pages*(i+1)/b.streams)
			}
			errs[i] = piped(exec.CommandContext(ctx, "psql", "-X", "-q", b.source.URL("postgres"), "-c",
				fmt.Sprintf("COPY (SELECT * FROM public.labels WHERE ctid >= '(%d,0)'%s) TO STDOUT (FORMAT binary)",
					pages*i/b.streams, upper)),
				exec.CommandContext(ctx, "psql", "-X", "-q", b.target.URL("postgres"), "-c",
					"COPY public.labels FROM STDIN (FORMAT binary)"))
		})
	}
	wg.Wait()
	return measure{RowsPerSecond: float64(b.rows) / time.Since(from).Seconds()}, errors.Join(errs...)
}

// piped runs two commands, the first's output being the second's input.
func piped(out, in *exec.Cmd) error {
	r, w, err := os.Pipe()
	if err != nil {
		return err
	}
	out.Stdout, in.Stdin = w, r
	err = errors.Join(out.Start(), in.Start())
	_ = w.Close()
	_ = r.Close()
	return errors.Join(err, out.Wait(), in.Wait())
}

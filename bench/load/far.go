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

	"dustyferry/bench/rig"
	"dustyferry/internal/contract"
)

// measureFar measures our load to a target that is far away, beside two psql in a pipe over the same
// link, from the first row to the last.
func measureFar(ctx context.Context, rows, streams, pairs int, link rig.Link, follow bool) error {
	b, end, err := startPair(ctx, rows, streams, nil)
	if err != nil {
		return err
	}
	defer end()
	fmt.Printf("filling %d rows of 11 columns\n", rows)
	if err := b.sql(ctx, b.source, readings, fill(1, rows, 5, 0), "VACUUM ANALYZE public.readings",
		"CHECKPOINT"); err != nil {
		return err
	}
	port, err := link.Open(fmt.Sprintf("%s:%d", b.target.Host, b.target.Port))
	if err != nil {
		return err
	}
	defer link.Close()
	far := *b.target
	far.Host, far.Port = "127.0.0.1", port
	b.old, b.fresh = rig.Postgres("old", b.source), rig.Postgres("new", &far)
	stop, err := b.startService(ctx)
	if err != nil {
		return err
	}
	defer stop()
	kind := contract.Load
	if follow {
		kind = contract.LoadCapture
	}
	var ours, limit []measure
	for i := range pairs + 1 { // the first pair warms up and is not counted
		for _, side := range []struct {
			name string
			f    func(context.Context) (measure, error)
			to   *[]measure
		}{{"pipe", func(ctx context.Context) (measure, error) { return b.farPipe(ctx, far.URL("postgres"), follow) }, &limit},
			{"ours", func(ctx context.Context) (measure, error) { return b.fromFirst(ctx, kind, contract.Auto) }, &ours}} {
			if err := b.sql(ctx, b.target, "DROP TABLE IF EXISTS public.readings", "CHECKPOINT"); err != nil {
				return err
			}
			m, err := side.f(ctx)
			if err != nil {
				return fmt.Errorf("%s: %w", side.name, err)
			}
			fmt.Printf("pair %d %-5s %9.0f rows/s, %6.2f CPU s\n", i, side.name, m.RowsPerSecond, m.CPUSeconds)
			if i > 0 {
				*side.to = append(*side.to, m)
			}
		}
	}
	var ratio []float64
	for i := range ours {
		ratio = append(ratio, ours[i].RowsPerSecond/limit[i].RowsPerSecond)
	}
	fmt.Printf("median of %d pairs at %s: %.3f of the pipe's speed\n", pairs, link.Trip, rig.Median(ratio))
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"bench": "load far", "ratio": round(rig.Median(ratio)),
		"trip_ms": link.Trip.Milliseconds(), "rate": link.Rate, "capture": follow, "ours": mid(ours), "limit": mid(limit),
		"pairs": pairs, "rows": rows, "streams": streams})
}

// farPipe is the limit: psql to psql over the link, a key range for each stream.
func (b *bench) farPipe(ctx context.Context, target string, keyed bool) (measure, error) {
	ddl := readings
	if !keyed {
		ddl += "; ALTER TABLE public.readings DROP CONSTRAINT readings_pkey"
	}
	if err := b.sql(ctx, b.target, ddl); err != nil {
		return measure{}, err
	}
	var wg sync.WaitGroup
	errs := make([]error, b.streams)
	from := time.Now()
	for i := range b.streams {
		wg.Go(func() {
			errs[i] = piped(exec.CommandContext(ctx, "psql", "-X", "-q", b.source.URL("postgres"), "-c",
				fmt.Sprintf("COPY (SELECT * FROM public.readings WHERE id > %d AND id <= %d) TO STDOUT (FORMAT binary)",
					b.rows*i/b.streams, b.rows*(i+1)/b.streams)),
				exec.CommandContext(ctx, "psql", "-X", "-q", target, "-c", "COPY public.readings FROM STDIN (FORMAT binary)"))
		})
	}
	wg.Wait()
	return measure{RowsPerSecond: float64(b.rows) / time.Since(from).Seconds()}, errors.Join(errs...)
}

// fromFirst is a crossing, from when its first chunk can be claimed to the landing of the last.
func (b *bench) fromFirst(ctx context.Context, kind contract.NewCrossingKind,
	order contract.SettingsReadOrder) (measure, error) {
	b.run++
	name, lanes := fmt.Sprintf("run%d", b.run), b.streams
	if err := b.ferry.Add(ctx, contract.NewCrossing{Name: name, Kind: &kind, Tables: &[]string{b.pattern},
		Settings: &contract.Settings{Lanes: &lanes, ReadOrder: &order}}); err != nil {
		return measure{}, err
	}
	if err := b.ferry.Go(ctx, name); err != nil {
		return measure{}, err
	}
	if err := b.ferry.Await(ctx, name, 10*time.Millisecond, func(c contract.Crossing) bool {
		return c.Phase == contract.PhaseLoading
	}); err != nil {
		return measure{}, err
	}
	cpu, from := cpuSeconds(b.serve.Process.Pid), time.Now()
	if err := b.ferry.Await(ctx, name, 50*time.Millisecond, func(c contract.Crossing) bool {
		return c.Progress.Chunks > 0 && c.Progress.ChunksLanded == c.Progress.Chunks
	}); err != nil {
		return measure{}, err
	}
	m := measure{RowsPerSecond: float64(b.rows) / time.Since(from).Seconds(),
		CPUSeconds: cpuSeconds(b.serve.Process.Pid) - cpu}
	if err := b.ferry.Await(ctx, name, 50*time.Millisecond, rig.InStep); err != nil {
		return m, err
	}
	return m, b.ferry.Close(ctx, name)
}

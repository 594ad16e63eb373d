package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	"dustyferry/bench/rig"
	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// size is what a load of one size cost.
type size struct {
	Rows          int     `json:"rows"`
	RowsPerSecond float64 `json:"rows_per_second"`
	CPUPerMillion float64 `json:"cpu_seconds_per_million_rows"`
	PeakMB        float64 `json:"peak_mb"`
	CuttingShare  float64 `json:"cutting_share"` // of the load's time, spent on planning its chunks
}

// measureSizes loads tables that grow, to see whether a row costs the same.
func measureSizes(ctx context.Context, list string, streams int) error {
	b := &bench{streams: streams, pattern: "public.readings"}
	var err error
	for _, s := range []**localserver.Postgres{&b.source, &b.target} {
		if *s, err = localserver.StartPostgres(ctx, localserver.Options{Settings: map[string]string{"max_wal_size": "6GB",
			"checkpoint_timeout": "1h"}}); err != nil {
			return err
		}
		defer (*s).Stop()
	}
	b.old, b.fresh = rig.Postgres("old", b.source), rig.Postgres("new", b.target)
	stop, err := b.startService(ctx)
	if err != nil {
		return err
	}
	defer stop()
	if err := b.sql(ctx, b.source, readings); err != nil {
		return err
	}
	var out []size
	for text := range strings.SplitSeq(list, ",") {
		rows, err := strconv.Atoi(strings.TrimSpace(text))
		if err != nil || rows <= b.rows {
			return fmt.Errorf("%q: sizes are numbers of rows that grow", list)
		}
		if err := b.sql(ctx, b.source, fill(b.rows+1, rows, 1, 0), "VACUUM ANALYZE public.readings",
			"CHECKPOINT"); err != nil {
			return err
		}
		b.rows = rows
		// Small ones are over so soon that one run says little.
		for range max(1, min(5, 5_000_000/rows)) {
			if err := b.sql(ctx, b.target, "DROP TABLE IF EXISTS public.readings", "CHECKPOINT"); err != nil {
				return err
			}
			m, err := b.ours(ctx)
			if err != nil {
				return err
			}
			s := size{Rows: rows, RowsPerSecond: round(m.RowsPerSecond),
				CPUPerMillion: round(m.CPUSeconds * 1e6 / float64(rows)), PeakMB: round(m.PeakMB)}
			if s.CuttingShare, err = b.cutting(ctx, float64(rows)/m.RowsPerSecond); err != nil {
				return err
			}
			fmt.Printf("%9d rows: %9.0f rows/s, %5.2f CPU s for a million rows, %6.1f MB, %.2f %% of the time for "+
				"planning chunks\n", rows, s.RowsPerSecond, s.CPUPerMillion, s.PeakMB, s.CuttingShare*100)
			out = append(out, s)
		}
	}
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"bench": "load of growing tables", "streams": streams,
		"sizes": out})
}

var cutIn = regexp.MustCompile(`cut in ([0-9a-zµ.]+)`)

// cutting is the share of the last run's seconds that the journal says went into planning
// chunks.
func (b *bench) cutting(ctx context.Context, seconds float64) (float64, error) {
	name := fmt.Sprintf("run%d", b.run)
	entries, err := client.Do[[]contract.JournalEntry](b.ferry.API.ListJournalWithResponse(ctx,
		&contract.ListJournalParams{Crossing: &name}))
	if err != nil {
		return 0, err
	}
	for _, e := range entries {
		if m := cutIn.FindStringSubmatch(e.Message); m != nil {
			d, err := time.ParseDuration(m[1])
			return round(d.Seconds()/seconds*1000) / 1000, err
		}
	}
	return 0, fmt.Errorf("the journal of %s does not say how long its chunks took to plan", name)
}

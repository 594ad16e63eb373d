// Command quiet measures what it costs to follow a source that nobody writes to: the share of a
// core that the service takes with a crossing in step, beside what it takes without one, in turns.
// The last line is a JSON object.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"runtime/pprof"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/bench/rig"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

func main() {
	rounds := flag.Int("rounds", 3, "how many times each is measured")
	length := flag.Duration("for", 20*time.Second, "how long each time")
	profile := flag.String("profile", "", "file for a CPU profile of the times with a crossing")
	flag.Parse()
	if err := measure(context.Background(), *rounds, *length, *profile); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func measure(ctx context.Context, rounds int, length time.Duration, profile string) error {
	var s [2]*localserver.Postgres
	for i := range s {
		var err error
		if s[i], err = localserver.StartPostgres(ctx, localserver.Options{}); err != nil {
			return err
		}
		defer s[i].Stop()
	}
	if err := run(ctx, s[0], "CREATE TABLE hives (id int PRIMARY KEY, frames int); INSERT INTO hives SELECT g, g "+
		"FROM generate_series(1, 1000) g"); err != nil {
		return err
	}
	ferry, end, err := rig.Start(ctx)
	if err != nil {
		return err
	}
	defer end()
	if err := ferry.Register(ctx, rig.Postgres("old", s[0]), rig.Postgres("new", s[1])); err != nil {
		return err
	}
	if profile != "" {
		f, err := os.Create(profile)
		if err != nil {
			return err
		}
		defer func() { pprof.StopCPUProfile(); _ = f.Close() }()
		if err := pprof.StartCPUProfile(f); err != nil {
			return err
		}
	}
	var without, with []float64
	for i := range rounds {
		time.Sleep(3 * time.Second)
		without = append(without, rig.CPU(length))
		name := fmt.Sprintf("spring%d", i)
		if err := ferry.Add(ctx, contract.NewCrossing{Name: name, Tables: &[]string{"public.*"}}); err != nil {
			return err
		}
		if err := ferry.Go(ctx, name); err != nil {
			return err
		}
		if err := ferry.Await(ctx, name, 100*time.Millisecond, rig.InStep); err != nil {
			return err
		}
		time.Sleep(3 * time.Second)
		with = append(with, rig.CPU(length))
		fmt.Printf("round %d: %.2f %% of a core without a crossing, %.2f %% with one in step\n", i+1, 100*without[i],
			100*with[i])
		if err := ferry.Close(ctx, name); err != nil {
			return err
		}
		if err := run(ctx, s[1], "DROP TABLE hives"); err != nil {
			return err
		}
	}
	percent := func(v float64) float64 { return float64(int(v*100_000)) / 1000 }
	out, err := json.Marshal(map[string]any{"bench": "quiet", "rounds": rounds,
		"without_percent": percent(rig.Median(without)),
		"with_percent":    percent(rig.Median(with)), "added_percent": percent(rig.Median(with) - rig.Median(without))})
	fmt.Println(string(out))
	return err
}

func run(ctx context.Context, s *localserver.Postgres, sql string) error {
	c, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return err
	}
	defer func() { _ = c.Close(ctx) }()
	_, err = c.Exec(ctx, sql)
	return err
}

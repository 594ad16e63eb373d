// Command tables measures what a table costs us by itself: a crossing of thousands of
// empty tables, from its start to their landing and to the end of the building, beside
// one session that makes the same tables on the target and copies each.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/bench/rig"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

func main() {
	tables := flag.Int("tables", 2000, "how many")
	follow := flag.Bool("follow", false, "follow changes too")
	flag.Parse()
	if err := measure(context.Background(), *tables, *follow); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

const columns = " (id bigint PRIMARY KEY, apiary text, read_at timestamptz, grams integer)"

func measure(ctx context.Context, tables int, follow bool) error {
	var s [2]*localserver.Postgres
	for i := range s {
		var err error
		if s[i], err = localserver.StartPostgres(ctx,
			localserver.Options{Settings: map[string]string{"max_locks_per_transaction": "512"}}); err != nil {
			return err
		}
		defer s[i].Stop()
	}
	old, err := pgx.Connect(ctx, s[0].URL("postgres"))
	if err != nil {
		return err
	}
	defer func() { _ = old.Close(ctx) }()
	if _, err := old.Exec(ctx, fmt.Sprintf(`CREATE SCHEMA marsh;
  DO $$ BEGIN FOR i IN 1..%d LOOP EXECUTE 'CREATE TABLE marsh.t' || i || '%s'; END LOOP; END $$`, tables,
		columns)); err != nil {
		return err
	}
	limit, err := bare(ctx, s[0].URL("postgres"), s[1].URL("postgres"), tables)
	if err != nil {
		return err
	}
	fmt.Printf("one session: %.1f s\n", limit)
	ferry, end, err := rig.Start(ctx)
	if err != nil {
		return err
	}
	defer end()
	if err := ferry.Register(ctx, rig.Postgres("old", s[0]), rig.Postgres("new", s[1])); err != nil {
		return err
	}
	if err := ferry.Add(ctx, contract.NewCrossing{Name: "spring", FollowChanges: &follow,
		Tables: &[]string{"marsh.*"}}); err != nil {
		return err
	}
	from := time.Now()
	if err := ferry.Go(ctx, "spring"); err != nil {
		return err
	}
	var landed, whole float64
	phase := ""
	for whole == 0 {
		time.Sleep(100 * time.Millisecond)
		c, err := ferry.Get(ctx, "spring")
		if err != nil {
			return err
		}
		now := time.Since(from).Seconds()
		if at := string(c.Phase); at != phase {
			phase = at
			fmt.Printf("%6.1f s %s\n", now, phase)
		}
		if landed == 0 && c.Progress.Chunks >= tables && c.Progress.ChunksLanded == c.Progress.Chunks {
			landed = now
			fmt.Printf("%6.1f s landed\n", now)
		}
		if c.Phase == contract.PhaseInStep {
			whole = now
		}
	}
	fmt.Printf("ours: %.1f s until %d tables have landed, %.1f s until all is built\n", landed, tables, whole)
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"bench": "tables", "tables": tables, "follow": follow,
		"landed_seconds": landed, "whole_seconds": whole, "limit_seconds": limit, "ratio": limit / landed})
}

// bare makes and copies every table in one session on each side, and drops them again.
func bare(ctx context.Context, from, to string, tables int) (float64, error) {
	src, err := pgx.Connect(ctx, from)
	if err != nil {
		return 0, err
	}
	defer func() { _ = src.Close(ctx) }()
	dst, err := pgx.Connect(ctx, to)
	if err != nil {
		return 0, err
	}
	defer func() { _ = dst.Close(ctx) }()
	began := time.Now()
	if _, err := dst.Exec(ctx, "CREATE SCHEMA marsh"); err != nil {
		return 0, err
	}
	var rows bytes.Buffer
	for i := range tables {
		name := fmt.Sprintf("marsh.t%d", i+1)
		if _, err := dst.Exec(ctx, "CREATE TABLE "+name+columns); err != nil {
			return 0, err
		}
		rows.Reset()
		if _, err := src.PgConn().CopyTo(ctx, &rows, "COPY "+name+" TO STDOUT (FORMAT binary)"); err != nil {
			return 0, err
		}
		if _, err := dst.PgConn().CopyFrom(ctx, &rows, "COPY "+name+" FROM STDIN (FORMAT binary)"); err != nil {
			return 0, err
		}
	}
	took := time.Since(began).Seconds()
	_, err = dst.Exec(ctx, "DO $$ BEGIN FOR i IN 1.."+fmt.Sprint(tables)+
		" LOOP EXECUTE 'DROP TABLE marsh.t' || i; END LOOP; END $$; DROP SCHEMA marsh")
	return took, err
}

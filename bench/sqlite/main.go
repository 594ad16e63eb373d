// Command sqlite measures loads from a SQLite file into PostgreSQL beside their two ends: the file's own
// shell that reads it to nothing, and a bare COPY of the same rows from a file of texts. The ratio is to the
// slower of the two, pair by pair.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"dustyferry/bench/rig"
	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

func main() {
	rows := flag.Int("rows", 2_000_000, "rows")
	pairs := flag.Int("pairs", 3, "pairs")
	lanes := flag.Int("lanes", 2, "lanes of the load")
	flag.Parse()
	if err := run(context.Background(), *rows, *pairs, *lanes); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

const make = `PRAGMA journal_mode = WAL;
CREATE TABLE lots (id INTEGER PRIMARY KEY, hive INTEGER, kg REAL, price DECIMAL(8, 2), at DATETIME, name VARCHAR(40), note TEXT,
  calm BOOLEAN);
WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d)
INSERT INTO lots SELECT i, i %% 1000, i / 8.0, i %% 100 + 0.25, datetime('2026-05-01', '+' || i || ' minutes'), 'lot ' || i,
  'some honey of the year and of the marsh', i %% 2 FROM n;`

const table = `(id bigint PRIMARY KEY, hive bigint, kg double precision, price numeric(8, 2), at timestamp, name varchar(40),
  note text, calm boolean)`

func run(ctx context.Context, rows, pairs, lanes int) error {
	shell, err := exec.LookPath("sqlite3")
	if err != nil {
		return fmt.Errorf("the file's own shell is not there to measure beside: %w", err)
	}
	dir, err := os.MkdirTemp("", "bench-sqlite-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	path, texts := filepath.Join(dir, "lots.db"), filepath.Join(dir, "lots.csv")
	if out, err := exec.CommandContext(ctx, shell, path, fmt.Sprintf(make, rows)).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	dump, err := os.Create(texts)
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, shell, "-csv", path, "SELECT * FROM lots")
	cmd.Stdout = dump
	if err := cmd.Run(); err != nil {
		return err
	}
	_ = dump.Close()
	f, pg, end, err := rig.FromFile(ctx, dir, path)
	if err != nil {
		return err
	}
	defer end()
	var ratios, ours, read, write []float64
	for i := range pairs {
		r, err := timed(exec.CommandContext(ctx, shell, path, "SELECT * FROM lots"))
		if err != nil {
			return err
		}
		w, err := copied(ctx, pg, texts)
		if err != nil {
			return err
		}
		o, err := loaded(ctx, f, lanes)
		if err != nil {
			return err
		}
		each := func(s float64) float64 { return float64(rows) / s }
		ratios, ours = append(ratios, max(r, w)/o), append(ours, each(o))
		read, write = append(read, each(r)), append(write, each(w))
		fmt.Printf("pair %d: shell %.0f rows/s, bare COPY %.0f, ours %.0f: %.2f of the "+
			"slower\n", i+1, each(r), each(w), each(o),
			max(r, w)/o)
	}
	out, err := json.Marshal(map[string]float64{"rows": float64(rows), "lanes": float64(lanes), "shell": rig.Median(read),
		"copy": rig.Median(write), "ours": rig.Median(ours), "ratio": rig.Median(ratios)})
	fmt.Println(string(out))
	return err
}

func timed(cmd *exec.Cmd) (float64, error) {
	began := time.Now()
	err := cmd.Run()
	return time.Since(began).Seconds(), err
}

// copied is a bare COPY with the key in place, from a client.
func copied(ctx context.Context, pg *localserver.Postgres, texts string) (float64, error) {
	return rig.Psql(ctx, pg, "DROP TABLE IF EXISTS lots", "DROP SCHEMA IF EXISTS main CASCADE", "CREATE TABLE lots "+table,
		`\copy lots FROM '`+texts+`' (FORMAT csv)`)
}

// loaded is a load from its start until the last row has landed and the key stands.
func loaded(ctx context.Context, f rig.Ferry, lanes int) (float64, error) {
	no := false
	if err := f.Add(ctx, contract.NewCrossing{Name: "spring", Tables: &[]string{"main.*"}, FollowChanges: &no,
		Settings: &contract.Settings{Lanes: &lanes}}); err != nil {
		return 0, err
	}
	began := time.Now()
	if err := f.Go(ctx, "spring"); err != nil {
		return 0, err
	}
	if err := f.Await(ctx, "spring", 20*time.Millisecond, rig.InStep); err != nil {
		return 0, err
	}
	took := time.Since(began).Seconds()
	if err := f.Close(ctx, "spring"); err != nil {
		return 0, err
	}
	name := "spring"
	_, err := client.Do[struct{}](f.API.RemoveCrossingWithResponse(ctx, name,
		&contract.RemoveCrossingParams{Confirm: &name}))
	return took, err
}

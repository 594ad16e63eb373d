package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"dustyferry/bench/rig"
	"dustyferry/internal/localserver"
)

// measureMaria measures our load from MariaDB to PostgreSQL beside its two bare
// ends, each by itself: the client reading all rows to nothing, and COPY from
// files that hold the same rows. The limit is the slower of the two.
func measureMaria(ctx context.Context, rows, streams, pairs int) error {
	b := &bench{rows: rows, streams: streams, pattern: "bench.readings"}
	var err error
	if b.maria, err = localserver.StartMariaDB(ctx, localserver.Options{Password: "bench", Settings: map[string]string{"innodb-buffer-pool-size": "2G"}}); err != nil {
		return err
	}
	defer b.maria.Stop()
	if b.target, err = localserver.StartPostgres(ctx, localserver.Options{Settings: map[string]string{"max_wal_size": "16GB", "checkpoint_timeout": "1h"}}); err != nil {
		return err
	}
	defer b.target.Stop()
	fmt.Printf("filling %d rows of 11 columns\n", rows)
	if err := b.fillMaria(ctx); err != nil {
		return err
	}
	stop, err := b.startService(ctx)
	if err != nil {
		return err
	}
	defer stop()
	dir, err := os.MkdirTemp("", "dusty-ferry-bench-files-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	var ours, readers, writers []measure
	for i := range pairs + 1 { // the first pair warms up and is not counted
		for _, side := range []struct {
			name string
			f    func(context.Context) (measure, error)
			to   *[]measure
		}{{"ours", b.ours, &ours}, {"read", func(ctx context.Context) (measure, error) { return b.readBare(ctx) }, &readers},
			{"copy", func(ctx context.Context) (measure, error) { return b.copyBare(ctx, dir) }, &writers}} {
			if side.name == "copy" && i == 0 { // the files are made from what the first run of ours has loaded
				if err := b.dumpFiles(ctx, dir); err != nil {
					return err
				}
			}
			if side.name != "read" {
				if err := b.sql(ctx, b.target, "DROP SCHEMA IF EXISTS bench CASCADE", "CHECKPOINT"); err != nil {
					return err
				}
			}
			m, err := side.f(ctx)
			if err != nil {
				return fmt.Errorf("%s: %w", side.name, err)
			}
			fmt.Printf("pair %d %-4s %9.0f rows/s %6.2f CPU s\n", i, side.name, m.RowsPerSecond, m.CPUSeconds)
			if i > 0 {
				*side.to = append(*side.to, m)
			}
		}
	}
	var ratio, cpu []float64
	for i := range ours {
		ratio = append(ratio, ours[i].RowsPerSecond/min(readers[i].RowsPerSecond, writers[i].RowsPerSecond))
		cpu = append(cpu, ours[i].CPUSeconds/float64(rows)*1e6)
	}
	fmt.Printf("median of %d pairs: speed %.3f of the slower bare end, %.2f CPU seconds a million rows\n", pairs, rig.Median(ratio), rig.Median(cpu))
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"bench": "load from mariadb", "ratio": round(rig.Median(ratio)), "cpu_seconds_per_million": round(rig.Median(cpu)),
		"ours": mid(ours), "bare_read": mid(readers), "bare_copy": mid(writers), "pairs": pairs, "rows": rows, "streams": streams})
}

func (b *bench) fillMaria(ctx context.Context) error {
	db, err := sql.Open("mysql", b.maria.DSN(""))
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	for _, q := range []string{"CREATE DATABASE bench CHARACTER SET utf8mb4", `
CREATE TABLE bench.readings (id bigint PRIMARY KEY, apiary varchar(40), number smallint, read_at datetime, weight_kg decimal(7,3),
  inside_c float, outside_c double, humidity smallint, battery_mv int, firmware varchar(40), remark text) ENGINE=InnoDB`, fmt.Sprintf(`
INSERT INTO bench.readings SELECT seq, concat('dyke-', seq %% 50), seq %% 8, '2025-01-01' + INTERVAL seq * 13 SECOND, seq %% 60000 / 1000.0,
  seq %% 40, seq %% 30 / 3.0, seq %% 100, 3000 + seq %% 1200, concat('scale-fw-', seq %% 7), repeat('calibrated by hand ', 5) FROM bench.seq_1_to_%d`, b.rows),
		"ANALYZE TABLE bench.readings"} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// streamsAtOnce runs one command for each stream and measures them together.
func (b *bench) streamsAtOnce(command func(i int) *exec.Cmd) (measure, error) {
	var wg sync.WaitGroup
	var mu sync.Mutex
	var m measure
	var errs []error
	from := time.Now()
	for i := range b.streams {
		wg.Go(func() {
			c := command(i)
			out, err := c.CombinedOutput()
			if err != nil {
				err = fmt.Errorf("%w: %.200s", err, out)
			}
			mu.Lock()
			defer mu.Unlock()
			errs = append(errs, err)
			m.CPUSeconds += c.ProcessState.UserTime().Seconds() + c.ProcessState.SystemTime().Seconds()
		})
	}
	wg.Wait()
	m.RowsPerSecond = float64(b.rows) / time.Since(from).Seconds()
	return m, errors.Join(errs...)
}

func (b *bench) readBare(ctx context.Context) (measure, error) {
	return b.streamsAtOnce(func(i int) *exec.Cmd {
		c := exec.CommandContext(ctx, "sh", "-c", `exec mariadb --no-defaults --quick -N -B -h 127.0.0.1 -P "$1" -u root -e "$2" bench >/dev/null`, "sh", strconv.Itoa(b.maria.Port),
			fmt.Sprintf("SELECT * FROM readings WHERE id > %d AND id <= %d", b.rows*i/b.streams, b.rows*(i+1)/b.streams))
		c.Env = append(os.Environ(), "MYSQL_PWD="+b.maria.Password)
		return c
	})
}

// dumpFiles writes the loaded rows to a file for each stream.
func (b *bench) dumpFiles(ctx context.Context, dir string) error {
	_, err := b.streamsAtOnce(func(i int) *exec.Cmd {
		return exec.CommandContext(ctx, "psql", "-X", "-q", b.target.URL("postgres"), "-c",
			fmt.Sprintf(`\copy (SELECT * FROM bench.readings WHERE id > %d AND id <= %d) TO '%s'`, b.rows*i/b.streams, b.rows*(i+1)/b.streams, filepath.Join(dir, strconv.Itoa(i))))
	})
	return err
}

func (b *bench) copyBare(ctx context.Context, dir string) (measure, error) {
	if err := b.sql(ctx, b.target, "CREATE SCHEMA bench", `
CREATE TABLE bench.readings (id bigint PRIMARY KEY, apiary varchar(40), number smallint, read_at timestamp(0), weight_kg numeric(7,3),
  inside_c real, outside_c double precision, humidity smallint, battery_mv integer, firmware varchar(40), remark text)`); err != nil {
		return measure{}, err
	}
	return b.streamsAtOnce(func(i int) *exec.Cmd {
		return exec.CommandContext(ctx, "psql", "-X", "-q", b.target.URL("postgres"), "-c", fmt.Sprintf(`\copy bench.readings FROM '%s'`, filepath.Join(dir, strconv.Itoa(i))))
	})
}

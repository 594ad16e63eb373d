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

// ends are the two bare ends of a load between unlike engines, each by itself: a
// client reading all rows to nothing, and the target taking them from files.
type ends struct {
	name  string
	files func(ctx context.Context, dir string) error // of what the first run of ours has loaded, or of the source
	clear func(ctx context.Context) error             // the target, before each run of ours and of write
	read  func(ctx context.Context) (measure, error)
	write func(ctx context.Context, dir string) (measure, error)
}

var lasting = localserver.Options{Settings: map[string]string{"max_wal_size": "16GB", "checkpoint_timeout": "1h"}}

// startEnds starts both servers.
func startEnds(ctx context.Context, rows, streams int) (*bench, func(), error) {
	b := &bench{rows: rows, streams: streams, pattern: "bench.readings"}
	var err error
	if b.maria, err = localserver.StartMariaDB(ctx, localserver.Options{Password: "bench",
		Settings: map[string]string{"innodb-buffer-pool-size": "2G", "innodb-log-file-size": "2G",
			"local-infile": "ON"}}); err != nil {
		return nil, nil, err
	}
	if b.target, err = localserver.StartPostgres(ctx, lasting); err != nil {
		b.maria.Stop()
		return nil, nil, err
	}
	fmt.Printf("filling %d rows of 11 columns\n", rows)
	return b, func() { b.maria.Stop(); b.target.Stop() }, nil
}

// measureFromMaria measures our load from MariaDB to PostgreSQL.
func measureFromMaria(ctx context.Context, rows, streams, pairs int) error {
	b, stop, err := startEnds(ctx, rows, streams)
	if err != nil {
		return err
	}
	defer stop()
	if err := b.fillMaria(ctx); err != nil {
		return err
	}
	b.old, b.fresh = rig.MariaDB("old", "bench", b.maria), rig.Postgres("new", b.target)
	// what costs the target least
	binary := func(ctx context.Context, dir string) error { return b.dumpFiles(ctx, dir, "binary") }
	return b.measureEnds(ctx, pairs, ends{name: "load from mariadb", files: binary, read: b.readMaria, write: b.copyBare,
		clear: func(ctx context.Context) error {
			return b.sql(ctx, b.target, "DROP SCHEMA IF EXISTS bench CASCADE", "CHECKPOINT")
		}})
}

// measureToMaria measures our load from PostgreSQL to MariaDB.
func measureToMaria(ctx context.Context, rows, streams, pairs int) error {
	b, stop, err := startEnds(ctx, rows, streams)
	if err != nil {
		return err
	}
	defer stop()
	if err := b.sql(ctx, b.target, "CREATE SCHEMA bench", fmt.Sprintf(`
CREATE TABLE bench.readings (id bigint PRIMARY KEY, apiary varchar(40), number smallint, read_at timestamp(0),
  weight_kg numeric(7,3),
  inside_c real, outside_c double precision, humidity smallint, battery_mv integer, firmware varchar(40), remark text);
INSERT INTO bench.readings SELECT i, 'dyke-' || i %% 50, i %% 8, timestamp '2025-01-01' + i * interval '13 seconds',
  round((i %% 60000 / 1000.0)::numeric, 3),
  i %% 40, i %% 30 / 3.0, i %% 100, 3000 + i %% 1200, 'scale-fw-' || i %% 7, repeat('calibrated by hand ', 5)
    FROM generate_series(1, %d) i`, rows), "VACUUM ANALYZE bench.readings", "CHECKPOINT"); err != nil {
		return err
	}
	if err := b.maria1(ctx, "CREATE DATABASE bench CHARACTER SET utf8mb4"); err != nil {
		return err
	}
	b.old, b.fresh = rig.Postgres("old", b.target), rig.MariaDB("new", "bench", b.maria)
	texts := func(ctx context.Context, dir string) error { return b.dumpFiles(ctx, dir, "text") }
	return b.measureEnds(ctx, pairs, ends{name: "load to mariadb", files: texts, read: b.readPostgres, write: b.loadBare,
		clear: func(ctx context.Context) error { return b.maria1(ctx, "DROP TABLE IF EXISTS bench.readings") }})
}

// measureEnds runs ours and the two ends in turn. The limit is the slower end.
func (b *bench) measureEnds(ctx context.Context, pairs int, e ends) error {
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
		}{{"ours", b.ours, &ours}, {"read", e.read, &readers}, {"write", func(ctx context.Context) (measure, error) {
			return e.write(ctx, dir)
		}, &writers}} {
			if side.name == "write" && i == 0 {
				if err := e.files(ctx, dir); err != nil {
					return err
				}
			}
			if side.name != "read" {
				if err := e.clear(ctx); err != nil {
					return err
				}
			}
			m, err := side.f(ctx)
			if err != nil {
				return fmt.Errorf("%s: %w", side.name, err)
			}
			fmt.Printf("pair %d %-5s %9.0f rows/s, %9.0f with the key, %6.2f CPU s\n", i, side.name, m.RowsPerSecond, m.WithKey,
				m.CPUSeconds)
			if i > 0 {
				*side.to = append(*side.to, m)
			}
		}
	}
	var ratio, cpu []float64
	for i := range ours {
		ratio = append(ratio, ours[i].RowsPerSecond/min(readers[i].RowsPerSecond, writers[i].RowsPerSecond))
		cpu = append(cpu, ours[i].CPUSeconds/float64(b.rows)*1e6)
	}
	fmt.Printf("median of %d pairs: speed %.3f of the slower bare end, %.2f CPU seconds a million rows\n", pairs,
		rig.Median(ratio), rig.Median(cpu))
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"bench": e.name, "ratio": round(rig.Median(ratio)),
		"cpu_seconds_per_million": round(rig.Median(cpu)),
		"ours":                    mid(ours), "bare_read": mid(readers), "bare_write": mid(writers), "pairs": pairs,
		"rows":    b.rows,
		"streams": b.streams})
}

// maria1 runs a statement on the MariaDB server.
func (b *bench) maria1(ctx context.Context, statements ...string) error {
	db, err := sql.Open("mysql", b.maria.DSN(""))
	if err != nil {
		return err
	}
	defer func() { _ = db.Close() }()
	for _, q := range statements {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

func (b *bench) fillMaria(ctx context.Context) error {
	return b.maria1(ctx, "CREATE DATABASE bench CHARACTER SET utf8mb4", `
CREATE TABLE bench.readings (id bigint PRIMARY KEY, apiary varchar(40), number smallint, read_at datetime,
  weight_kg decimal(7,3),
  inside_c float, outside_c double, humidity smallint, battery_mv int, firmware varchar(40), remark text) ENGINE=InnoDB`, fmt.Sprintf(`
INSERT INTO bench.readings SELECT seq, concat('dyke-', seq %% 50), seq %% 8, '2025-01-01' + INTERVAL seq * 13 SECOND,
  seq %% 60000 / 1000.0,
  seq %% 40, seq %% 30 / 3.0, seq %% 100, 3000 + seq %% 1200, concat('scale-fw-', seq %% 7),
    repeat('calibrated by hand ', 5) FROM bench.seq_1_to_%d`, b.rows),
		"ANALYZE TABLE bench.readings")
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

func (b *bench) readMaria(ctx context.Context) (measure, error) {
	return b.streamsAtOnce(func(i int) *exec.Cmd {
		c := exec.CommandContext(ctx, "sh", "-c",
			`exec mariadb --no-defaults --quick -N -B -h 127.0.0.1 -P "$1" -u root -e "$2" bench >/dev/null`, "sh",
			strconv.Itoa(b.maria.Port),
			fmt.Sprintf("SELECT * FROM readings WHERE id > %d AND id <= %d", b.rows*i/b.streams, b.rows*(i+1)/b.streams))
		c.Env = append(os.Environ(), "MYSQL_PWD="+b.maria.Password)
		return c
	})
}

// dumpFiles writes the loaded rows to a file for each stream.
func (b *bench) dumpFiles(ctx context.Context, dir, format string) error {
	_, err := b.streamsAtOnce(func(i int) *exec.Cmd {
		return exec.CommandContext(ctx, "psql", "-X", "-q", b.target.URL("postgres"), "-c",
			fmt.Sprintf(`\copy (SELECT * FROM bench.readings WHERE id > %d AND id <= %d) TO '%s' (FORMAT %s)`,
				b.rows*i/b.streams, b.rows*(i+1)/b.streams, filepath.Join(dir, strconv.Itoa(i)), format))
	})
	return err
}

func (b *bench) copyBare(ctx context.Context, dir string) (measure, error) {
	if err := b.sql(ctx, b.target, "CREATE SCHEMA bench", `
CREATE TABLE bench.readings (id bigint, apiary varchar(40), number smallint, read_at timestamp(0),
  weight_kg numeric(7,3),
  inside_c real, outside_c double precision, humidity smallint, battery_mv integer, firmware varchar(40), remark text)`); err != nil {
		return measure{}, err
	}
	from := time.Now()
	m, err := b.streamsAtOnce(func(i int) *exec.Cmd {
		return exec.CommandContext(ctx, "psql", "-X", "-q", b.target.URL("postgres"), "-c",
			fmt.Sprintf(`\copy bench.readings FROM '%s' (FORMAT binary)`, filepath.Join(dir, strconv.Itoa(i))))
	})
	if err == nil { // as our own load does, the key after the rows
		err = b.addKey(ctx, "bench.readings")
	}
	m.WithKey = float64(b.rows) / time.Since(from).Seconds()
	return m, err
}

func (b *bench) readPostgres(ctx context.Context) (measure, error) {
	return b.streamsAtOnce(func(i int) *exec.Cmd {
		return exec.CommandContext(ctx, "sh", "-c", `exec psql -X -q "$1" -c "$2" >/dev/null`, "sh", b.target.URL("postgres"),
			fmt.Sprintf("COPY (SELECT * FROM bench.readings WHERE id > %d AND id <= %d) TO STDOUT", b.rows*i/b.streams,
				b.rows*(i+1)/b.streams))
	})
}

func (b *bench) loadBare(ctx context.Context, dir string) (measure, error) {
	if err := b.maria1(ctx, `
CREATE TABLE bench.readings (id bigint PRIMARY KEY, apiary varchar(40), number smallint, read_at datetime,
  weight_kg decimal(7,3),
  inside_c float, outside_c double, humidity smallint, battery_mv int, firmware varchar(40),
    remark longtext) ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin`); err != nil {
		return measure{}, err
	}
	return b.streamsAtOnce(func(i int) *exec.Cmd {
		c := exec.CommandContext(ctx, "mariadb", "--no-defaults", "--local-infile=1", "-h", "127.0.0.1", "-P",
			strconv.Itoa(b.maria.Port), "-u", "root", "bench",
			"-e", fmt.Sprintf("LOAD DATA LOCAL INFILE '%s' INTO TABLE readings CHARACTER SET binary",
				filepath.Join(dir, strconv.Itoa(i))))
		c.Env = append(os.Environ(), "MYSQL_PWD="+b.maria.Password)
		return c
	})
}

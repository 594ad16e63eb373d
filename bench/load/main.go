// Command load measures our load of a table beside the limit, two psql in a
// pipe with binary COPY at the same number of streams: rows a second, CPU
// seconds and peak memory of both, in interleaved pairs in one run.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/bench/rig"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

type measure struct {
	RowsPerSecond float64 `json:"rows_per_second"`
	WithKey       float64 `json:"with_key"` // rows a second until the primary key stands
	CPUSeconds    float64 `json:"cpu_seconds"`
	PeakMB        float64 `json:"peak_mb"` // ours: above idle
}

type bench struct {
	rows, streams  int
	source, target *localserver.Postgres
	maria          *localserver.MariaDB
	pattern        string // the tables of our crossing
	old, fresh     contract.NewDatabase
	serve          *exec.Cmd
	ferry          rig.Ferry
	run            int
}

func main() {
	rows := flag.Int("rows", 5_000_000, "rows of the table")
	streams := flag.Int("streams", 2, "parallel streams of both")
	pairs := flag.Int("pairs", 5, "interleaved pairs")
	from := flag.String("from", "postgres", "engine of the source: postgres or mariadb")
	to := flag.String("to", "postgres", "engine of the target: postgres or mariadb")
	wide := flag.Int("wide", 0, "width of an extra text column in bytes, for the memory figure")
	sizes := flag.String("sizes", "", "instead: our load of tables of so many rows, such as 1000000,10000000,50000000")
	random := flag.Bool("random", false, "instead: a table with a random key, larger than the source's cache, with "+
		"changes followed")
	trip := flag.Duration("trip", 0, "instead: to a target so far away, such as 50ms")
	rate := flag.Int("rate", 0, "bytes a second that each connection carries there; 0: no limit")
	follow := flag.Bool("capture", false, "with changes followed, to a target so far away")
	flag.Parse()
	run := func() error { return measureAll(context.Background(), *rows, *streams, *pairs, *wide) }
	switch {
	case *trip > 0:
		run = func() error {
			return measureFar(context.Background(), *rows, *streams, *pairs, rig.Link{Trip: *trip, Rate: *rate}, *follow)
		}
	case *random:
		run = func() error { return measureRandom(context.Background(), *rows, *streams, *pairs) }
	case *sizes != "":
		run = func() error { return measureSizes(context.Background(), *sizes, *streams) }
	case *from == "mariadb":
		run = func() error { return measureFromMaria(context.Background(), *rows, *streams, *pairs) }
	case *to == "mariadb":
		run = func() error { return measureToMaria(context.Background(), *rows, *streams, *pairs) }
	}
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

const readings = `
CREATE TABLE public.readings (id bigint PRIMARY KEY, apiary text, number smallint, read_at timestamp,
  weight_kg numeric(7,3),
  inside_c real, outside_c double precision, humidity smallint, battery_mv integer, firmware text, remark text)`

// fill makes rows of a number to another.
func fill(from, to, remarks, wide int) string {
	return fmt.Sprintf(`
INSERT INTO public.readings SELECT i, 'dyke-' || i %% 50, i %% 8, timestamp '2025-01-01' + i * interval '13 seconds',
  round((i %% 60000 / 1000.0)::numeric, 3),
  i %% 40, i %% 30 / 3.0, i %% 100, 3000 + i %% 1200, 'scale-fw-' || i %% 7, repeat('calibrated by hand ',
    %d) || repeat('w', %d)
  FROM generate_series(%d, %d) i`, remarks, wide, from, to)
}

// startPair starts two PostgreSQL servers, the source with settings of its own.
func startPair(ctx context.Context, rows, streams int, source map[string]string) (*bench, func(), error) {
	b := &bench{rows: rows, streams: streams, pattern: "public.readings"}
	usual := map[string]string{"max_wal_size": "16GB", "checkpoint_timeout": "1h"}
	special := maps.Clone(usual)
	maps.Copy(special, source)
	var err error
	if b.source, err = localserver.StartPostgres(ctx, localserver.Options{Settings: special}); err != nil {
		return nil, nil, err
	}
	if b.target, err = localserver.StartPostgres(ctx, localserver.Options{Settings: usual}); err != nil {
		b.source.Stop()
		return nil, nil, err
	}
	return b, func() { b.target.Stop(); b.source.Stop() }, nil
}

func measureAll(ctx context.Context, rows, streams, pairs, wide int) error {
	b, end, err := startPair(ctx, rows, streams, nil)
	if err != nil {
		return err
	}
	defer end()
	fmt.Printf("filling %d rows of 11 columns\n", rows)
	if err := b.sql(ctx, b.source, readings, fill(1, rows, 5, wide), "VACUUM ANALYZE public.readings",
		"CHECKPOINT"); err != nil {
		return err
	}
	b.old, b.fresh = rig.Postgres("old", b.source), rig.Postgres("new", b.target)
	stop, err := b.startService(ctx)
	if err != nil {
		return err
	}
	defer stop()
	var ours, limit, keyed []measure // keyed: the pipe into a table that has its key already
	for i := range pairs + 1 {       // the first pair warms up and is not counted
		for _, side := range []struct {
			name string
			f    func(context.Context) (measure, error)
			to   *[]measure
		}{{"pipe", func(ctx context.Context) (measure, error) { return b.pipe(ctx, false) }, &limit}, {"ours", b.ours, &ours},
			{"keyed", func(ctx context.Context) (measure, error) { return b.pipe(ctx, true) }, &keyed}} {
			if err := b.sql(ctx, b.target, "DROP TABLE IF EXISTS public.readings", "CHECKPOINT"); err != nil {
				return err
			}
			m, err := side.f(ctx)
			if err != nil {
				return fmt.Errorf("%s: %w", side.name, err)
			}
			fmt.Printf("pair %d %-5s %9.0f rows/s, %9.0f with the key, %6.2f CPU s %6.1f MB\n", i, side.name, m.RowsPerSecond,
				m.WithKey, m.CPUSeconds, m.PeakMB)
			if i > 0 {
				*side.to = append(*side.to, m)
			}
		}
	}
	var speed, cpu, whole, later []float64
	for i := range ours {
		whole = append(whole, ours[i].WithKey/limit[i].WithKey)
		later = append(later, limit[i].WithKey/keyed[i].WithKey)
		speed = append(speed, ours[i].RowsPerSecond/limit[i].RowsPerSecond)
		cpu = append(cpu, ours[i].CPUSeconds/limit[i].CPUSeconds)
	}
	fmt.Printf("median of %d pairs: speed %.3f of the pipe's, %.3f until the key stands, CPU %.3f of its; the pipe is "+
		"%.2f times as fast with the key built later\n",
		pairs, rig.Median(speed), rig.Median(whole), rig.Median(cpu), rig.Median(later))
	return json.NewEncoder(os.Stdout).Encode(map[string]any{
		"bench": "load", "ratio": round(rig.Median(speed)), "with_key_ratio": round(rig.Median(whole)),
		"key_later_gain": round(rig.Median(later)), "cpu_ratio": round(rig.Median(cpu)), "keyed": mid(keyed),
		"ours": mid(ours), "limit": mid(limit),
		"units": "rows/s, CPU seconds a run, MB (ours: above idle)", "pairs": pairs, "rows": rows, "streams": streams,
	})
}

func round(f float64) float64 { return float64(int(f*1000+0.5)) / 1000 }

func mid(all []measure) measure {
	pick := func(f func(measure) float64) float64 {
		var v []float64
		for _, m := range all {
			v = append(v, f(m))
		}
		return round(rig.Median(v))
	}
	return measure{pick(func(m measure) float64 { return m.RowsPerSecond }), pick(func(m measure) float64 {
		return m.WithKey
	}), pick(func(m measure) float64 { return m.CPUSeconds }), pick(func(m measure) float64 { return m.PeakMB })}
}

func (b *bench) sql(ctx context.Context, s *localserver.Postgres, statements ...string) error {
	c, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return err
	}
	defer func() { _ = c.Close(ctx) }()
	for _, q := range statements {
		if _, err := c.Exec(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// pipe is the limit: psql to psql, a key range for each stream, and then the primary
// key, unless the table has it from the start.
func (b *bench) pipe(ctx context.Context, keyed bool) (measure, error) {
	ddl := `CREATE TABLE public.readings (id bigint, apiary text, number smallint, read_at timestamp,
  weight_kg numeric(7,3),
  inside_c real, outside_c double precision, humidity smallint, battery_mv integer, firmware text, remark text)`
	if keyed {
		ddl = strings.Replace(ddl, "id bigint,", "id bigint PRIMARY KEY,", 1)
	}
	if err := b.sql(ctx, b.target, ddl); err != nil {
		return measure{}, err
	}
	var wg sync.WaitGroup
	var mu sync.Mutex
	var m measure
	var errs []error
	from := time.Now()
	for i := range b.streams {
		lo, hi := b.rows*i/b.streams, b.rows*(i+1)/b.streams
		wg.Go(func() {
			out := exec.CommandContext(ctx, "psql", "-X", "-q", b.source.URL("postgres"), "-c",
				fmt.Sprintf("COPY (SELECT * FROM public.readings WHERE id > %d AND id <= %d) TO STDOUT (FORMAT binary)", lo, hi))
			in := exec.CommandContext(ctx, "psql", "-X", "-q", b.target.URL("postgres"), "-c",
				"COPY public.readings FROM STDIN (FORMAT binary)")
			err := piped(out, in)
			mu.Lock()
			defer mu.Unlock()
			errs = append(errs, err)
			for _, c := range []*exec.Cmd{out, in} {
				if u, ok := c.ProcessState.SysUsage().(*syscall.Rusage); ok {
					m.CPUSeconds += c.ProcessState.UserTime().Seconds() + c.ProcessState.SystemTime().Seconds()
					m.PeakMB += float64(u.Maxrss) / 1024
				}
			}
		})
	}
	wg.Wait()
	m.RowsPerSecond = float64(b.rows) / time.Since(from).Seconds()
	if !keyed {
		errs = append(errs, b.addKey(ctx, "public.readings"))
	}
	m.WithKey = float64(b.rows) / time.Since(from).Seconds()
	return m, errors.Join(errs...)
}

// addKey builds a primary key with the memory that our own builds have.
func (b *bench) addKey(ctx context.Context, table string) error {
	return b.sql(ctx, b.target, "SET maintenance_work_mem = '256MB'", "ALTER TABLE "+table+" ADD PRIMARY KEY (id)")
}

func (b *bench) startService(ctx context.Context) (func(), error) {
	dir, err := os.MkdirTemp("", "dusty-ferry-bench-")
	if err != nil {
		return nil, err
	}
	_ = os.Chmod(dir, 0o711)
	b.serve = exec.CommandContext(ctx, filepath.Join("bin", "dustyferry"), "serve", "--allow-root", "--listen",
		"127.0.0.1:0", "--data-dir", dir, "--process-lanes", strconv.Itoa(b.streams))
	out, err := b.serve.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := b.serve.Start(); err != nil {
		return nil, err
	}
	token := ""
	s := bufio.NewScanner(out)
	for s.Scan() {
		line := strings.TrimSpace(s.Text())
		if strings.HasPrefix(line, "dft_") {
			token = line
		}
		if url, ok := strings.CutPrefix(line, "Ready at "); ok {
			b.ferry, err = rig.Open(url, token)
			break
		}
	}
	if b.ferry.Client == nil {
		return nil, errors.New("the service did not start")
	}
	if err := b.ferry.Register(ctx, b.old, b.fresh); err != nil {
		return nil, err
	}
	return func() {
		_ = b.serve.Process.Signal(syscall.SIGTERM)
		_ = b.serve.Wait()
		_ = os.RemoveAll(dir)
	}, err
}

// ours is a crossing of kind load, from its start to the landing of the last
// chunk, with counting and hashing of every chunk as always.
func (b *bench) ours(ctx context.Context) (measure, error) {
	b.run++
	name := fmt.Sprintf("run%d", b.run)
	kind := contract.Load
	lanes := b.streams
	if err := b.ferry.Add(ctx, contract.NewCrossing{Name: name, Kind: &kind, Tables: &[]string{b.pattern},
		Settings: &contract.Settings{Lanes: &lanes}}); err != nil {
		return measure{}, err
	}
	pid := b.serve.Process.Pid
	idle, err := memory(pid, "VmRSS")
	if err != nil {
		return measure{}, err
	}
	_ = os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", pid), []byte("5"), 0o200) // the peak counts from here
	cpu := cpuSeconds(pid)
	from := time.Now()
	if err := b.ferry.Go(ctx, name); err != nil {
		return measure{}, err
	}
	for {
		c, err := b.ferry.Get(ctx, name)
		if err != nil {
			return measure{}, err
		}
		if c.Progress.Chunks > 0 && c.Progress.ChunksLanded == c.Progress.Chunks {
			if c.Progress.Rows != int64(b.rows) {
				return measure{}, fmt.Errorf("%d rows landed", c.Progress.Rows)
			}
			break
		}
		// Asking costs the service time too: often only when the end is near.
		if c.Progress.ChunksLanded*10 < c.Progress.Chunks*8 {
			time.Sleep(450 * time.Millisecond)
		}
		time.Sleep(50 * time.Millisecond)
	}
	m := measure{RowsPerSecond: float64(b.rows) / time.Since(from).Seconds(), CPUSeconds: cpuSeconds(pid) - cpu}
	peak, err := memory(pid, "VmHWM")
	if err != nil {
		return m, err
	}
	m.PeakMB = peak - idle
	// Built, closed and forgotten before the next run.
	if err := b.ferry.Await(ctx, name, 50*time.Millisecond, rig.InStep); err != nil {
		return m, err
	}
	m.WithKey = float64(b.rows) / time.Since(from).Seconds()
	return m, b.ferry.Close(ctx, name)
}

// memory reads a figure of /proc/PID/status in MB.
func memory(pid int, field string) (float64, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(b)) {
		if rest, ok := strings.CutPrefix(line, field+":"); ok {
			kb, err := strconv.ParseFloat(strings.Fields(rest)[0], 64)
			return kb / 1024, err
		}
	}
	return 0, fmt.Errorf("no %s for process %d", field, pid)
}

// cpuSeconds reads user and system time of a process.
func cpuSeconds(pid int) float64 {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+2:]))
	user, _ := strconv.ParseFloat(f[11], 64)
	system, _ := strconv.ParseFloat(f[12], 64)
	return (user + system) / 100
}

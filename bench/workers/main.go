// Command workers measures how a load grows with worker processes. The two cores of one
// machine are soon full, so every connection to the source is slowed down to the same
// rate, as a far link would: then lanes, not servers, are the bound, and what a worker
// adds can be seen. The limit printed beside is that rate times the number of lanes.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/bench/rig"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
	"dustyferry/internal/service"
)

// lanesEach is how many lanes a worker has.
const lanesEach = 2

func main() {
	rows := flag.Int("rows", 3_000_000, "rows of the table")
	rate := flag.Int("rate", 5_000_000, "bytes a second of one connection to the source")
	most := flag.Int("workers", 4, "worker processes: 1, 2, 4 … up to so many")
	flag.Parse()
	if err := measure(context.Background(), *rows, *rate, *most); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

type result struct {
	Workers   int     `json:"workers"`
	Lanes     int     `json:"lanes"`
	MBPerS    float64 `json:"mb_per_s"` // of row data, from the first claim to the last landing
	Limit     float64 `json:"limit_mb_per_s"`
	Ratio     float64 `json:"ratio"`
	OfLinear  float64 `json:"of_linear"` // beside one worker
	ClaimsMS  float64 `json:"between_reads_ms"`
	ReadsEach float64 `json:"reads"`
}

func measure(ctx context.Context, rows, rate, most int) error {
	var s [3]*localserver.Postgres // source, target, control
	for i := range s {
		var err error
		if s[i], err = localserver.StartPostgres(ctx, localserver.Options{Settings: map[string]string{"max_wal_size": "16GB",
			"max_connections": "200"}}); err != nil {
			return err
		}
		defer s[i].Stop()
	}
	if err := exec1(ctx, s[0].URL("postgres"), fmt.Sprintf(`CREATE SCHEMA marsh;
  CREATE TABLE marsh.readings (id bigint PRIMARY KEY, apiary text, grams integer, remark text);
INSERT INTO marsh.readings SELECT i, 'dyke-' || i %% 50, i %% 60000, repeat('calibrated by hand ', 9)
  FROM generate_series(1, %d) i`, rows), "VACUUM ANALYZE marsh.readings"); err != nil {
		return err
	}
	link := rig.Link{Rate: rate}
	port, err := link.Open(net.JoinHostPort(s[0].Host, strconv.Itoa(s[0].Port)))
	if err != nil {
		return err
	}
	defer link.Close()
	dir, err := os.MkdirTemp("", "dusty-ferry-bench-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	token := ""
	svc, err := service.Start(ctx, service.Settings{Listen: "127.0.0.1:0", DataDir: dir, ControlURL: s[2].URL("postgres"),
		Lanes: 1, Serve: true, AllowRoot: true, Version: "bench",
		Log: slog.New(slog.DiscardHandler), FirstToken: func(t string) { token = t }})
	if err != nil {
		return err
	}
	defer svc.Stop()
	ferry, err := rig.Open(svc.URL(), token)
	if err != nil {
		return err
	}
	far := rig.Postgres("old", s[0])
	far.Port = port
	if err := ferry.Register(ctx, far, rig.Postgres("new", s[1])); err != nil {
		return err
	}
	var all []result
	var workers []*exec.Cmd
	defer func() {
		for _, w := range workers {
			_ = w.Process.Signal(syscall.SIGTERM)
			_ = w.Wait()
		}
	}()
	for n := 1; n <= most; n *= 2 {
		for len(workers) < n {
			w, err := startWorker(ctx, s[2].URL("postgres"), dir, len(workers))
			if err != nil {
				return err
			}
			workers = append(workers, w)
		}
		r, err := load(ctx, ferry, s, n, rows)
		if err != nil {
			return err
		}
		r.Limit = float64(rate*r.Lanes) / 1e6
		r.Ratio = r.MBPerS / r.Limit
		r.OfLinear = 1
		if len(all) > 0 {
			r.OfLinear = r.MBPerS / all[0].MBPerS / float64(n)
		}
		all = append(all, r)
		fmt.Printf("%d workers of %d lanes: %6.1f MB/s, the links carry %6.1f MB/s: %.3f of it, %.3f of linear growth; "+
			"%.1f ms between two reads of a lane\n",
			r.Workers, lanesEach, r.MBPerS, r.Limit, r.Ratio, r.OfLinear, r.ClaimsMS)
	}
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"bench": "workers", "rows": rows, "results": all})
}

// load carries the table with the workers that there are.
func load(ctx context.Context, ferry rig.Ferry, s [3]*localserver.Postgres, n, rows int) (result, error) {
	r := result{Workers: n, Lanes: n * lanesEach}
	name := fmt.Sprintf("with-%d", n)
	if err := exec1(ctx, s[1].URL("postgres"), "DROP SCHEMA IF EXISTS marsh CASCADE"); err != nil {
		return r, err
	}
	kind, label, lanes, chunk := contract.Load, "far", r.Lanes, int64(2<<20)
	if err := ferry.Add(ctx, contract.NewCrossing{Name: name, Kind: &kind, Tables: &[]string{"marsh.*"},
		Settings: &contract.Settings{Lanes: &lanes, WorkerLabel: &label, ChunkBytes: &chunk}}); err != nil {
		return r, err
	}
	if err := ferry.Go(ctx, name); err != nil {
		return r, err
	}
	if err := ferry.Await(ctx, name, 300*time.Millisecond, rig.InStep); err != nil {
		return r, err
	}
	// The ledger says when which lane read what. A lane is free from the landing of one
	// read until it begins the next.
	control, err := pgx.Connect(ctx, s[2].URL("postgres"))
	if err != nil {
		return r, err
	}
	defer func() { _ = control.Close(ctx) }()
	var bytes, landed int64
	var seconds float64
	if err := control.QueryRow(ctx, `
SELECT sum(k.bytes)::bigint, sum(k.rows)::bigint, extract(epoch FROM max(k.ended_at) - min(k.started_at))::float8,
  count(*) FILTER (WHERE k.leader IS NULL)
  FROM chunks k JOIN crossings c ON c.id = k.crossing_id WHERE c.name = $1`, name).Scan(&bytes, &landed, &seconds,
		&r.ReadsEach); err != nil {
		return r, err
	}
	if landed != int64(rows) {
		return r, fmt.Errorf("%d rows landed", landed)
	}
	var busy float64
	if err := control.QueryRow(ctx, `
SELECT sum(extract(epoch FROM k.ended_at - k.started_at))::float8 FROM chunks k
  JOIN crossings c ON c.id = k.crossing_id WHERE c.name = $1 AND k.leader IS NULL`, name).Scan(&busy); err != nil {
		return r, err
	}
	r.MBPerS = float64(bytes) / 1e6 / seconds
	r.ClaimsMS = (seconds*float64(r.Lanes) - busy) / r.ReadsEach * 1000
	return r, ferry.Close(ctx, name)
}

func startWorker(ctx context.Context, control, dir string, i int) (*exec.Cmd, error) {
	w := exec.CommandContext(ctx, filepath.Join("bin", "dustyferry"), "worker", "--control-url", control, "--key-file",
		filepath.Join(dir, "key"),
		"--data-dir", filepath.Join(dir, fmt.Sprint("worker", i)), "--process-lanes", strconv.Itoa(lanesEach), "--label",
		"far", "--allow-root")
	w.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	w.Stderr = os.Stderr
	out, err := w.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := w.Start(); err != nil {
		return nil, err
	}
	for s := bufio.NewScanner(out); s.Scan(); {
		if strings.Contains(s.Text(), "Ready") {
			return w, nil
		}
	}
	return nil, errors.New("a worker did not start")
}

func exec1(ctx context.Context, url string, statements ...string) error {
	c, err := pgx.Connect(ctx, url)
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

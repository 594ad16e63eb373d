// Command retained measures how much log a source keeps while a long load runs under
// writes: the load is slowed down to last as long as wanted, pgbench writes all the time,
// and every five seconds the source is asked. Beside it stands how much log was written in
// that time, which is what a source would keep that had to keep it until the load ends.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/bench/rig"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

func main() {
	minutes := flag.Float64("minutes", 30, "how long the load is to last")
	pace := flag.Int("pace", 0, "transactions a second of pgbench; 0: as many as it can")
	flag.Parse()
	if err := measure(context.Background(), *minutes, *pace); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func measure(ctx context.Context, minutes float64, pace int) error {
	var s [2]*localserver.Postgres
	for i := range s {
		var err error
		if s[i], err = localserver.StartPostgres(ctx,
			localserver.Options{Settings: map[string]string{"max_wal_size": "1GB"}}); err != nil {
			return err
		}
		defer s[i].Stop()
	}
	pgbench, err := localserver.Bin("pgbench")
	if err != nil {
		return err
	}
	bench := func(args ...string) *exec.Cmd {
		cmd := exec.CommandContext(ctx, pgbench, append(args, "-h", s[0].Host, "-p", strconv.Itoa(s[0].Port), "-U",
			"postgres", "postgres")...)
		cmd.Env = append(os.Environ(), "PGPASSWORD="+s[0].Password)
		return cmd
	}
	if out, err := bench("-i", "-q", "-s", "20").CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	src, err := pgx.Connect(ctx, s[0].URL("postgres"))
	if err != nil {
		return err
	}
	defer func() { _ = src.Close(ctx) }()
	var size int64
	if err := src.QueryRow(ctx, "SELECT sum(pg_table_size(oid))::bigint FROM pg_class WHERE relname LIKE 'pgbench_%' "+
		"AND relkind = 'r'").Scan(&size); err != nil {
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
	limit, chunk := int64(float64(size)*0.9/(minutes*60)), int64(1<<20)
	if err := ferry.Add(ctx, contract.NewCrossing{Name: "spring", Tables: &[]string{"public.*"},
		Settings: &contract.Settings{SpeedLimit: &limit, ChunkBytes: &chunk}}); err != nil {
		return err
	}
	args := []string{"-n", "-c", "2", "-j", "1", "-T", strconv.Itoa(int(minutes*60) + 600)}
	if pace > 0 {
		args = append(args, "-R", strconv.Itoa(pace))
	}
	writes := bench(args...)
	if err := writes.Start(); err != nil {
		return err
	}
	defer func() { _ = writes.Process.Kill(); _ = writes.Wait() }()
	if err := ferry.Go(ctx, "spring"); err != nil {
		return err
	}
	var first, last int64 // of the log
	if err := src.QueryRow(ctx, "SELECT (pg_current_wal_lsn() - '0/0')::bigint").Scan(&first); err != nil {
		return err
	}
	began := time.Now()
	var kept []float64 // MB
	for {
		time.Sleep(5 * time.Second)
		c, err := ferry.Get(ctx, "spring")
		if err != nil {
			return err
		}
		if c.Phase != contract.PhaseLoading && c.Phase != contract.PhasePrepared && c.Phase != contract.PhaseSurveyed {
			break
		}
		var n int64
		if err := src.QueryRow(ctx, "SELECT coalesce(max(pg_current_wal_lsn() - restart_lsn), 0)::bigint FROM "+
			"pg_replication_slots WHERE NOT temporary").Scan(&n); err != nil {
			return err
		}
		kept = append(kept, float64(n)/1e6)
		if len(kept)%24 == 0 {
			fmt.Printf("%5.1f min: %6.1f MB kept, %d of %d chunks, %d changes applied, lag %.1f s\n",
				time.Since(began).Minutes(), kept[len(kept)-1], c.Progress.ChunksLanded, c.Progress.Chunks, c.Progress.Changes,
				c.Progress.LagSeconds)
		}
	}
	if err := src.QueryRow(ctx, "SELECT (pg_current_wal_lsn() - '0/0')::bigint").Scan(&last); err != nil {
		return err
	}
	var thirds []float64
	for i := range 3 {
		thirds = append(thirds, rig.Median(kept[len(kept)*i/3:len(kept)*(i+1)/3]))
	}
	written := float64(last-first) / 1e6
	fmt.Printf("in %.1f minutes of load %.0f MB of log were written and at most %.1f MB were kept; medians of the "+
		"thirds: %.1f, %.1f, %.1f MB\n", time.Since(began).Minutes(), written, slices.Max(kept), thirds[0], thirds[1],
		thirds[2])
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"bench": "retained", "minutes": time.Since(began).Minutes(),
		"written_mb": written, "most_kept_mb": slices.Max(kept), "median_mb_of_thirds": thirds, "pace": pace})
}

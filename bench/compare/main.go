// Command compare measures comparing two tables that are equal, with the target at the other end of a link
// that delays and is narrow, beside what the slower of the two servers needs to hash its own rows, both asked
// right there. The last line is one JSON object.
package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	_ "github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"

	"dustyferry/bench/rig"
	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

func main() {
	engine := flag.String("engine", "postgres", "of both servers: postgres or mariadb")
	rows := flag.Int("rows", 1_000_000, "rows of the table")
	pairs := flag.Int("pairs", 3, "how often everything is measured")
	trip := flag.Duration("trip", 50*time.Millisecond, "how far the target is away")
	rate := flag.Int("rate", 5_000_000, "bytes a second that a connection carries; 0: any number")
	flag.Parse()
	if err := run(context.Background(), *engine, *rows, *pairs, rig.Link{Trip: *trip, Rate: *rate}); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// end is one server: as the service knows it, and by plain SQL.
type end struct {
	api  contract.NewDatabase
	port int
	db   *sql.DB
	own  string   // has it hash all rows
	fill []string // makes the table, and so many rows
	stop func()
}

const columns = "apiary, number, read_at, weight_kg, inside_c, outside_c, humidity, battery_mv, firmware, remark"

// start starts a server.
func start(ctx context.Context, engine, name string) (*end, error) {
	if engine == "mariadb" {
		s, err := localserver.StartMariaDB(ctx, localserver.Options{Settings: map[string]string{"log-bin": "saltmarsh",
			"binlog-format": "ROW"}})
		if err != nil {
			return nil, err
		}
		db, err := sql.Open("mysql", s.DSN(""))
		if err != nil {
			return nil, err
		}
		_, err = db.ExecContext(ctx, "CREATE DATABASE saltmarsh")
		_ = db.Close()
		if err != nil {
			return nil, err
		}
		if db, err = sql.Open("mysql", s.DSN("saltmarsh")); err != nil {
			return nil, err
		}
		return &end{api: rig.MariaDB(name, "saltmarsh", s), port: s.Port, db: db, stop: s.Stop,
			fill: []string{`CREATE TABLE saltmarsh.readings (id bigint PRIMARY KEY,
  apiary varchar(20), number smallint, read_at datetime, weight_kg decimal(7,3), inside_c float, outside_c double,
  humidity smallint, battery_mv integer, firmware varchar(20), remark text)`,
				`INSERT INTO saltmarsh.readings SELECT seq, concat('dyke-', seq % 50), seq % 8,
  timestamp('2025-01-01') + INTERVAL seq * 13 SECOND, seq % 60000 / 1000, seq % 40, seq % 30 / 3, seq % 100,
  3000 + seq % 1200, concat('scale-fw-', seq % 7), repeat('calibrated by hand ', 5) FROM seq_1_to_%d`},
			own: "SELECT count(*), sum(cast(conv(left(md5(concat_ws('|', id, " + columns +
				")), 16), 16, 10) AS unsigned)) FROM saltmarsh.readings"}, nil
	}
	s, err := localserver.StartPostgres(ctx, localserver.Options{Settings: map[string]string{"max_wal_size": "16GB"}})
	if err != nil {
		return nil, err
	}
	db, err := sql.Open("pgx", s.URL("postgres"))
	if err != nil {
		return nil, err
	}
	return &end{api: rig.Postgres(name, s), port: s.Port, db: db, stop: s.Stop, fill: []string{
		`CREATE TABLE public.readings (id bigint PRIMARY KEY, apiary text, number smallint,
  read_at timestamp, weight_kg numeric(7,3), inside_c real, outside_c double precision, humidity smallint,
  battery_mv integer, firmware text, remark text)`, `INSERT INTO public.readings SELECT i, 'dyke-' || i % 50,
  i % 8, timestamp '2025-01-01' + i * interval '13 seconds', i % 60000 / 1000.0, i % 40, i % 30 / 3.0, i % 100,
  3000 + i % 1200, 'scale-fw-' || i % 7, repeat('calibrated by hand ', 5) FROM generate_series(1, %d) i`, "VACUUM ANALYZE public.readings"},
		own: "SELECT count(*), sum(hashtextextended(concat_ws('|', id, " + columns + "), 0)) FROM public.readings r"}, nil
}

func run(ctx context.Context, engine string, rows, pairs int, link rig.Link) error {
	var ends [2]*end
	for i, name := range []string{"old", "new"} {
		var err error
		if ends[i], err = start(ctx, engine, name); err != nil {
			return err
		}
		defer ends[i].stop()
	}
	for _, q := range ends[0].fill {
		q = strings.ReplaceAll(q, "%d", strconv.Itoa(rows))
		if _, err := ends[0].db.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	port, err := link.Open(fmt.Sprintf("127.0.0.1:%d", ends[1].port))
	if err != nil {
		return err
	}
	defer link.Close()
	ends[1].api.Port = port
	f, end, err := rig.Start(ctx)
	if err != nil {
		return err
	}
	defer end()
	if err := f.Register(ctx, ends[0].api, ends[1].api); err != nil {
		return err
	}
	pattern := map[string]string{"postgres": "public.readings", "mariadb": "saltmarsh.readings"}[engine]
	if err := f.Add(ctx, contract.NewCrossing{Name: "spring", Tables: &[]string{pattern}}); err != nil {
		return err
	}
	if err := f.Go(ctx, "spring"); err != nil {
		return err
	}
	if err := f.Await(ctx, "spring", 100*time.Millisecond, rig.InStep); err != nil {
		return err
	}
	ways := []contract.SettingsHashBy{"service", "servers", "faster"}
	seconds := map[string][]float64{}
	for i := range pairs + 1 { // the first warms up and is not counted
		var run sync.WaitGroup
		errs := make([]error, len(ends))
		began := time.Now()
		for i, e := range ends { // both at once, as they are on one machine
			run.Go(func() {
				var n int64
				var sum string
				errs[i] = e.db.QueryRowContext(ctx, e.own).Scan(&n, &sum)
			})
		}
		run.Wait()
		own := time.Since(began).Seconds()
		if err := errors.Join(errs...); err != nil {
			return err
		}
		fmt.Printf("round %d: the slower server by itself %.2f s", i, own)
		for _, way := range ways {
			if _, err := client.Do[contract.Crossing](f.API.ChangeCrossingWithResponse(ctx, "spring",
				contract.Settings{HashBy: &way})); err != nil {
				return err
			}
			took, table, err := reconcile(ctx, f)
			if err != nil {
				return err
			}
			fmt.Printf("; %s %.2f s (%.2f s)", way, took, table)
			if i > 0 {
				seconds[string(way)] = append(seconds[string(way)], took/own)
				seconds[string(way)+", table"] = append(seconds[string(way)+", table"], table/own)
			}
		}
		fmt.Println()
	}
	out := map[string]any{"engine": engine, "rows": rows, "trip": link.Trip.String(), "rate": link.Rate}
	for name, v := range seconds {
		out[name] = rig.Median(v)
	}
	return json.NewEncoder(os.Stdout).Encode(out)
}

// reconcile compares, which must find nothing, and returns how long all of it took, and the table alone.
func reconcile(ctx context.Context, f rig.Ferry) (took, table float64, err error) {
	began := time.Now()
	r, err := client.Do[contract.Reconciliation](f.API.ReconcileWithResponse(ctx, "spring",
		contract.NewReconciliation{Depth: contract.NewReconciliationDepthHashes}))
	for err == nil && (r.State == "running" || r.State == "waiting" || r.State == "pending") {
		time.Sleep(20 * time.Millisecond)
		r, err = client.Do[contract.Reconciliation](f.API.GetReconciliationWithResponse(ctx, "spring", r.Id))
	}
	took = time.Since(began).Seconds()
	if err == nil && r.State != "clean" {
		err = fmt.Errorf("the comparison is %s: %s", r.State, r.Error)
	}
	if err == nil && r.Results != nil {
		for _, t := range *r.Results {
			table += t.Seconds
		}
	}
	return took, table, err
}

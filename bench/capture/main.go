// Command capture measures how fast a backlog of mixed changes is received,
// decoded, folded and applied, beside a receiver that only reads the same log
// and counts messages: the sending server's own limit. Then it measures how long a commit
// takes from the source to the target at a steady pace, and what following a quiet source
// costs.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"

	"dustyferry/bench/rig"
	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// vouch is how often what changes touched is compared; below 0: as by default.
var vouch = flag.Float64("vouch", -1, "seconds between rounds of vouching; 0: none, and no keys are kept")

func main() {
	transactions := flag.Int("transactions", 3000, "transactions of the backlog")
	per := flag.Int("per", 100, "changes in each")
	pairs := flag.Int("pairs", 5, "interleaved pairs")
	pace := flag.Int("pace", 1000, "transactions a second of the measurement of latency; 0 leaves it out")
	source := flag.String("source", "postgres", "or mariadb")
	flag.Parse()
	if *source == "mariadb" {
		if err := runMaria(context.Background(), *transactions, *per, *pairs, *pace); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	if err := run(context.Background(), *transactions, *per, *pairs, *pace); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

type bench struct {
	source, target    *localserver.Postgres
	ferry             rig.Ferry
	transactions, per int
}

func run(ctx context.Context, transactions, per, pairs, pace int) error {
	b := &bench{transactions: transactions, per: per}
	var err error
	for _, s := range []**localserver.Postgres{&b.source, &b.target} {
		if *s, err = localserver.StartPostgres(ctx, localserver.Options{Settings: map[string]string{"max_wal_size": "8GB",
			"track_commit_timestamp": "on"}}); err != nil {
			return err
		}
		defer (*s).Stop()
	}
	if err := b.sql(ctx, `CREATE TABLE public.readings (id bigint PRIMARY KEY, hive text, weight numeric(7,3),
  at timestamp, remark text);
INSERT INTO public.readings SELECT g, 'hive ' || g % 400, g % 60, now(), 'as it was' FROM generate_series(1, 200000) g;
  CREATE PUBLICATION decoded FOR TABLE public.readings; ANALYZE`); err != nil {
		return err
	}
	f, end, err := rig.Start(ctx)
	if err != nil {
		return err
	}
	defer end()
	b.ferry = f
	src, err := pgx.Connect(ctx, b.source.URL("postgres"))
	if err != nil {
		return err
	}
	defer func() { _ = src.Close(ctx) }()
	calm, err := b.quietly(ctx, pace, b.follow, func(id int) error {
		_, err := src.Exec(ctx, "INSERT INTO public.readings VALUES ($1, 'first', 1, now(), 'x')", id)
		return err
	}, b.latency)
	if err != nil {
		return err
	}
	var ours, limit, ratio, decode []float64
	for i := range pairs + 1 { // the first pair warms up and is not counted
		o, d, l, err := b.pair(ctx, i)
		if err != nil {
			return err
		}
		fmt.Printf("pair %d: applied %8.0f changes/s, decoded %8.0f changes/s, only received %8.0f changes/s\n", i, o, d, l)
		if i > 0 {
			ours, limit, ratio, decode = append(ours, o), append(limit, l), append(ratio, o/l), append(decode, d/l)
		}
	}
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"bench": "capture",
		"decode_ratio": float64(int(rig.Median(decode)*1000)) / 1000, "latency_ms": calm.Lag, "quiet_core_share": calm.Quiet,
		"following_core_share": calm.Following, "first_change_ms": calm.First,
		"ratio": float64(int(rig.Median(ratio)*1000)) / 1000,
		"ours":  int(rig.Median(ours)), "limit": int(rig.Median(limit)), "units": "changes/s", "pairs": pairs,
		"changes_per_transaction": per, "changes": transactions * per})
}

func (b *bench) sql(ctx context.Context, q string) error {
	c, err := pgx.Connect(ctx, b.source.URL("postgres"))
	if err != nil {
		return err
	}
	defer func() { _ = c.Close(ctx) }()
	_, err = c.Exec(ctx, q)
	return err
}

// follow brings a crossing in step.
func (b *bench) follow(ctx context.Context) error {
	if err := b.ferry.Register(ctx, rig.Postgres("old", b.source), rig.Postgres("new", b.target)); err != nil {
		return err
	}
	return b.cross(ctx, contract.NewCrossing{Tables: &[]string{"public.*"}})
}

// cross starts a crossing and waits until it is in step.
func (b *bench) cross(ctx context.Context, c contract.NewCrossing) error {
	c.Name = "spring"
	if *vouch >= 0 {
		c.Settings = &contract.Settings{VouchEverySeconds: vouch}
	}
	if err := b.ferry.Add(ctx, c); err != nil {
		return err
	}
	if err := b.ferry.Go(ctx, c.Name); err != nil {
		return err
	}
	return b.ferry.Await(ctx, c.Name, 100*time.Millisecond, rig.InStep)
}

// pause stops capture.
func (b *bench) pause(ctx context.Context) error {
	if _, err := client.Do[contract.Crossing](b.ferry.API.PauseCrossingWithResponse(ctx, "spring",
		contract.PauseCrossingJSONRequestBody{})); err != nil {
		return err
	}
	return b.ferry.Await(ctx, "spring", 100*time.Millisecond, func(c contract.Crossing) bool {
		return c.Progress.Capture == "waiting"
	})
}

// pair builds a backlog while capture is paused, lets a bare receiver read it,
// then lets capture apply it.
func (b *bench) pair(ctx context.Context, n int) (ours, decoded, limit float64, err error) {
	if err := b.pause(ctx); err != nil {
		return 0, 0, 0, err
	}
	var slot, publication string
	c, err := pgx.Connect(ctx, b.source.URL("postgres"))
	if err != nil {
		return 0, 0, 0, err
	}
	defer func() { _ = c.Close(ctx) }()
	if err := c.QueryRow(ctx, `SELECT slot_name, (SELECT pubname FROM pg_publication WHERE pubname <> 'decoded' LIMIT 1)
  FROM pg_replication_slots WHERE NOT temporary LIMIT 1`).Scan(&slot, &publication); err != nil {
		return 0, 0, 0, err
	}
	if _, err := c.Exec(ctx, `SELECT pg_create_logical_replication_slot('bare', 'pgoutput'),
  pg_create_logical_replication_slot('decoded', 'pgoutput')`); err != nil {
		return 0, 0, 0, err
	}
	if b.per == 1 { // a row of its own for each, most of them changed, some new
		_, err = c.Exec(ctx, fmt.Sprintf(`
DO $$ BEGIN
  FOR i IN 1..%[1]d LOOP
    IF i %% 5 = 0 THEN INSERT INTO public.readings VALUES (1000000 + %[2]d * 10000000 + i, 'new', 1, now(), 'x');
    ELSE UPDATE public.readings SET weight = weight + 0.001, remark = 'round %[2]d' WHERE id = 1 + (i * 7919) %% 200000;
    END IF;
    COMMIT;
  END LOOP;
END $$`, b.transactions, n))
	} else if _, err = c.Exec(ctx, fmt.Sprintf(`
DO $$ BEGIN
  FOR i IN 1..%[1]d LOOP
    UPDATE public.readings SET weight = weight + 0.001, remark = 'round %[3]d'
      WHERE id IN (SELECT 1 + (i * 7919 + g * 104729) %% 200000 FROM generate_series(1, %[2]d * 7 / 10) g);
    INSERT INTO public.readings SELECT 1000000 + %[3]d * 10000000 + i * %[2]d + g, 'new', 1, now(), 'x'
      FROM generate_series(1, %[2]d * 2 / 10) g;
    DELETE FROM public.readings WHERE id IN (SELECT 1000000 + %[3]d * 10000000 + (i - 1) * %[2]d + g
      FROM generate_series(1, %[2]d / 10) g);
    COMMIT;
  END LOOP;
END $$`, b.transactions, b.per, n)); err != nil {
		return 0, 0, 0, err
	}
	if err != nil {
		return 0, 0, 0, err
	}
	var end string
	if err := c.QueryRow(ctx, `SELECT pg_current_wal_lsn()::text`).Scan(&end); err != nil {
		return 0, 0, 0, err
	}
	changes, took, err := receive(ctx, b.source.URL("postgres")+"&replication=database", publication)
	if err != nil {
		return 0, 0, 0, err
	}
	if decoded, err = b.decode(ctx, changes); err != nil {
		return 0, 0, 0, err
	}
	for try := 0; ; try++ { // the receivers' sessions are still letting go
		if _, err = c.Exec(ctx, `SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots
  WHERE slot_name IN ('bare', 'decoded')`); err == nil {
			break
		}
		if try == 50 {
			return 0, 0, 0, err
		}
		time.Sleep(100 * time.Millisecond)
	}
	t, err := pgx.Connect(ctx, b.target.URL("postgres"))
	if err != nil {
		return 0, 0, 0, err
	}
	defer func() { _ = t.Close(ctx) }()
	from := time.Now()
	if _, err := client.Do[contract.Crossing](b.ferry.API.ResumeCrossingWithResponse(ctx, "spring")); err != nil {
		return 0, 0, 0, err
	}
	for { // the position on the target is the truth
		var done bool
		if err := t.QueryRow(ctx, `SELECT position >= ($1::pg_lsn - '0/0'::pg_lsn) FROM dusty_ferry.stream`, end).Scan(
			&done); err != nil {
			return 0, 0, 0, err
		}
		if done {
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	return float64(changes) / time.Since(from).Seconds(), decoded, float64(changes) / took.Seconds(), nil
}

// receive reads the backlog and counts its changes, nothing else.
func receive(ctx context.Context, url, publication string) (int, time.Duration, error) {
	conf, err := pgx.ParseConfig(url)
	if err != nil {
		return 0, 0, err
	}
	conn, err := pgx.ConnectConfig(ctx, conf)
	if err != nil {
		return 0, 0, err
	}
	defer func() { _ = conn.Close(ctx) }()
	pc := conn.PgConn()
	pc.Frontend().SendQuery(&pgproto3.Query{String: fmt.Sprintf(
		`START_REPLICATION SLOT bare LOGICAL 0/0 (proto_version '1', publication_names '"%s"')`, publication)})
	if err := pc.Frontend().Flush(); err != nil {
		return 0, 0, err
	}
	n, from, last := 0, time.Now(), time.Now()
	for {
		patience := 700 * time.Millisecond
		if n == 0 { // the server may have to read a while before it has anything to say
			patience = time.Minute
		}
		wait, cancel := context.WithTimeout(ctx, patience)
		m, err := pc.ReceiveMessage(wait)
		cancel()
		if err != nil {
			if n > 0 && ctx.Err() == nil { // nothing more comes
				return n, last.Sub(from), nil
			}
			return 0, 0, err
		}
		if d, ok := m.(*pgproto3.CopyData); ok && len(d.Data) > 25 && d.Data[0] == 'w' {
			switch d.Data[25] {
			case 'I', 'U', 'D':
				n++
			case 'C':
				last = time.Now()
			}
		}
	}
}

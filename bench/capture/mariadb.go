package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/bench/rig"
	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/engine/mariadb"
	"dustyferry/internal/localserver"
)

// The same with a MariaDB source. Its server does no work for a reader but send its files,
// so that a bare receiver is no limit for anybody (BenchmarkCapture in engine/mariadb
// measures one); what stands beside our speed here is our own reader decoding to nothing.

type mariaBench struct {
	bench
	server  *localserver.MariaDB
	db      *sql.DB
	decoder *engine.Opened
}

func runMaria(ctx context.Context, transactions, per, pairs, pace int) error {
	b := &mariaBench{bench: bench{transactions: transactions, per: per}}
	var err error
	if b.server, err = localserver.StartMariaDB(ctx, localserver.Options{Password: "thyme"}); err != nil {
		return err
	}
	defer b.server.Stop()
	if b.target, err = localserver.StartPostgres(ctx,
		localserver.Options{Settings: map[string]string{"max_wal_size": "8GB", "track_commit_timestamp": "on"}}); err != nil {
		return err
	}
	defer b.target.Stop()
	if b.db, err = sql.Open("mysql", b.server.DSN("")); err != nil {
		return err
	}
	defer func() { _ = b.db.Close() }()
	for _, q := range []string{"CREATE DATABASE marsh CHARACTER SET utf8mb4",
		"CREATE TABLE marsh.readings (id bigint PRIMARY KEY, hive varchar(40), weight decimal(7,3), at datetime, remark " +
			"text) ENGINE=InnoDB",
		"INSERT INTO marsh.readings SELECT seq, concat('hive ', seq % 400), seq % 60, now(), 'as it was' FROM " +
			"marsh.seq_1_to_200000"} {
		if _, err := b.db.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	f, end, err := rig.Start(ctx)
	if err != nil {
		return err
	}
	defer end()
	b.ferry = f
	calm, err := b.quietly(ctx, pace, b.follow, func(id int) error {
		_, err := b.db.ExecContext(ctx, fmt.Sprintf("INSERT INTO marsh.readings VALUES (%d, 'first', 1, now(), 'x')", id))
		return err
	}, b.latency)
	if err != nil {
		return err
	}
	var ours, limit, ratio []float64
	for i := range pairs + 1 { // the first pair warms up and is not counted
		o, d, err := b.pair(ctx, i)
		if err != nil {
			return err
		}
		fmt.Printf("pair %d: applied %8.0f changes/s, decoded %8.0f changes/s\n", i, o, d)
		if i > 0 {
			ours, limit, ratio = append(ours, o), append(limit, d), append(ratio, o/d)
		}
	}
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"bench": "capture from MariaDB", "latency_ms": calm.Lag,
		"quiet_core_share": calm.Quiet, "following_core_share": calm.Following, "first_change_ms": calm.First,
		"ratio": float64(int(rig.Median(ratio)*1000)) / 1000, "ours": int(rig.Median(ours)),
		"decoded_to_nothing": int(rig.Median(limit)), "units": "changes/s", "pairs": pairs, "changes_per_transaction": per,
		"changes": transactions * per})
}

func (b *mariaBench) follow(ctx context.Context) error {
	if err := b.ferry.Register(ctx, rig.MariaDB("old", "marsh", b.server), rig.Postgres("new", b.target)); err != nil {
		return err
	}
	schema := "public"
	if err := b.cross(ctx, contract.NewCrossing{Rules: &[]contract.Rule{{Tables: "*.*", Schema: &schema}}}); err != nil {
		return err
	}
	var err error
	b.decoder, err = engine.Open(ctx, mariadb.Driver{}, engine.Endpoint{Host: b.server.Host, Port: b.server.Port,
		Database: "marsh", User: b.server.User, Password: b.server.Password, TLS: "disable"})
	return err
}

// pair builds a backlog while capture is paused, decodes it to nothing, then lets capture
// apply it.
func (b *mariaBench) pair(ctx context.Context, n int) (ours, decoded float64, err error) {
	if err := b.pause(ctx); err != nil {
		return 0, 0, err
	}
	start, err := b.decoder.Heartbeat(ctx)
	if err != nil {
		return 0, 0, err
	}
	if err := b.backlog(ctx, n); err != nil {
		return 0, 0, err
	}
	end, err := b.decoder.Heartbeat(ctx)
	if err != nil {
		return 0, 0, err
	}
	changes := b.transactions * b.per
	if decoded, err = b.decode(ctx, start, end, changes); err != nil {
		return 0, 0, err
	}
	t, err := pgx.Connect(ctx, b.target.URL("postgres"))
	if err != nil {
		return 0, 0, err
	}
	defer func() { _ = t.Close(ctx) }()
	from := time.Now()
	if _, err := client.Do[contract.Crossing](b.ferry.API.ResumeCrossingWithResponse(ctx, "spring")); err != nil {
		return 0, 0, err
	}
	for done := false; !done; time.Sleep(5 * time.Millisecond) { // the position on the target is the truth
		if err := t.QueryRow(ctx, `SELECT position >= $1::text::numeric FROM dusty_ferry.stream`,
			fmt.Sprint(end.Number())).Scan(&done); err != nil {
			return 0, 0, err
		}
	}
	return float64(changes) / time.Since(from).Seconds(), decoded, nil
}

// backlog writes the transactions: seven in ten changes are updates, two inserts, one a
// delete; of one change each, every fifth is an insert.
func (b *mariaBench) backlog(ctx context.Context, n int) error {
	first := 1_000_000 + n*10_000_000
	for i := 1; i <= b.transactions; i++ {
		if b.per == 1 {
			q := fmt.Sprintf("UPDATE marsh.readings SET weight = weight + 0.001, remark = 'round %d' WHERE id = %d", n,
				1+(i*7919)%200_000)
			if i%5 == 0 {
				q = fmt.Sprintf("INSERT INTO marsh.readings VALUES (%d, 'new', 1, now(), 'x')", first+i)
			}
			if _, err := b.db.ExecContext(ctx, q); err != nil {
				return err
			}
			continue
		}
		tx, err := b.db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		from, at := 1+(i*7919)%150_000, first+i*b.per
		for _, q := range []string{
			fmt.Sprintf("UPDATE marsh.readings SET weight = weight + 0.001, remark = 'round %d' WHERE id BETWEEN %d AND %d", n,
				from, from+b.per*7/10-1),
			fmt.Sprintf("INSERT INTO marsh.readings SELECT %d + seq, 'new', 1, now(), 'x' FROM marsh.seq_1_to_%d", at,
				b.per*2/10),
			fmt.Sprintf("DELETE FROM marsh.readings WHERE id > %d AND id <= %d", at, at+b.per/10),
		} {
			if _, err := tx.ExecContext(ctx, q); err != nil {
				return err
			}
		}
		if err := tx.Commit(); err != nil {
			return err
		}
	}
	return nil
}

func (b *mariaBench) decode(ctx context.Context, start, end domain.Position, changes int) (float64, error) {
	cat, err := b.decoder.Catalog(ctx)
	if err != nil {
		return 0, err
	}
	plan, err := b.decoder.Plan(&cat.Tables[0])
	if err != nil {
		return 0, err
	}
	from := time.Now()
	c, err := b.decoder.OpenCapture(ctx, "decoded", start, []engine.CaptureTable{{ID: 1, Plan: &plan}}, "")
	if err != nil {
		return 0, err
	}
	defer c.Close()
	seen := 0
	for c.Received().Before(end) || seen < changes {
		e, ok := <-c.Events()
		if !ok {
			return 0, c.Err()
		}
		c.Took(&e)
		if e.Kind == domain.EventChange {
			seen++
		}
	}
	return float64(changes) / time.Since(from).Seconds(), nil
}

// latency lets four writers commit at a steady pace for twenty seconds. A commit counts from
// the source's answer to its writer.
func (b *mariaBench) latency(ctx context.Context, pace int) (latency, error) {
	const writers, first, length = 4, 500_000_000, 20 * time.Second
	sent := map[int64]time.Time{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	var failed error
	from := time.Now()
	for w := range writers {
		wg.Go(func() {
			mine := map[int64]time.Time{}
			c, err := b.db.Conn(ctx)
			for n := 0; err == nil && time.Since(from) < length; n++ {
				time.Sleep(time.Until(from.Add(time.Duration(n) * writers * time.Second / time.Duration(pace))))
				id := int64(first + n*writers + w)
				_, err = c.ExecContext(ctx, fmt.Sprintf("INSERT INTO marsh.readings VALUES (%d, 'paced', 1, now(), 'x')", id))
				mine[id] = time.Now()
			}
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				failed = err
			}
			for id, at := range mine {
				sent[id] = at
			}
		})
	}
	wg.Wait()
	took := time.Since(from)
	if failed != nil {
		return latency{}, failed
	}
	var came map[int64]time.Time
	var err error
	for end := time.Now().Add(time.Minute); len(came) < len(sent); time.Sleep(100 * time.Millisecond) {
		if came, err = committed(ctx, b.target.URL("postgres"), first); err != nil {
			return latency{}, err
		}
		if time.Now().After(end) {
			return latency{}, fmt.Errorf("%d of %d rows arrived", len(came), len(sent))
		}
	}
	return lagOf(sent, came, took), nil
}

func lagOf(sent, came map[int64]time.Time, took time.Duration) latency {
	var ms []float64
	for id, at := range sent {
		ms = append(ms, came[id].Sub(at).Seconds()*1000)
	}
	slices.Sort(ms)
	at := func(share float64) float64 { return float64(int(ms[int(share*float64(len(ms)-1))]*10)) / 10 }
	return latency{float64(len(sent)) / took.Seconds(), at(0.5), at(0.99), at(1), len(ms)}
}

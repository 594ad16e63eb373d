package demo

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// App is the cooperative's application: it writes all the time, to the database
// it has been pointed at, and goes over to another when it is told.
type App struct {
	url     atomic.Pointer[string]
	written atomic.Int64
	failed  atomic.Int64
	refused atomic.Int64 // writes the source refused because it has moved
	pause   time.Duration
	stop    context.CancelFunc
	done    sync.WaitGroup

	mu      sync.Mutex
	longest time.Duration // longest time one transaction took
	last    string
}

// StartApp starts the application with that many writers, each resting for
// pause between transactions.
func StartApp(ctx context.Context, url string, writers int, pause time.Duration) *App {
	a := &App{pause: pause}
	a.url.Store(&url)
	run, stop := context.WithCancel(ctx)
	a.stop = stop
	for i := range writers {
		a.done.Go(func() { a.write(run, uint64(i)) })
	}
	return a
}

// MoveTo points the application at another database.
func (a *App) MoveTo(url string) { a.url.Store(&url) }

// Written returns how many transactions were committed.
func (a *App) Written() int64 { return a.written.Load() }

// Failed returns how many transactions failed, and the last reason.
func (a *App) Failed() (int64, string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.failed.Load(), a.last
}

// Refused returns how many writes met the closed source.
func (a *App) Refused() int64 { return a.refused.Load() }

// Longest returns the longest time one transaction took: what a user of the
// application felt of the write pause.
func (a *App) Longest() time.Duration {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.longest
}

// Stop ends the writers.
func (a *App) Stop() {
	a.stop()
	a.done.Wait()
}

func (a *App) write(ctx context.Context, seed uint64) {
	rng := rand.New(rand.NewPCG(seed, 99))
	var conn *pgx.Conn
	at := ""
	defer func() {
		if conn != nil {
			_ = conn.Close(context.WithoutCancel(ctx))
		}
	}()
	for ctx.Err() == nil {
		url := *a.url.Load()
		if conn == nil || conn.IsClosed() || at != url {
			if conn != nil {
				_ = conn.Close(ctx)
			}
			var err error
			if conn, err = pgx.Connect(ctx, url); err != nil {
				conn = nil
				a.note(ctx, err)
				continue
			}
			at = url
		}
		from := time.Now()
		if err := a.one(ctx, conn, rng); err != nil {
			a.note(ctx, err)
			continue
		}
		a.written.Add(1)
		a.mu.Lock()
		a.longest = max(a.longest, time.Since(from))
		a.mu.Unlock()
		rest(ctx, a.pause)
	}
}

func (a *App) note(ctx context.Context, err error) {
	if ctx.Err() != nil {
		return
	}
	var pe *pgconn.PgError
	switch {
	case errors.As(err, &pe) && pe.Code == "25006":
		a.refused.Add(1)
	case errors.As(err, &pe) && pe.Code == "40001":
		// Two of its writers met, such as over a row that moved to another
		// partition: it was rolled back and is simply tried again.
	default:
		a.failed.Add(1)
		a.mu.Lock()
		a.last = err.Error()
		a.mu.Unlock()
	}
	rest(ctx, 50*time.Millisecond)
}

func rest(ctx context.Context, d time.Duration) {
	if d <= 0 {
		return
	}
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// one is one transaction of the cooperative's day.
func (a *App) one(ctx context.Context, c *pgx.Conn, rng *rand.Rand) error {
	n := rng.IntN
	return pgx.BeginFunc(ctx, c, func(tx pgx.Tx) error {
		do := func(sql string, args ...any) error {
			_, err := tx.Exec(ctx, sql, args...)
			return err
		}
		switch n(13) {
		case 0, 1, 2:
			return do(`INSERT INTO saltmarsh.scale_readings (apiary, number, read_at, weight_kg, humidity, firmware)
SELECT 'dyke-' || g, 1, now()::timestamp, 40 + g, g, 'live' FROM generate_series(1, 5) g`)
		case 3:
			return do(`UPDATE saltmarsh.scale_readings SET weight_kg = weight_kg + 0.001, remark = 'corrected'
WHERE id IN (SELECT 1 + (random() * (SELECT last_value FROM saltmarsh.scale_reading_id))::bigint FROM generate_series(1, 3))`)
		case 4:
			return do(`DELETE FROM saltmarsh.scale_readings WHERE id = 1 + (random() * (SELECT last_value FROM saltmarsh.scale_reading_id))::bigint`)
		case 5:
			return do(`UPDATE saltmarsh.hives SET frames = $1::int, stores = stores + 0.25, temper = (enum_range(NULL::saltmarsh.temper))[1 + $1::int % 4]
WHERE (apiary, number) IN (SELECT apiary, number FROM saltmarsh.hives OFFSET $2::int LIMIT 1)`, n(40), n(80))
		case 6:
			// Leaves the large photo unsaid in the log.
			return do(`UPDATE saltmarsh.inspections SET brood_frames = $1::int WHERE id IN (SELECT id FROM saltmarsh.inspections WHERE photo IS NOT NULL OFFSET $2::int LIMIT 1)`, n(12), n(4))
		case 7:
			return do(`INSERT INTO saltmarsh.inspections (apiary, number, inspected_at, temper, findings)
SELECT apiary, number, now(), temper, '{"mites": 0}' FROM saltmarsh.hives OFFSET $1::int LIMIT 1`, n(80))
		case 8:
			if err := do(`INSERT INTO saltmarsh.visitor_notes (visitor, note) VALUES ($1, NULL), ('twice', 'the same'), ('twice', 'the same')`, fmt.Sprint("visitor ", n(10))); err != nil {
				return err
			}
			return do(`DELETE FROM saltmarsh.visitor_notes WHERE ctid IN (SELECT ctid FROM saltmarsh.visitor_notes LIMIT 2)`)
		case 9:
			var id int64
			if err := tx.QueryRow(ctx, `INSERT INTO saltmarsh.orders (stall, total, sender) VALUES ($1, $2, '10.9.9.9') RETURNING id`, 1+n(40), float64(n(900))/4).Scan(&id); err != nil {
				return err
			}
			return do(`INSERT INTO saltmarsh.order_lines SELECT $1, g, 1 + g, g, 7.25 FROM generate_series(1, 3) g`, id)
		case 10:
			// Cascades to its lines.
			return do(`DELETE FROM saltmarsh.orders WHERE id = (SELECT id FROM saltmarsh.orders ORDER BY id DESC OFFSET $1::int LIMIT 1)`, 20+n(50))
		case 11:
			// A row moves to another key, and to another partition.
			return do(`UPDATE saltmarsh.weather SET observed_on = observed_on + 400, station = station + 1000 + $1::int
WHERE (observed_on, station) IN (SELECT observed_on, station FROM saltmarsh.weather WHERE station < 5 OFFSET $2::int LIMIT 1)`, n(1_000_000), n(100))
		default:
			return do(`UPDATE saltmarsh.keepers SET profile = profile || jsonb_build_object('seen', $1::int), skills = array_append(skills[1:3], $2)
WHERE id = (SELECT id FROM saltmarsh.keepers OFFSET $3::int LIMIT 1)`, n(1000), fmt.Sprint("skill ", n(9)), n(20))
		}
	})
}

package demo

import (
	"context"
	"database/sql"
	"errors"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	_ "github.com/jackc/pgx/v5/stdlib" // the driver pgx
)

// House is a database that the application can live in.
type House struct {
	driver, address string
	day             day
}

// day is one transaction of the cooperative's day.
type day func(ctx context.Context, tx *sql.Tx, rng *rand.Rand) error

// Postgres is the house with a source on PostgreSQL.
func Postgres(url string) House { return House{"pgx", url, postgresDay} }

// MariaDB is the house with a source on MariaDB.
func MariaDB(dsn string) House { return House{"mysql", dsn, plainDay} }

// Moved is a PostgreSQL database that the house on MariaDB has moved to.
func Moved(url string) House { return House{"pgx", url, plainDay} }

// App is the cooperative's application: it writes all the time, to the database
// it has been pointed at, and goes over to another when it is told.
type App struct {
	house   atomic.Pointer[House]
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
func StartApp(ctx context.Context, h House, writers int, pause time.Duration) *App {
	a := &App{pause: pause}
	a.house.Store(&h)
	run, stop := context.WithCancel(ctx)
	a.stop = stop
	for i := range writers {
		a.done.Go(func() { a.write(run, uint64(i)) })
	}
	return a
}

// MoveTo points the application at another database.
func (a *App) MoveTo(h House) { a.house.Store(&h) }

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

// Longest returns the longest time one transaction took, from its first try to its
// commit: what a user of the application felt of the write pause.
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
	var db *sql.DB
	var at *House
	defer func() {
		if db != nil {
			_ = db.Close()
		}
	}()
	var from time.Time // of the first try of what is being written
	for ctx.Err() == nil {
		if h := a.house.Load(); at != h {
			if db != nil {
				_ = db.Close()
			}
			var err error
			if db, err = sql.Open(h.driver, h.address); err != nil {
				a.note(ctx, err)
				continue
			}
			db.SetMaxOpenConns(1)
			at = h
		}
		if from.IsZero() {
			from = time.Now()
		}
		if err := one(ctx, db, at.day, rng); err != nil {
			a.note(ctx, err)
			continue // it is tried again, and its user waits since the first try
		}
		a.written.Add(1)
		a.mu.Lock()
		a.longest = max(a.longest, time.Since(from))
		a.mu.Unlock()
		from = time.Time{}
		rest(ctx, a.pause)
	}
}

func one(ctx context.Context, db *sql.DB, of day, rng *rand.Rand) error {
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := of(ctx, tx, rng); err != nil {
		_ = tx.Rollback()
		return err
	}
	return tx.Commit()
}

// What servers say of a write that has to move, and of one that met another.
const (
	movedState  = "25006"
	metState    = "40001"
	movedNumber = 1290
	metNumber   = 1213
	heldNumber  = 1205
)

func (a *App) note(ctx context.Context, err error) {
	if ctx.Err() != nil {
		return
	}
	var pe *pgconn.PgError
	var me *mysql.MySQLError
	switch {
	case errors.As(err, &pe) && pe.Code == movedState, errors.As(err, &me) && me.Number == movedNumber:
		a.refused.Add(1)
	case errors.As(err, &pe) && pe.Code == metState, errors.As(err, &me) &&
		(me.Number == metNumber || me.Number == heldNumber):
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

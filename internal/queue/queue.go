// Package queue wakes processes up when there is work, through a job queue in
// the control database. A job is never the truth about anything: chunks, lanes
// and tasks are rows with a lease and an epoch, and a job only says "look".
package queue

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
)

const (
	lanes = "lanes"
	tasks = "tasks"
)

// LaneArgs asks a worker to carry chunks of a crossing.
type LaneArgs struct {
	Crossing int64 `json:"crossing"`
	Lane     int64 `json:"lane"`
}

// Kind names the job.
func (LaneArgs) Kind() string { return "lane" }

// TaskArgs asks a worker to look at a task.
type TaskArgs struct {
	Task int64 `json:"task"`
}

// Kind names the job.
func (TaskArgs) Kind() string { return "task" }

// Work is what the jobs do.
type Work interface {
	RunLane(ctx context.Context, crossing, lane int64) error
	RunTask(ctx context.Context, task int64) error
}

// Config says how many jobs this process takes at a time.
type Config struct {
	Name   string   // the worker's name, unique
	Labels []string // lanes that ask for one of them come here too
	Lanes  int
	Tasks  int
	Log    *slog.Logger
}

// Queue is this process's end of the job queue.
type Queue struct {
	client  *river.Client[pgx.Tx]
	pool    *pgxpool.Pool
	workers *river.Workers
}

// Migrate brings the queue's own tables up to date.
func Migrate(ctx context.Context, pool *pgxpool.Pool) error {
	m, err := rivermigrate.New(riverpgxv5.New(pool), nil)
	if err != nil {
		return err
	}
	// Several processes may start at once; one of them migrates. The steps commit
	// one by one, so the lock is held by another session.
	return pgx.BeginFunc(ctx, pool, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(7262819)`); err != nil {
			return err
		}
		_, err := m.Migrate(ctx, rivermigrate.DirectionUp, nil)
		return err
	})
}

// UpToDate reports whether the queue's own tables are those that this program needs.
func UpToDate(ctx context.Context, pool *pgxpool.Pool) (bool, error) {
	m, err := rivermigrate.New(riverpgxv5.New(pool), nil)
	if err != nil {
		return false, err
	}
	r, err := m.Validate(ctx, nil)
	if err != nil {
		return false, fmt.Errorf("looking at the job queue's schema: %w", err)
	}
	return r.OK, nil
}

// New returns a queue; nothing runs before Start.
func New(pool *pgxpool.Pool, c Config) (*Queue, error) {
	q := &Queue{pool: pool, workers: river.NewWorkers()}
	var err error
	queues := map[string]river.QueueConfig{lanes: {MaxWorkers: c.Lanes}, tasks: {MaxWorkers: c.Tasks}}
	for _, label := range c.Labels {
		queues[lanesOf(label)] = river.QueueConfig{MaxWorkers: c.Lanes}
	}
	q.client, err = river.NewClient(riverpgxv5.New(pool), &river.Config{
		ID:                          c.Name,
		Queues:                      queues,
		Workers:                     q.workers,
		JobTimeout:                  -1, // lanes and tasks end by themselves or are cancelled
		CompletedJobRetentionPeriod: time.Hour,
		Logger:                      slog.New(quiet{c.Log.Handler()}),
	})
	if err != nil {
		return nil, fmt.Errorf("opening the job queue: %w", err)
	}
	return q, nil
}

// Start begins to take jobs.
func (q *Queue) Start(ctx context.Context, w Work) error {
	river.AddWorker(q.workers, river.WorkFunc(func(ctx context.Context, j *river.Job[LaneArgs]) error {
		return ended(w.RunLane(ctx, j.Args.Crossing, j.Args.Lane))
	}))
	river.AddWorker(q.workers, river.WorkFunc(func(ctx context.Context, j *river.Job[TaskArgs]) error {
		return ended(w.RunTask(ctx, j.Args.Task))
	}))
	return q.client.Start(ctx)
}

// ended makes the queue forget a job whatever came of it: what has to be tried
// again stands in the ledger, not here.
func ended(err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return nil
	}
	return river.JobCancel(err)
}

// Stop cancels this process's jobs and waits for them to give back what they
// hold.
func (q *Queue) Stop(ctx context.Context) error { return q.client.StopAndCancel(ctx) }

// In runs f in a transaction of the control database.
func (q *Queue) In(ctx context.Context, f func(tx pgx.Tx) error) error {
	return pgx.BeginFunc(ctx, q.pool, f)
}

// lanesOf is where lanes wait that ask for a label.
func lanesOf(label string) string {
	if label == "" {
		return lanes
	}
	return lanes + "-" + label
}

// AddLane adds a lane's job inside the transaction, for workers with the label, or for
// any.
func (q *Queue) AddLane(ctx context.Context, tx pgx.Tx, crossing, lane int64, label string) (int64, error) {
	r, err := q.client.InsertTx(ctx, tx, LaneArgs{crossing, lane}, &river.InsertOpts{Queue: lanesOf(label),
		MaxAttempts: 1})
	if err != nil {
		return 0, err
	}
	return r.Job.ID, nil
}

// AddTask adds a task's job inside the transaction.
func (q *Queue) AddTask(ctx context.Context, tx pgx.Tx, task int64) error {
	_, err := q.client.InsertTx(ctx, tx, TaskArgs{task}, &river.InsertOpts{Queue: tasks, MaxAttempts: 1})
	return err
}

// Wake adds a job for a task that stands already.
func (q *Queue) Wake(ctx context.Context, task int64) error {
	return q.In(ctx, func(tx pgx.Tx) error { return q.AddTask(ctx, tx, task) })
}

// Cancel drops a job, if it is still there.
func (q *Queue) Cancel(ctx context.Context, job int64) error {
	if job == 0 {
		return nil
	}
	_, err := q.client.JobCancel(ctx, job)
	if errors.Is(err, river.ErrNotFound) {
		return nil
	}
	return err
}

// quiet lets only warnings of the queue's own housekeeping through.
type quiet struct{ slog.Handler }

func (q quiet) Enabled(_ context.Context, l slog.Level) bool { return l >= slog.LevelWarn }

// DueNow lets what is to begin later by a clock that was set back begin now.
func (q *Queue) DueNow(ctx context.Context) error {
	for _, sql := range []string{
		`UPDATE river_job SET scheduled_at = now() WHERE scheduled_at > now() AND state IN ('available', 'scheduled',
  'retryable')`,
		`DELETE FROM river_leader WHERE expires_at > now() + interval '1 minute'`,
	} {
		if _, err := q.pool.Exec(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

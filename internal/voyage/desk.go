package voyage

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/queue"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/commands"
	"dustyferry/internal/voyage/compare"
	"dustyferry/internal/voyage/cutover"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/prepare"
	"dustyferry/internal/voyage/tasks"
)

// desk takes work in: a task, its job in the queue and whatever else belongs to it come about in
// one transaction, or not at all. Comparisons that nobody asked for end where a person asks for
// something that cannot be beside them.
type desk struct {
	*tasks.Runner // ends work

	store *records.Store
	queue *queue.Queue
}

// AddTask adds a task and its job.
func (d *desk) AddTask(ctx context.Context, c *domain.Crossing, kind domain.Work, args any, actor string) (int64,
	error) {
	return d.add(ctx, c, kind, args, actor, nil)
}

func (d *desk) add(ctx context.Context, c *domain.Crossing, kind domain.Work, args any, actor string,
	with func(pgx.Tx) error) (id int64, err error) {
	if actor != journal.System && lifecycle.Beside(kind, lifecycle.WorkReconcile) == lifecycle.Refused {
		if err := d.yield(ctx, c, fmt.Sprintf("%s asked for other work: %s", actor, kind)); err != nil {
			return 0, err
		}
	}
	err = d.queue.In(ctx, func(tx pgx.Tx) error {
		if id, err = records.AddTaskTx(ctx, tx, c.ID, kind, args, actor); err != nil {
			return err
		}
		if with != nil {
			if err := with(tx); err != nil {
				return err
			}
		}
		return d.queue.AddTask(ctx, tx, id)
	})
	return id, err
}

// AddOwn adds a task that whoever adds it runs. Should this process die, the keeper has another
// one end it.
func (d *desk) AddOwn(ctx context.Context, c *domain.Crossing, kind domain.Work, actor string) (id int64, err error) {
	err = d.queue.In(ctx, func(tx pgx.Tx) error {
		id, err = records.AddTaskTx(ctx, tx, c.ID, kind, struct{}{}, actor)
		return err
	})
	return id, err
}

// Begin adds work that begins a load or repeats it.
func (d *desk) Begin(ctx context.Context, c *domain.Crossing, kind domain.Work, b commands.Beginning,
	actor string) error {
	_, err := d.add(ctx, c, kind, prepare.Args{Run: b.Run}, actor, func(tx pgx.Tx) error {
		if b.SamePlan {
			if err := records.SamePlanTx(ctx, tx, c); err != nil {
				return err
			}
		}
		if b.GoesOn {
			if err := records.GoOnTx(ctx, tx, c.ID); err != nil {
				return err
			}
		}
		if b.Run == 0 {
			return nil
		}
		mine, err := records.AskRunTx(ctx, tx, b.Run)
		if err == nil && !mine {
			err = domain.Conflict("another process has begun this run of %s", c.Name)
		}
		return err
	})
	return err
}

// AddReconciliation keeps a comparison together with the task that makes it.
func (d *desk) AddReconciliation(ctx context.Context, c *domain.Crossing, depth domain.Depth, patterns []string,
	share float64, actor string) (id int64, err error) {
	if actor != journal.System {
		if err := d.yield(ctx, c, actor+" asked for a comparison"); err != nil {
			return 0, err
		}
	}
	err = d.queue.In(ctx, func(tx pgx.Tx) error {
		if id, err = records.AddReconciliationTx(ctx, tx, c.ID, depth, patterns); err != nil {
			return err
		}
		task, err := records.AddTaskTx(ctx, tx, c.ID, lifecycle.WorkReconcile, compare.Args{Reconciliation: id, Share: share},
			actor)
		if err != nil {
			return err
		}
		return d.queue.AddTask(ctx, tx, task)
	})
	return id, err
}

// addCutover keeps a cutover together with its task.
func (d *desk) addCutover(ctx context.Context, c *domain.Crossing, rehearsal bool, set domain.Settings,
	list []domain.StepName, actor string) (id int64, err error) {
	if err := d.yield(ctx, c, "a "+cutover.Label(rehearsal)+" was asked for"); err != nil {
		return 0, err
	}
	err = d.queue.In(ctx, func(tx pgx.Tx) error {
		task, err := records.AddTaskTx(ctx, tx, c.ID, lifecycle.WorkCutover, struct{}{}, actor)
		if err != nil {
			return err
		}
		if id, err = records.AddCutoverTx(ctx, tx, c.ID, task, rehearsal, set, list, actor); err != nil {
			return err
		}
		return d.queue.AddTask(ctx, tx, task)
	})
	return id, err
}

// addLane adds a lane of a crossing, for workers with the label, or for any.
func (d *desk) addLane(ctx context.Context, crossing int64, label string) error {
	return d.queue.In(ctx, func(tx pgx.Tx) error {
		lane, err := records.AddLaneTx(ctx, tx, crossing)
		if err != nil {
			return err
		}
		job, err := d.queue.AddLane(ctx, tx, crossing, lane, label)
		if err != nil {
			return err
		}
		return records.SetLaneJobTx(ctx, tx, lane, job)
	})
}

// yield ends comparisons that nobody asked for.
func (d *desk) yield(ctx context.Context, c *domain.Crossing, why string) error {
	list, err := d.store.Tasks(ctx, c.ID)
	if err != nil {
		return err
	}
	for _, t := range list {
		if t.Kind == lifecycle.WorkReconcile && t.Actor == journal.System && t.State.Open() {
			return d.EndWork(ctx, c, []domain.Work{lifecycle.WorkReconcile}, why)
		}
	}
	return nil
}

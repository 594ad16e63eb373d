package voyage

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/follow"
	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

// A load that repeats need not read everything again: of tables whose rules name a
// watermark, a refresh reads the rows past its greatest value of the time before, less an
// overlap for writes that were under way then, and puts them in place of those with the
// same keys. The watermark moves when the rows stand, so that a refresh that dies is
// repeated from where it began, to the same effect. What was deleted is not seen: a
// comparison finds it.

// How many rows a refresh writes at once.
const (
	refreshRows  = 5000
	refreshBytes = 8 << 20
)

// StartRefresh begins a refresh: of all tables that have a watermark; others are loaded
// anew.
func (v *Voyage) StartRefresh(ctx context.Context, c *domain.Crossing, confirm, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Refresh, c); err != nil {
		return err
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(tables, func(t domain.CrossingTable) bool { return t.Plan.Watermark != "" }) {
		return domain.Conflict("no table of %s has a watermark: name one in its rules before it starts, or use 'dustyferry "+
			"crossing restart' to load it anew", c.Name)
	}
	if slices.ContainsFunc(tables, func(t domain.CrossingTable) bool { return t.Plan.Watermark == "" }) &&
		confirm != c.Target {
		if repeatsInPlace(c) {
			return domain.Invalid("a refresh of %s replaces all rows of those of its tables on %s that have no watermark; "+
				"confirm it by giving the target's name, %s", c.Name, c.Target, c.Target)
		}
		return domain.Invalid("a refresh of %s empties those of its tables on %s that have no watermark, and loads them "+
			"again; confirm it by giving the target's name, %s", c.Name, c.Target, c.Target)
	}
	return v.refreshAs(ctx, c, 0, actor)
}

// refreshAs begins a refresh; run is the due run that asked for it, or 0.
func (v *Voyage) refreshAs(ctx context.Context, c *domain.Crossing, run int64, actor string) error {
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := refreshable(c, tables); err != nil {
		return err
	}
	_, err = v.addTask(ctx, c, TaskRefresh, BeginArgs{run}, actor, func(tx pgx.Tx) error {
		if run == 0 {
			return nil
		}
		return goOn(ctx, tx, c, run)
	})
	if err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "refresh", "%s began a refresh of %s", actor, c.Name)
	return nil
}

// refreshable refuses a refresh of which a part cannot be done, before any of it is:
// tables without a watermark are loaded anew, and with them those that refer to them.
func refreshable(c *domain.Crossing, tables []domain.CrossingTable) error {
	for i := range tables {
		if tables[i].Plan.Watermark != "" {
			continue
		}
		for _, t := range withDependents(tables, tables[i].Plan.Source) {
			if err := keeps(c, tables, t.SourceName); err != nil {
				return domain.Conflict("a refresh of %s loads %s anew, and that cannot be: %s", c.Name, tables[i].SourceName, err)
			}
		}
	}
	return nil
}

func (v *Voyage) refresh(ctx context.Context, c *domain.Crossing, t *domain.Task, note func(string)) error {
	var a BeginArgs
	if err := json.Unmarshal(t.Args, &a); err != nil {
		return err
	}
	if err := v.Store.BeginRun(ctx, c.ID, a.Run, t.Actor, false); err != nil {
		return err
	}
	err := v.refreshed(ctx, c, t, note)
	if err != nil && ctx.Err() == nil && !errors.Is(context.Cause(ctx), domain.ErrTakenOver) {
		if kept := v.Store.EndRun(ctx, c.ID, "failed", err.Error()); kept != nil {
			return fmt.Errorf("%w (and how the run ended could not be kept: %w)", err, kept)
		}
	}
	return err
}

func (v *Voyage) refreshed(ctx context.Context, c *domain.Crossing, t *domain.Task, note func(string)) error {
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := refreshable(c, tables); err != nil {
		return err
	}
	done, err := v.refreshTables(ctx, c, t, note)
	if err != nil {
		return err
	}
	text := fmt.Sprintf("%s past the watermarks of %s", domain.Many(done.rows, "row"), domain.Counted(done.tables, "table",
		"tables"))
	if err := v.Store.EndRefresh(ctx, c.ID, done.tables, done.rows, done.bytes, text, len(done.others) == 0); err != nil {
		return err
	}
	v.Say(ctx, "info", System, c.Name, "", "refresh", "%s refreshed: %s", c.Name, text)
	if len(done.others) == 0 {
		v.Notify(ctx, c, journal.EventInStep, fmt.Sprintf("%s is refreshed: %s", c.Name, text))
	}
	for _, name := range done.others {
		if err := v.restartTable(ctx, c, tables, name, t.Actor); err != nil {
			return fmt.Errorf("%s has no watermark and could not be loaded anew: %w", name, err)
		}
	}
	return nil
}

// refreshDone is what a refresh has done.
type refreshDone struct {
	tables      int
	rows, bytes int64
	others      []string // tables without a watermark
}

func (v *Voyage) refreshTables(ctx context.Context, c *domain.Crossing, t *domain.Task,
	note func(string)) (refreshDone, error) {
	var done refreshDone
	src, dst, err := v.OpenPair(ctx, c)
	if err != nil {
		return done, err
	}
	if err := dst.Need(c.Target, engine.CanApply); err != nil {
		return done, err
	}
	if err := v.SameSource(ctx, c, src); err != nil {
		return done, err
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return done, err
	}
	from, err := v.Store.Database(ctx, c.Source)
	if err != nil {
		return done, err
	}
	// Tasks come one after the other, and each has claims of its own: together they are
	// an epoch that only grows, so that a refresh which was taken over can write nothing.
	epoch := t.ID<<20 | t.Epoch
	if _, err := dst.TakeStream(ctx, c.UID, epoch, 0); err != nil {
		return done, err
	}
	origin, err := src.Origin(ctx)
	if err != nil {
		return done, err
	}
	apply, err := dst.OpenApplier(ctx, c.UID, origin, epoch)
	if err != nil {
		return done, err
	}
	defer apply.Close()
	defer apply.Abort()
	for i := range tables {
		table := &tables[i]
		if table.Plan.Watermark == "" {
			done.others = append(done.others, table.SourceName)
			continue
		}
		note(fmt.Sprintf("reading %s past %s", table.SourceName, table.Watermark))
		r := &refresher{v: v, ctx: ctx, c: c, apply: apply, plan: &table.Plan, there: table.Plan.TargetPlan(),
			began: time.Now()}
		for {
			err := r.table(src, from.Engine, table)
			if err == nil {
				break
			}
			if !errors.Is(err, errPaused) {
				return done, fmt.Errorf("%s: %w", table.SourceName, err)
			}
			// The read was ended, so that the source need not keep a snapshot for it; the rows
			// that stand already are put once more.
			note(fmt.Sprintf("paused; %s is read again from where it began", table.SourceName))
			if err := r.unpaused(); err != nil {
				return done, err
			}
			note(fmt.Sprintf("reading %s past %s", table.SourceName, table.Watermark))
		}
		done.tables++
		done.rows += r.rows
		done.bytes += r.bytes
	}
	return done, nil
}

// refresher reads and writes one table.
type refresher struct {
	v           *Voyage
	ctx         context.Context
	c           *domain.Crossing
	apply       engine.Applier
	plan        *domain.TablePlan
	there       domain.TablePlan
	began       time.Time
	batch       []domain.Row
	size        int
	rows, bytes int64
}

var errPaused = errors.New("the crossing is paused")

// unpaused waits until the crossing goes on.
func (r *refresher) unpaused() error {
	for {
		now, err := r.v.Store.CrossingByID(r.ctx, r.c.ID)
		if err != nil || now.Condition != domain.ConditionPaused {
			return err
		}
		if !waits.Sleep(r.ctx, time.Second) {
			return r.ctx.Err()
		}
	}
}

func (r *refresher) table(src *engine.Opened, from string, t *domain.CrossingTable) error {
	r.batch, r.size, r.rows, r.bytes = nil, 0, 0, 0
	// Read first: rows written from now on are past it the next time.
	next, err := src.Greatest(r.ctx, r.plan, r.plan.Watermark)
	if err != nil {
		return err
	}
	past := *r.plan
	if t.Watermark != "" {
		past.Where = typemap.Past(from, r.plan, t.Watermark)
		if r.plan.Where != "" {
			past.Where += " AND (" + r.plan.Where + ")"
		}
	}
	reader, err := src.OpenReader(r.ctx)
	if err != nil {
		return err
	}
	defer reader.Close()
	if _, err := reader.Begin(r.ctx); err != nil {
		return err
	}
	if err := reader.Rows(r.ctx, &past, &domain.Chunk{}, r.take); err != nil {
		return err
	}
	if err := r.flush(); err != nil {
		return err
	}
	if err := reader.End(r.ctx); err != nil {
		return err
	}
	if next == "" {
		return nil
	}
	return r.v.Store.SetWatermark(r.ctx, t.ID, next)
}

func (r *refresher) take(fields [][]byte, refused error) error {
	if refused != nil {
		return refused
	}
	row := engine.TextRow(fields)
	for _, f := range fields {
		r.size += len(f)
	}
	r.batch = append(r.batch, row)
	if len(r.batch) < refreshRows && r.size < refreshBytes {
		return nil
	}
	return r.flush()
}

// flush puts the rows at hand in place of those with the same keys.
func (r *refresher) flush() error {
	if len(r.batch) == 0 {
		return nil
	}
	now, err := r.v.Store.CrossingByID(r.ctx, r.c.ID)
	if err != nil {
		return err
	}
	if now.Condition == domain.ConditionPaused {
		return errPaused
	}
	if err := r.apply.Begin(r.ctx); err != nil {
		return err
	}
	if _, err := r.apply.Apply(r.ctx, &r.there, fold.Net{Puts: r.batch}, follow.Replaces(r.plan)); err != nil {
		return err
	}
	if err := r.apply.Commit(r.ctx, 0, "", time.Now().UnixMilli()); err != nil {
		return err
	}
	r.rows += int64(len(r.batch))
	r.bytes += int64(r.size)
	r.batch, r.size = nil, 0
	return r.hold(now.Settings)
}

// hold keeps the limits of speed that the crossing has now.
func (r *refresher) hold(set domain.Settings) error {
	var least time.Duration
	if set.SpeedLimit > 0 {
		least = time.Duration(float64(r.bytes) / float64(set.SpeedLimit) * float64(time.Second))
	}
	if set.RowLimit > 0 {
		least = max(least, time.Duration(float64(r.rows)/float64(set.RowLimit)*float64(time.Second)))
	}
	if ahead := least - time.Since(r.began); ahead > 0 && !waits.Sleep(r.ctx, ahead) {
		return r.ctx.Err()
	}
	return nil
}

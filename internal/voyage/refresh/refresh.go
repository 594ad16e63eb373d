// Package refresh repeats a load without reading everything again: of tables whose rules name a
// watermark it reads the rows past its greatest value of the time before, less an overlap for
// writes that were under way then, and puts them in place of those with the same keys. The
// watermark moves when the rows stand, so that a refresh that dies is repeated from where it
// began, to the same effect. What was deleted is not seen: a comparison finds it.
package refresh

import (
	"context"
	"errors"
	"fmt"
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/follow"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/waits"
)

// Records are what is kept of a crossing's tables and runs.
type Records interface {
	CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
	Database(ctx context.Context, name string) (domain.Database, error)
	Tables(ctx context.Context, crossing int64) ([]domain.CrossingTable, error)
	SetWatermark(ctx context.Context, table int64, mark string) error
	BeginRun(ctx context.Context, crossing, run int64, by string, anew bool) error
	EndRun(ctx context.Context, crossing int64, state domain.RunState, cause string) error
	// EndRefresh keeps what a refresh brought; over: nothing is to follow.
	EndRefresh(ctx context.Context, crossing int64, tables int, rows, bytes int64, note string, over bool) error
}

// Databases opens registered databases.
type Databases interface {
	OpenPair(ctx context.Context, c *domain.Crossing) (source, target *engine.Opened, err error)
	// SameSource is an error when another server answers at the source's address than the one
	// that the crossing began with.
	SameSource(ctx context.Context, c *domain.Crossing, source *engine.Opened) error
}

// Journal records what happens, and tells of it.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
	Notify(ctx context.Context, c *domain.Crossing, event, message string)
}

// Restart has a table, which has no watermark, loaded again.
type Restart func(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable, table, actor string) error

// Refreshes repeats loads.
type Refreshes struct {
	records   Records
	databases Databases
	journal   Journal
	restart   Restart
}

// New returns the refreshes of this process.
func New(r Records, d Databases, j Journal, restart Restart) *Refreshes {
	return &Refreshes{records: r, databases: d, journal: j, restart: restart}
}

// How many rows a refresh writes at once.
const (
	refreshRows  = 5000
	refreshBytes = 8 << 20
)

// Check refuses a refresh of which a part cannot be done, before any of it is:
// tables without a watermark are loaded anew, and with them those that refer to them.
func Check(c *domain.Crossing, tables []domain.CrossingTable) error {
	for i := range tables {
		if tables[i].Plan.Watermark != "" {
			continue
		}
		for _, t := range planning.WithDependents(tables, tables[i].Plan.Source) {
			if err := planning.CheckKeptRows(c, tables, t.SourceName); err != nil {
				return domain.Conflict("a refresh of %s loads %s anew, and that cannot be: %s", c.Name, tables[i].SourceName, err)
			}
		}
	}
	return nil
}

// Run carries a refresh out; run is the due run that asked for it, or 0.
func (f *Refreshes) Run(ctx context.Context, c *domain.Crossing, t *domain.Task, run int64, note func(string)) error {
	if err := f.records.BeginRun(ctx, c.ID, run, t.Actor, false); err != nil {
		return err
	}
	err := f.refreshed(ctx, c, t, note)
	if err != nil && ctx.Err() == nil && !errors.Is(context.Cause(ctx), domain.ErrTakenOver) {
		if kept := f.records.EndRun(ctx, c.ID, domain.RunFailed, err.Error()); kept != nil {
			return fmt.Errorf("%w (and how the run ended could not be kept: %w)", err, kept)
		}
	}
	return err
}

func (f *Refreshes) refreshed(ctx context.Context, c *domain.Crossing, t *domain.Task, note func(string)) error {
	tables, err := f.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := Check(c, tables); err != nil {
		return err
	}
	done, err := f.refreshTables(ctx, c, t, note)
	if err != nil {
		return err
	}
	text := fmt.Sprintf("%s past the watermarks of %s", domain.Many(done.rows, "row"), domain.Counted(done.tables, "table",
		"tables"))
	if err := f.records.EndRefresh(ctx, c.ID, done.tables, done.rows, done.bytes, text,
		len(done.others) == 0); err != nil {
		return err
	}
	f.journal.Recordf(ctx, "info", journal.System, c.Name, "", "refresh", "%s refreshed: %s", c.Name, text)
	if len(done.others) == 0 {
		f.journal.Notify(ctx, c, journal.EventInStep, fmt.Sprintf("%s is refreshed: %s", c.Name, text))
	}
	for _, name := range done.others {
		if err := f.restart(ctx, c, tables, name, t.Actor); err != nil {
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

func (f *Refreshes) refreshTables(ctx context.Context, c *domain.Crossing, t *domain.Task,
	note func(string)) (refreshDone, error) {
	var done refreshDone
	src, dst, err := f.databases.OpenPair(ctx, c)
	if err != nil {
		return done, err
	}
	if err := dst.Need(c.Target, engine.CanApply); err != nil {
		return done, err
	}
	if err := f.databases.SameSource(ctx, c, src); err != nil {
		return done, err
	}
	tables, err := f.records.Tables(ctx, c.ID)
	if err != nil {
		return done, err
	}
	from, err := f.records.Database(ctx, c.Source)
	if err != nil {
		return done, err
	}
	// Tasks come one after the other, and each has claims of its own: together they are
	// an epoch that only grows, so that a refresh which was taken over can write nothing.
	epoch := t.ID<<20 | t.Epoch
	if _, err := dst.TakeStream(ctx, c.UID, epoch, domain.Position{}); err != nil {
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
		r := &refresher{of: f, ctx: ctx, c: c, apply: apply, plan: &table.Plan, there: table.Plan.TargetPlan(),
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
	of          *Refreshes
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
		now, err := r.of.records.CrossingByID(r.ctx, r.c.ID)
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
	return r.of.records.SetWatermark(r.ctx, t.ID, next)
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
	now, err := r.of.records.CrossingByID(r.ctx, r.c.ID)
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
	if err := r.apply.Commit(r.ctx, domain.Position{}, "", time.Now().UnixMilli()); err != nil {
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

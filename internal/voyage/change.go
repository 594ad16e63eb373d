package voyage

import (
	"context"
	"fmt"
	"slices"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/waits"
)

// AddArgs are the arguments of a [TaskAdd].
type AddArgs struct {
	Table string `json:"table"`
}

// StartAdd begins to add a table to a crossing under way.
func (v *Voyage) StartAdd(ctx context.Context, c *domain.Crossing, table, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.AddTable, c); err != nil {
		return err
	}
	if c.Kind == domain.KindCapture {
		return domain.Conflict("crossing %s only follows changes and loads no rows; make a crossing for %s that copies rows",
			c.Name, table)
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(tables, func(t domain.CrossingTable) bool {
		return t.SourceName == table && t.Reason != records.BeingAdded
	}) {
		return domain.Conflict("table %s belongs to %s already", table, c.Name)
	}
	cat, err := v.Catalog(ctx, c.Source, true)
	if err != nil {
		return err
	}
	name, err := domain.ParseTableName(table)
	if err != nil {
		return err
	}
	if cat.Table(name) == nil {
		return noSuchTable(c, table)
	}
	if _, err := v.AddTask(ctx, c, TaskAdd, AddArgs{table}, actor); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, table, "change", "%s adds %s to %s", actor, table, c.Name)
	return nil
}

func noSuchTable(c *domain.Crossing, table string) error {
	return domain.NotFound("the source has no table %s; 'dustyferry database show %s' lists its tables", table, c.Source)
}

// addTable adds a table while the others go on. Its changes are captured, and whoever
// follows the crossing knows of it, before its first chunk can be read. Every part can
// be repeated.
func (v *Voyage) addTable(ctx context.Context, c *domain.Crossing, a AddArgs, note func(string)) error {
	note("surveying " + a.Table)
	name, err := domain.ParseTableName(a.Table)
	if err != nil {
		return err
	}
	choose := func(patterns []string, plan *domain.Planning) []string {
		return domain.Choose(patterns, plan.Queries, name)
	}
	wider := *c
	wider.Patterns = choose(c.Patterns, &wider.Planning)
	s, types, err := v.Planning.Plan(ctx, &wider)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(s.Plans, func(p domain.TablePlan) bool { return p.Source.String() == a.Table })
	if at < 0 {
		return noSuchTable(c, a.Table)
	}
	plan := s.Plans[at]
	one := []domain.TablePlan{plan}
	from, err := s.Source.SurveySource(ctx, one, c.Kind != domain.KindLoad)
	if err != nil {
		return err
	}
	to, err := s.Target.SurveyTarget(ctx, s.Catalog, planning.OnTarget(one), c.Settings)
	if err != nil {
		return err
	}
	for _, e := range types { // what is said of its columns
		if e.Subject == a.Table || e.Subject == plan.Target.String() {
			to = append(to, e)
		}
	}
	if block := domain.Blocking(append(from, to...), "dustyferry survey "+c.Name); block != "" {
		return domain.Conflict("the survey of %s found what blocks: %s", a.Table, block)
	}
	for _, p := range s.Plans {
		if p.Source == plan.Source && len(p.After) > 0 || slices.Contains(p.After, plan.Source) {
			return domain.Conflict("%s cannot be added alone: rows of it go with rows of other tables, or take others along "+
				"(%s), which the source does not log; restart %s with it chosen", a.Table, p.Source, c.Name)
		}
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	known := slices.IndexFunc(tables, func(t domain.CrossingTable) bool { return t.SourceName == a.Table })
	if known >= 0 && tables[known].Reason != records.BeingAdded {
		return nil // a process before us had done it
	}
	note("making " + plan.Target.String())
	narrow := *s
	narrow.Plans = one
	bare := *c
	bare.Planning = domain.Planning{}
	list, err := v.Planning.Objects(ctx, &bare, &narrow)
	if err != nil {
		return err
	}
	everything := append(planning.PlansOf(tables), one...)
	// foreign keys from and to it
	list = append(list, planning.Deferred(s.Target, planning.CatalogOnTarget(s.Catalog, everything), everything)...)
	if err := v.Store.SaveObjects(ctx, c.ID, list, domain.Listing{Adds: true}); err != nil {
		return err
	}
	if err := v.makeTables(ctx, c, s, one); err != nil {
		return err
	}
	if c.Kind != domain.KindLoad {
		if _, err := v.makeCapture(ctx, c, s.Source, everything); err != nil {
			return err
		}
	}
	var t domain.CrossingTable
	if known >= 0 {
		t = tables[known]
	} else {
		if err := v.Store.EditPlan(ctx, c.ID, choose); err != nil {
			return err
		}
		if t, err = v.Store.AddTable(ctx, c, plan, s.Catalog); err != nil {
			return err
		}
	}
	note("cutting " + a.Table + " into chunks")
	n, err := v.cut(ctx, c, &t)
	if err != nil {
		return err
	}
	if c.Kind != domain.KindLoad {
		note("waiting until capture knows of " + a.Table)
		kicked, err := v.restartStream(ctx, c)
		if err != nil {
			return err
		}
		if err := v.awaitFollower(ctx, c, kicked); err != nil {
			return err
		}
	}
	if err := v.Store.ReleaseTable(ctx, t.ID); err != nil {
		return err
	}
	v.Say(ctx, "info", System, c.Name, a.Table, "change", "%s belongs to %s now and is loaded, in %s", a.Table, c.Name,
		domain.Counted(n, "chunk", "chunks"))
	return v.enqueueLanes(ctx)
}

// unadd takes a table out again whose adding ended before its time. What was made of it on
// the target stays there, empty.
func (v *Voyage) unadd(ctx context.Context, c *domain.Crossing, a AddArgs) error {
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(tables, func(t domain.CrossingTable) bool {
		return t.SourceName == a.Table && t.Reason == records.BeingAdded
	})
	if at < 0 {
		return nil
	}
	return v.dropTable(ctx, c, tables, at)
}

// awaitFollower waits until somebody follows the crossing who took it up after it was
// kicked, and has read its tables therefore.
func (v *Voyage) awaitFollower(ctx context.Context, c *domain.Crossing, kicked int64) error {
	for end := time.Now().Add(time.Minute); time.Now().Before(end); {
		st, err := v.Store.Stream(ctx, c.ID)
		if err != nil || st == nil {
			return err
		}
		// A follower reports that it has opened the log, which is after it has read the tables.
		if st.Epoch > kicked && st.Live && st.Reading {
			return nil
		}
		if st.Failures < 0 { // whoever took it up has said what is in its way
			now, err := v.Store.CrossingByID(ctx, c.ID)
			if err != nil {
				return err
			}
			if now.Condition == domain.ConditionHeld {
				return domain.Conflict("%s. When that is fixed, add the table again", now.Reason)
			}
		}
		if !waits.Sleep(ctx, 200*time.Millisecond) {
			return ctx.Err()
		}
	}
	return domain.Conflict("nobody follows the changes of %s yet; see why, and add the table again", c.Name)
}

// LeaveOut takes a table out of a crossing under way. What has landed of it stays on
// the target, and is followed no more.
func (v *Voyage) LeaveOut(ctx context.Context, c *domain.Crossing, table, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.LeaveOut, c); err != nil {
		return err
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(tables, func(t domain.CrossingTable) bool { return t.SourceName == table })
	switch {
	case at < 0:
		return domain.NotFound("crossing %s has no table %s; 'dustyferry crossing show %s' lists its tables", c.Name, table,
			c.Name)
	case len(tables) == 1:
		return domain.Conflict("%s is the only table of %s; close the crossing instead", table, c.Name)
	}
	t := &tables[at]
	for i := range tables {
		if o := &tables[i]; i != at && slices.ContainsFunc(o.Plan.After, func(n domain.TableName) bool {
			return n == t.Plan.Source
		}) {
			return domain.Conflict("%s cannot be left out alone: rows of %s go with its rows on the source, which is followed "+
				"by way of it; leave that one out first", table, o.SourceName)
		}
	}
	if err := v.Store.NotBusy(ctx, c.ID, c.Name, TaskPrepare, TaskRestart, TaskRefresh, TaskCutover,
		TaskClose); err != nil {
		return err
	}
	if err := v.dropTable(ctx, c, tables, at); err != nil {
		return err
	}
	v.Say(ctx, "warning", actor, c.Name, table, "change", "%s left %s out of %s; %s of it stay in %s on %s as they are",
		actor, table, c.Name, domain.Many(t.RowsLanded, "row"), t.TargetName, c.Target)
	return nil
}

// dropTable stops a table's chunks, fences the target from them, and takes the table out of
// the plan and the records.
func (v *Voyage) dropTable(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable, at int) error {
	t := &tables[at]
	dst, err := v.Open(ctx, c.Target)
	if err != nil {
		return err
	}
	if err := v.Store.StopTable(ctx, t.ID, records.BeingLeftOut); err != nil {
		return err
	}
	if err := v.fenceTable(ctx, dst, c, t.ID); err != nil {
		return fmt.Errorf("the table is stopped, but not yet left out; try again: %w", err)
	}
	rest := slices.Delete(slices.Clone(tables), at, at+1)
	cat, err := v.Store.CatalogOf(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := v.Store.EditPlan(ctx, c.ID, func(patterns []string, plan *domain.Planning) []string {
		return domain.Unchoose(patterns, plan, t.Plan.Source)
	}); err != nil {
		return err
	}
	if err := v.Store.DropTable(ctx, c.ID, t, planning.Deferred(dst, cat, planning.PlansOf(rest))); err != nil {
		return err
	}

	_, err = v.restartStream(ctx, c)
	return err
}

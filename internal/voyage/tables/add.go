package tables

import (
	"context"
	"fmt"
	"slices"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/waits"
)

// Args are the arguments of a task that adds a table.
type Args struct {
	Table string `json:"table"`
}

// Add adds a table while the others go on. Its changes are captured, and whoever
// follows the crossing knows of it, before its first chunk can be read. Every part can
// be repeated.
func (ts *Tables) Add(ctx context.Context, c *domain.Crossing, a Args, note func(string)) error {
	note("surveying " + a.Table)
	name, err := domain.ParseTableName(a.Table)
	if err != nil {
		return err
	}
	choose := func(patterns []string, plan *domain.Planning) []string {
		return domain.Choose(patterns, plan.Queries, name)
	}
	s, plan, err := ts.survey(ctx, c, a.Table, choose)
	if err != nil {
		return err
	}
	tables, err := ts.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	known := slices.IndexFunc(tables, func(t domain.CrossingTable) bool { return t.SourceName == a.Table })
	if known >= 0 && tables[known].Reason != domain.BeingAdded {
		return nil // a process before us had done it
	}
	note("making " + plan.Target.String())
	if err := ts.make(ctx, c, s, plan, planning.PlansOf(tables)); err != nil {
		return err
	}
	var t domain.CrossingTable
	if known >= 0 {
		t = tables[known]
	} else {
		if err := ts.records.EditPlan(ctx, c.ID, choose); err != nil {
			return err
		}
		if t, err = ts.records.AddTable(ctx, c, plan, s.Catalog); err != nil {
			return err
		}
	}
	note("cutting " + a.Table + " into chunks")
	n, err := ts.prepare.Cut(ctx, c, &t)
	if err != nil {
		return err
	}
	if c.Kind != domain.KindLoad {
		note("waiting until capture knows of " + a.Table)
		kicked, err := ts.restartStream(ctx, c)
		if err != nil {
			return err
		}
		if err := ts.awaitFollower(ctx, c, kicked); err != nil {
			return err
		}
	}
	if err := ts.records.ReleaseTable(ctx, t.ID); err != nil {
		return err
	}
	ts.journal.Recordf(ctx, "info", journal.System, c.Name, a.Table, "change", "%s belongs to %s now and is loaded, in %s",
		a.Table, c.Name, domain.Counted(n, "chunk", "chunks"))
	return ts.set.Lanes(ctx)
}

// survey plans the crossing as if the table had been chosen, and says what keeps it from being added.
func (ts *Tables) survey(ctx context.Context, c *domain.Crossing, table string,
	choose func([]string, *domain.Planning) []string) (s *planning.Surveyed, plan domain.TablePlan, err error) {
	wider := *c
	wider.Patterns = choose(c.Patterns, &wider.Planning)
	s, types, err := ts.planner.Plan(ctx, &wider)
	if err != nil {
		return nil, plan, err
	}
	at := slices.IndexFunc(s.Plans, func(p domain.TablePlan) bool { return p.Source.String() == table })
	if at < 0 {
		return nil, plan, NoSuchTable(c, table)
	}
	plan = s.Plans[at]
	one := []domain.TablePlan{plan}
	from, err := s.Source.SurveySource(ctx, one, c.Kind != domain.KindLoad)
	if err != nil {
		return nil, plan, err
	}
	to, err := s.Target.SurveyTarget(ctx, s.Catalog, planning.OnTarget(one), c.Settings)
	if err != nil {
		return nil, plan, err
	}
	for _, e := range types { // what is said of its columns
		if e.Subject == table || e.Subject == plan.Target.String() {
			to = append(to, e)
		}
	}
	if block := domain.Blocking(append(from, to...), "dustyferry survey "+c.Name); block != "" {
		return nil, plan, domain.Conflict("the survey of %s found what blocks: %s", table, block)
	}
	for _, p := range s.Plans {
		if p.Source == plan.Source && len(p.After) > 0 || slices.Contains(p.After, plan.Source) {
			return nil, plan, domain.Conflict("%s cannot be added alone: rows of it go with rows of other tables, or take "+
				"others along (%s), which the source does not log; restart %s with it chosen", table, p.Source, c.Name)
		}
	}
	return s, plan, nil
}

// make makes the table on the target, and has its changes captured with those of the others.
func (ts *Tables) make(ctx context.Context, c *domain.Crossing, s *planning.Surveyed, plan domain.TablePlan,
	others []domain.TablePlan) error {
	one := []domain.TablePlan{plan}
	narrow, bare := *s, *c
	narrow.Plans, bare.Planning = one, domain.Planning{}
	list, err := ts.planner.Objects(ctx, &bare, &narrow)
	if err != nil {
		return err
	}
	everything := append(others, plan)
	// foreign keys from and to it
	list = append(list, planning.Deferred(s.Target, planning.CatalogOnTarget(s.Catalog, everything), everything)...)
	if err := ts.records.SaveObjects(ctx, c.ID, list, domain.Listing{Adds: true}); err != nil {
		return err
	}
	if err := ts.prepare.MakeTables(ctx, c, s, one); err != nil {
		return err
	}
	if c.Kind == domain.KindLoad {
		return nil
	}
	_, err = ts.prepare.MakeCapture(ctx, c, s.Source, everything)
	return err
}

// TakeBack takes a table out again whose adding ended before its time. What was made of it on
// the target stays there, empty.
func (ts *Tables) TakeBack(ctx context.Context, c *domain.Crossing, a Args) error {
	tables, err := ts.records.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(tables, func(t domain.CrossingTable) bool {
		return t.SourceName == a.Table && t.Reason == domain.BeingAdded
	})
	if at < 0 {
		return nil
	}
	return ts.Drop(ctx, c, tables, at)
}

// awaitFollower waits until somebody follows the crossing who took it up after it was
// kicked, and has read its tables therefore.
func (ts *Tables) awaitFollower(ctx context.Context, c *domain.Crossing, kicked int64) error {
	for end := time.Now().Add(time.Minute); time.Now().Before(end); {
		st, err := ts.records.Stand(ctx, c.ID)
		if err != nil || st == nil {
			return err
		}
		// A follower reports that it has opened the log, which is after it has read the tables.
		if st.Epoch > kicked && st.Live && st.Reading {
			return nil
		}
		if st.Failures < 0 { // whoever took it up has said what is in its way
			now, err := ts.records.CrossingByID(ctx, c.ID)
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

// Drop stops a table's chunks, fences the target from them, and takes the table out of
// the plan and the records.
func (ts *Tables) Drop(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable, at int) error {
	t := &tables[at]
	dst, err := ts.databases.Open(ctx, c.Target)
	if err != nil {
		return err
	}
	if err := ts.records.StopTable(ctx, t.ID, domain.BeingLeftOut); err != nil {
		return err
	}
	if err := ts.prepare.Fence(ctx, dst, c, t.ID); err != nil {
		return fmt.Errorf("the table is stopped, but not yet left out; try again: %w", err)
	}
	rest := slices.Delete(slices.Clone(tables), at, at+1)
	cat, err := ts.records.CatalogOf(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := ts.records.EditPlan(ctx, c.ID, func(patterns []string, plan *domain.Planning) []string {
		return domain.Unchoose(patterns, plan, t.Plan.Source)
	}); err != nil {
		return err
	}
	if err := ts.records.DropTable(ctx, c.ID, t, planning.Deferred(dst, cat, planning.PlansOf(rest))); err != nil {
		return err
	}

	_, err = ts.restartStream(ctx, c)
	return err
}

// NoSuchTable says that the source has no such table.
func NoSuchTable(c *domain.Crossing, table string) error {
	return domain.NotFound("the source has no table %s; 'dustyferry database show %s' lists its tables", table, c.Source)
}

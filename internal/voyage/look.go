package voyage

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dustyferry/internal/core/chunkplan"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
)

// readCatalog is a catalog with when it was read.
type readCatalog struct {
	at  time.Time
	cat *domain.Catalog
}

// catalogKept is how long browsing may see an old catalog; surveys and starts
// always read it anew.
const catalogKept = 30 * time.Second

// Catalog returns a database's catalog for browsing, read lately.
func (v *Voyage) Catalog(ctx context.Context, database string, fresh bool) (*domain.Catalog, error) {
	v.mu.Lock()
	have, ok := v.catalogs[database]
	v.mu.Unlock()
	if ok && !fresh && time.Since(have.at) < catalogKept {
		return have.cat, nil
	}
	db, err := v.Open(ctx, database)
	if err != nil {
		return nil, err
	}
	cat, err := db.Catalog(ctx)
	if err != nil {
		return nil, err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.catalogs == nil {
		v.catalogs = map[string]readCatalog{}
	}
	v.catalogs[database] = readCatalog{time.Now(), cat}
	return cat, nil
}

func tableIn(cat *domain.Catalog, database, name string) (*domain.Table, error) {
	i := slices.IndexFunc(cat.Tables, func(t domain.Table) bool { return t.String() == name })
	if i < 0 {
		return nil, domain.NotFound("database %s has no table %s; it may have been renamed or dropped", database, name)
	}
	return &cat.Tables[i], nil
}

// Preview returns the columns and the first rows of a table.
func (v *Voyage) Preview(ctx context.Context, database, table string, limit int) (*domain.Table, [][]*string, error) {
	cat, err := v.Catalog(ctx, database, false)
	if err != nil {
		return nil, nil, err
	}
	t, err := tableIn(cat, database, table)
	if err != nil {
		return nil, nil, err
	}
	db, err := v.Open(ctx, database)
	if err != nil {
		return nil, nil, err
	}
	rows, err := db.Preview(ctx, t, limit)
	return t, rows, err
}

// Object is something made on the target, with its statement.
type Object = engine.Object

// PlannedTable is what will happen to one table, with both sides.
type PlannedTable struct {
	Plan   domain.TablePlan
	Target *domain.Table // as it stands on the target; nil when it will be made
	Chunks int           // about
	First  []Object      // made before the load
	Later  []Object      // made after it

	Noted   []typemap.Noted // what becomes of columns whose type is another there
	LeftOut []string        // columns that a rule leaves out
	Notes   []domain.Entry
}

// PlanOf plans one table of a crossing without changing anything.
func (v *Voyage) PlanOf(ctx context.Context, c *records.Crossing, table string) (PlannedTable, error) {
	var out PlannedTable
	src, dst, err := v.Both(ctx, c)
	if err != nil {
		return out, err
	}
	cat, err := v.Catalog(ctx, c.Source, false)
	if err != nil {
		return out, err
	}
	t, err := tableIn(cat, c.Source, table)
	if err != nil {
		return out, err
	}
	if out.Plan, err = src.Plan(t); err != nil {
		return out, err
	}
	way, err := v.way(ctx, c, cat)
	if err != nil {
		return out, err
	}
	rule := domain.RuleFor(c.Rules.V, out.Plan.Source)
	if out.Plan, out.Noted, err = way.Shape(out.Plan, rule); err != nil {
		return out, err
	}
	// Foreign keys are made where both of their tables are taken along.
	all, err := neighbours(way, src, cat, c, out.Plan)
	if err != nil {
		return out, err
	}
	out.Plan = all[0]
	for name, k := range rule.Columns {
		if k.LeaveOut {
			out.LeftOut = append(out.LeftOut, name)
		}
	}
	if side := out.Plan.TargetSide; side != nil {
		for _, l := range side.Table.Left {
			out.Notes = append(out.Notes, domain.Entry{Verdict: domain.ToKnow, Topic: "left out", Subject: table, Measured: l + " is not made on the target"})
		}
	}
	here, err := v.Catalog(ctx, c.Target, false)
	if err != nil {
		return out, err
	}
	out.Target = here.Table(out.Plan.Target)
	out.Chunks = 1
	if len(out.Plan.Key) > 0 && out.Plan.KeyOrder != "none" {
		out.Chunks = chunkplan.Count(t.Bytes, c.Settings.V.ChunkBytes)
	}
	there := out.Plan.OnTarget()
	if out.Target == nil {
		out.First = dst.Creates(&there)
	}
	for _, o := range dst.Deferred(cat, onTarget(all)) {
		if o.Table == out.Plan.Target {
			out.Later = append(out.Later, o)
		}
	}
	kept, err := v.Store.SurveyOf(ctx, c.ID)
	if err != nil {
		return out, err
	}
	for _, e := range kept {
		if (e.Subject == table || e.Subject == out.Plan.Target.String()) && !strings.HasPrefix(e.Topic, "column type") {
			out.Notes = append(out.Notes, e)
		}
	}
	return out, nil
}

// neighbours are a planned table and the others that its crossing takes along.
func neighbours(way typemap.Way, src engine.Database, cat *domain.Catalog, c *records.Crossing, p domain.TablePlan) ([]domain.TablePlan, error) {
	out := []domain.TablePlan{p}
	for _, t := range chosen(cat, c.Patterns.V) {
		if t.TableName == p.Source {
			continue
		}
		x, err := src.Plan(t)
		if err != nil {
			return nil, err
		}
		if x, _, err = way.Shape(x, domain.RuleFor(c.Rules.V, t.TableName)); err != nil {
			continue // told where that table is looked at
		}
		out = append(out, x)
	}
	way.Refer(out)
	return out, nil
}

// Loss is a target table whose rows are in the way.
type Loss struct {
	Table string
	Rows  int64
}

// LastLook is everything that starting a crossing will do.
type LastLook struct {
	Tables, Chunks  int
	Rows, Bytes     int64
	Create, Empty   int // target tables to be made; standing and empty
	Losses, Refused []Loss
	RowsLost        int64
	Blocks          []domain.Entry
	ToKnow          int
	LoadTime        time.Duration
	LoadTimeFrom    string
}

// LastLook surveys both sides again and counts what starting will do, and what
// will be lost on the target.
func (v *Voyage) LastLook(ctx context.Context, c *records.Crossing) (LastLook, error) {
	var out LastLook
	s, err := v.survey(ctx, c, false)
	if err != nil {
		return out, err
	}
	holds, err := s.dst.Holds(ctx, onTarget(s.plans))
	if err != nil {
		return out, err
	}
	for i := range s.plans {
		p := &s.plans[i]
		out.Tables++
		out.Rows += max(0, p.Table.Rows)
		out.Bytes += p.Table.Bytes
		if len(p.Key) > 0 && p.KeyOrder != "none" {
			out.Chunks += chunkplan.Count(p.Table.Bytes, c.Settings.V.ChunkBytes)
		} else {
			out.Chunks++
		}
		rows, stands := holds[p.Target]
		loss := Loss{p.Target.String(), rows}
		switch {
		case !stands:
			out.Create++
		case rows == 0:
			out.Empty++
		case c.Settings.V.NonEmptyTarget == "empty":
			out.Losses = append(out.Losses, loss)
			out.RowsLost += rows
		default:
			out.Refused = append(out.Refused, loss)
		}
	}
	for _, e := range s.entries {
		switch e.Verdict {
		case domain.Blocks:
			out.Blocks = append(out.Blocks, e)
		case domain.ToKnow:
			out.ToKnow++
		}
	}
	took, rate := loadTime(out.Bytes, c.Settings.V)
	out.LoadTime = took
	out.LoadTimeFrom = fmt.Sprintf("an assumed %.1f MB/s; nothing was measured yet", float64(rate)/1e6)
	return out, nil
}

package planning

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
)

func tableIn(cat *domain.Catalog, database, name string) (*domain.Table, error) {
	i := slices.IndexFunc(cat.Tables, func(t domain.Table) bool { return t.String() == name })
	if i < 0 {
		return nil, domain.NotFound("database %s has no table %s; it may have been renamed or dropped", database, name)
	}
	return &cat.Tables[i], nil
}

// Preview returns the columns and the first rows of a table.
func (pl *Planning) Preview(ctx context.Context, database, table string,
	limit int) (*domain.Table, [][]*string, error) {
	cat, err := pl.databases.Catalog(ctx, database, false)
	if err != nil {
		return nil, nil, err
	}
	t, err := tableIn(cat, database, table)
	if err != nil {
		return nil, nil, err
	}
	db, err := pl.databases.Open(ctx, database)
	if err != nil {
		return nil, nil, err
	}
	if err := db.Need(database, engine.CanRead); err != nil {
		return nil, nil, err
	}
	rows, err := db.Preview(ctx, t, limit)
	return t, rows, err
}

// PreviewPlan returns the first rows of a table or query as they will arrive: the
// target's columns, and values in its form, cut after 200 characters.
func (pl *Planning) PreviewPlan(ctx context.Context, c *domain.Crossing, table string,
	limit int) ([]domain.Column, [][]*string, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	src, err := pl.databases.Open(ctx, c.Source)
	if err != nil {
		return nil, nil, err
	}
	cat, err := pl.databases.Catalog(ctx, c.Source, false)
	if err != nil {
		return nil, nil, err
	}
	draw, err := pl.planner(ctx, c, src, cat)
	if err != nil {
		return nil, nil, err
	}
	all, _, _, err := draw.around(ctx, table)
	if err != nil {
		return nil, nil, err
	}
	p := &all[0]
	cols := p.TargetColumns()
	conv := make([]typemap.Convert, len(cols))
	for i, k := range p.CopiedColumns() {
		if p.CrossEngine {
			conv[i] = typemap.Compile(draw.way.From, draw.way.To, k, cols[i], p.Runtime)
		}
	}
	var rows [][]*string
	err = src.Scan(ctx, p, engine.Scope{First: limit}, func(fields [][]byte) error {
		row := make([]*string, len(cols))
		for i, f := range fields {
			if f == nil {
				continue
			}
			text, ok := f, true
			if conv[i] != nil {
				var err error
				if text, ok, err = conv[i](nil, f); err != nil {
					return domain.Conflict("column %s of %s cannot be carried as planned: %s", p.CopiedColumns()[i].Name, table, err)
				}
			}
			if ok {
				row[i] = shown(text)
			}
		}
		rows = append(rows, row)
		return nil
	})
	if err != nil {
		return nil, nil, theirs(err, table)
	}
	// What only the target has is the same in every row.
	there := p.TargetPlan()
	for _, k := range there.Added {
		cols = append(cols[:len(cols):len(cols)], k)
		value := strings.ReplaceAll(strings.Trim(k.Default, "'"), "''", "'")
		for i := range rows {
			rows[i] = append(rows[i], &value)
		}
	}
	return cols, rows, nil
}

// shown is a value for people: at most 200 characters of it, and one more to tell
// that there are others.
func shown(v []byte) *string {
	text := strings.ToValidUTF8(string(v[:min(len(v), 1000)]), "\ufffd")
	if r := []rune(text); len(r) > 201 {
		text = string(r[:201])
	}
	return &text
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
func (pl *Planning) PlanOf(ctx context.Context, c *domain.Crossing, table string) (PlannedTable, error) {
	var out PlannedTable
	src, dst, err := pl.databases.OpenPair(ctx, c)
	if err != nil {
		return out, err
	}
	cat, err := pl.databases.Catalog(ctx, c.Source, false)
	if err != nil {
		return out, err
	}
	draw, err := pl.planner(ctx, c, src, cat)
	if err != nil {
		return out, err
	}
	all, rule, noted, err := draw.around(ctx, table)
	if err != nil {
		return out, err
	}
	out.Plan, out.Noted = all[0], noted
	for name, k := range rule.Columns {
		if k.LeaveOut {
			out.LeftOut = append(out.LeftOut, name)
		}
	}
	if side := out.Plan.TargetSide; side != nil {
		for _, l := range side.Table.Left {
			out.Notes = append(out.Notes, domain.Entry{Verdict: domain.Notice, Topic: "left out", Subject: table,
				Measured: l + " is not made on the target"})
		}
	}
	here, err := pl.databases.Catalog(ctx, c.Target, false)
	if err != nil {
		return out, err
	}
	out.Target = here.Table(out.Plan.Target)
	out.Chunks = 1
	if out.Plan.Splittable() {
		out.Chunks = chunkplan.Count(out.Plan.Table.Bytes, ChunkAim(c.Settings))
	}
	there := out.Plan.TargetPlan()
	if out.Target == nil {
		out.First = dst.Creates(&there)
	}
	for _, o := range dst.Deferred(cat, OnTarget(all)) {
		if o.Table == out.Plan.Target {
			out.Later = append(out.Later, o)
		}
	}
	kept, err := pl.records.SurveyOf(ctx, c.ID)
	if err != nil {
		return out, err
	}
	for _, e := range kept {
		if (e.Subject == table || e.Subject == out.Plan.Target.String()) && !strings.HasPrefix(e.Topic, topicTypes) {
			out.Notes = append(out.Notes, e)
		}
	}
	return out, nil
}

// around plans a table, first, and the others that its crossing takes along:
// foreign keys are made where both of their tables are.
func (p *planner) around(ctx context.Context, table string) ([]domain.TablePlan, domain.Rule, []typemap.Noted, error) {
	plain, err := p.plain(ctx)
	if err != nil {
		return nil, domain.Rule{}, nil, err
	}
	at := slices.IndexFunc(plain, func(t domain.TablePlan) bool { return t.Source.String() == table })
	if at < 0 {
		t, err := tableIn(p.cat, p.c.Source, table)
		if err != nil {
			return nil, domain.Rule{}, nil, err
		}
		one, err := p.src.Plan(t) // not chosen: it can be looked at
		if err != nil {
			return nil, domain.Rule{}, nil, err
		}
		plain, at = append(plain, one), len(plain)
	}
	first, rule, noted, err := p.shape(ctx, plain[at])
	if err != nil {
		return nil, rule, nil, err
	}
	out := []domain.TablePlan{first}
	for i, t := range plain {
		if i == at {
			continue
		}
		if t, _, _, err := p.shape(ctx, t); err == nil { // else told where that table is looked at
			out = append(out, t)
		}
	}
	p.way.RemapForeignKeys(out)
	return out, rule, noted, nil
}

// Loss is a target table whose rows are in the way.
type Loss struct {
	Table string
	Rows  int64
}

// Review is everything that starting a crossing will do.
type Review struct {
	Tables, Chunks  int
	Rows, Bytes     int64
	Create, Empty   int // target tables to be made; standing and empty
	Losses, Refused []Loss
	RowsLost        int64
	Blockers        []domain.Entry
	Notices         int
	LoadTime        time.Duration
	LoadTimeFrom    string
}

// Review surveys both sides again and counts what starting will do, and what
// will be lost on the target.
func (pl *Planning) Review(ctx context.Context, c *domain.Crossing) (Review, error) {
	var out Review
	s, err := pl.Survey(ctx, c, false)
	if err != nil {
		return out, err
	}
	holds, err := s.Target.Holds(ctx, OnTarget(s.Plans))
	if err != nil {
		return out, err
	}
	for i := range s.Plans {
		p := &s.Plans[i]
		out.Tables++
		out.Rows += max(0, p.Table.Rows)
		out.Bytes += p.Table.Bytes
		if p.Splittable() {
			out.Chunks += chunkplan.Count(p.Table.Bytes, ChunkAim(c.Settings))
		} else {
			out.Chunks++
		}
		rows, stands := holds[p.Target]
		loss := Loss{p.Target.String(), rows}
		there := p.TargetPlan()
		way := there.ExistingRowsPolicy(c.Settings)
		switch {
		case !stands:
			out.Create++
		case rows == 0 && way != "replace":
			out.Empty++
		case way == "refuse":
			out.Refused = append(out.Refused, loss)
		case way != "keep":
			out.Losses = append(out.Losses, loss)
			out.RowsLost += rows
		}
	}
	for _, e := range s.Entries {
		switch e.Verdict {
		case domain.Blocker:
			out.Blockers = append(out.Blockers, e)
		case domain.Notice:
			out.Notices++
		}
	}
	took, rate := loadTime(out.Bytes, c.Settings)
	out.LoadTime = took
	out.LoadTimeFrom = fmt.Sprintf("an assumed %.1f MB/s; nothing was measured yet", float64(rate)/1e6)
	return out, nil
}

package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgoutput"
)

// How relations of the log are those of the plans.

// relation maps a relation's columns to the plan's.
type relation struct {
	table  engine.CaptureTable
	key    []int // plan positions of the key
	at     []int // plan position of each relation column, -1 for none
	width  int
	note   string          // how it differs from the plan
	now    []domain.Column // then: its columns, by name and type
	told   bool            // that it differs, in the transaction toldIn
	toldIn uint64

	writing writing
}

// relate holds a relation against the plan. A relation that is not ours gives
// nil.
func (c *capture) relate(ctx context.Context, m pgoutput.Relation) (*relation, error) {
	schema := m.Schema
	if schema == "" {
		schema = "pg_catalog"
	}
	t, ok := c.byName[domain.TableName{Schema: schema, Name: m.Name}]
	if !ok {
		return nil, nil
	}
	cols := t.Plan.CopiedColumns()
	r := &relation{table: t, key: t.Plan.KeyIndexes(cols), width: len(cols), writing: newWriting(t.Plan)}
	var types []string
	for _, col := range m.Columns {
		var name string
		if err := c.d.pool.QueryRow(ctx, `SELECT format_type($1::oid, $2)`, col.Type, col.Modifier).Scan(&name); err != nil {
			return nil, c.d.explain(err)
		}
		types = append(types, name)
	}
	var notes []string
	found := map[int]bool{}
	for i, col := range m.Columns {
		at := slices.IndexFunc(cols, func(p domain.Column) bool { return p.Name == col.Name })
		r.at = append(r.at, at)
		switch {
		case at < 0 && t.Plan.Table.Column(col.Name) != nil: // computed, or left out
		case at < 0:
			notes = append(notes, fmt.Sprintf("column %s %s was added", col.Name, types[i]))
		case cols[at].Type != types[i]:
			notes = append(notes, fmt.Sprintf("column %s is %s now, it was %s", col.Name, types[i], cols[at].Type))
			found[at] = true
		default:
			found[at] = true
		}
	}
	for i, col := range cols {
		if !found[i] {
			notes = append(notes, fmt.Sprintf("column %s is gone", col.Name))
		}
	}
	if r.note = strings.Join(notes, ", "); r.note != "" {
		for i, col := range m.Columns {
			r.now = append(r.now, domain.Column{Name: col.Name, Type: types[i]})
		}
	}
	return r, nil
}

// truncated hands a statement's tables on that were emptied together. Where partitions are
// published one by one, a table is emptied when all of its partitions are; of some of them
// nothing can be told to the target.
func (c *capture) truncated(ctx context.Context, relations []uint32, note string) error {
	c.group++
	if c.ours {
		return nil
	}
	parts := map[int64]int{}
	var order []*relation
	for _, id := range relations {
		r := c.rels[id]
		if r == nil {
			continue
		}
		if parts[r.table.ID]++; parts[r.table.ID] == 1 {
			order = append(order, r)
		}
	}
	for _, r := range order {
		if p := r.table.Plan; p.Table.PartitionBy != "" && !c.d.throughRoot() && parts[r.table.ID] < len(leaves(p)) {
			return domain.Conflict("a partition of %s was emptied on the source by itself (TRUNCATE), which this version's "+
				"log does not tell of in full; load the table again: restart it", p.Source)
		}
		if err := c.send(ctx, domain.Event{Kind: domain.EventChange, Tx: c.tx,
			Change: domain.Change{Kind: domain.Truncate, Table: r.table.ID, Note: note, Group: c.group}}); err != nil {
			return err
		}
	}
	return nil
}

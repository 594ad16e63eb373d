package voyage

import (
	"context"
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/core/buildorder"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/waits"
)

// made is what came of building an object.
type made struct {
	o   *records.Object
	err error
}

// buildAll makes deferred objects, several at once, those of the largest tables first.
// Foreign keys come last and one by one: each locks two tables.
func (v *Voyage) buildAll(ctx context.Context, c *domain.Crossing, dst *engine.Opened, waiting []*records.Object, sizes map[string]int64, note func(string)) (n int, failed []error) {
	total := len(waiting)
	q := buildorder.New(waiting, func(o *records.Object) buildorder.Object {
		return buildorder.Object{Table: o.Table, Foreign: o.Kind == "foreign", Beside: dst.BuildsBeside(objectOf(o)), Size: sizes[o.Table]}
	})
	done := make(chan made)
	count := func(m made) {
		q.Ended(func(o *records.Object) bool { return o == m.o })
		if m.err != nil {
			failed = append(failed, m.err)
		} else {
			n++
		}
	}
	for {
		for ctx.Err() == nil {
			o, ok := q.Next(c.Settings.BuildLanes)
			if !ok {
				break
			}
			note(fmt.Sprintf("building %s (%d of %d built)", buildingText(q.Running()), n, total))
			go func() {
				done <- made{o, domain.Guarded("building "+o.Name, func() error { return v.buildOne(ctx, dst, o) })}
			}()
		}
		if len(q.Running()) == 0 {
			return n, failed
		}
		count(<-done)
	}
}

func objectOf(o *records.Object) engine.Object {
	table, err := domain.ParseTableName(o.Table)
	if err != nil { // of none, or written by a version that did not quote
		table.Schema, table.Name, _ = strings.Cut(o.Table, ".")
	}
	return engine.Object{Kind: o.Kind, Name: o.Name, Table: table, SQL: o.Statement}
}

// buildOne makes one object; one that collides with changes that are applied
// meanwhile, or with others, is tried again.
func (v *Voyage) buildOne(ctx context.Context, dst *engine.Opened, o *records.Object) error {
	return v.runs(ctx, o, func() (err error) {
		for try := range collisions {
			err = dst.Build(ctx, objectOf(o))
			if !engine.Collided(err) || !waits.Sleep(ctx, time.Duration(try+1)*300*time.Millisecond) {
				break
			}
		}
		return err
	})
}

// buildingText names what is being built.
func buildingText(list []*records.Object) string {
	var out []string
	for _, o := range list {
		out = append(out, fmt.Sprintf("%s %s on %s", o.Kind, o.Name, o.Table))
	}
	return strings.Join(out, ", ")
}

// sizesThere are the sizes of the crossing's tables, by their names on the target.
func (v *Voyage) sizesThere(ctx context.Context, c *domain.Crossing) (map[string]int64, error) {
	tables, err := v.Store.Tables(ctx, c.ID)
	out := map[string]int64{}
	for i := range tables {
		out[tables[i].TargetName] = max(tables[i].BytesLanded, tables[i].EstBytes)
	}
	return out, err
}

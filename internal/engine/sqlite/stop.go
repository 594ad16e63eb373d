package sqlite

import (
	"context"
	"database/sql/driver"
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

var _ interface {
	engine.Captures
	engine.StopsWrites
	engine.Tells
} = &database{}

// StopMethods are triggers that refuse writes, and a person's word.
func (Driver) StopMethods() []domain.StopMethod {
	return []domain.StopMethod{domain.StopReadOnly, domain.StopWord}
}

// MayStop refuses nothing: triggers that refuse writes are ours alone.
func (d *database) MayStop(context.Context, domain.StopMethod) error { return nil }

// Settle has nothing to do.
func (d *database) Settle(context.Context, []domain.TablePlan) error { return nil }

// closers are the triggers by which a crossing's table refuses writes, by their names.
func closers(name, table, message string) map[string]string {
	uid := strings.TrimPrefix(name, triggers)
	out := map[string]string{}
	for what, verb := range map[string]string{"i": "INSERT", "u": "UPDATE", "d": "DELETE"} {
		name := closing + uid + "_" + what + "_" + table
		out[name] = fmt.Sprintf("CREATE TRIGGER %s BEFORE %s ON %s BEGIN SELECT RAISE(ABORT, %s); END", quote(name), verb,
			quote(table), literal(message))
	}
	return out
}

// close makes all tables refuse writes, in one transaction: who writes at that moment comes to the end first.
func (d *database) close(ctx context.Context, crossing string, plans []domain.TablePlan, message string) error {
	return d.transaction(ctx, func(c *conn) error {
		for i := range plans {
			for name, sql := range closers(crossing, plans[i].Source.Name, message) {
				if err := c.exec(ctx, "DROP TRIGGER IF EXISTS "+quote(name)); err != nil {
					return err
				}
				if err := c.exec(ctx, sql); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// StopWrites has the tables refuse writes, or trusts a person's word.
func (d *database) StopWrites(ctx context.Context, method domain.StopMethod, name string, plans []domain.TablePlan,
	wait time.Duration) (engine.WriteStop, error) {
	s := &stop{d: d, name: name, plans: plans, method: method}
	switch method {
	case domain.StopWord:
		return s, nil
	case domain.StopReadOnly:
		ctx, cancel := context.WithTimeout(ctx, wait)
		defer cancel()
		for {
			err := d.close(ctx, name, plans, "writes to this table are stopped, as it moves to another database")
			if engine.ClassOf(err) != engine.Collision || ctx.Err() != nil {
				return s, err
			}
		}
	}
	return nil, domain.Conflict("the stop method %s is not there for a file; set stop_method to read-only, or to word",
		method)
}

// stop is tables that refuse writes.
type stop struct {
	d      *database
	name   string // of the crossing's objects
	plans  []domain.TablePlan
	method domain.StopMethod
}

// CloseWrites has them say why. Nothing brings changes back to a file.
func (s *stop) CloseWrites(ctx context.Context, message, _ string) error {
	if s.method == domain.StopWord {
		return nil
	}
	return s.d.close(ctx, s.name, s.plans, message)
}

// Release lets nothing go on: nobody waits.
func (s *stop) Release(context.Context) error { return nil }

// Alive looks whether the triggers are there.
func (s *stop) Alive(ctx context.Context) error {
	if s.method == domain.StopWord {
		return nil
	}
	c, err := s.d.conn(ctx)
	if err != nil {
		return err
	}
	defer c.close()
	for i := range s.plans {
		for name := range closers(s.name, s.plans[i].Source.Name, "") {
			n, err := c.number(ctx, "SELECT count(*) FROM sqlite_schema WHERE type = 'trigger' AND name = ?", name)
			if err != nil {
				return s.d.explain(err)
			}
			if n == 0 {
				return domain.Conflict("somebody has removed the trigger %s, which refuses writes", name)
			}
		}
	}
	return nil
}

// Reopen removes the triggers.
func (d *database) Reopen(ctx context.Context, method domain.StopMethod, crossing string,
	plans []domain.TablePlan) error {
	if method == domain.StopWord {
		return nil
	}
	return d.transaction(ctx, func(c *conn) error {
		for i := range plans {
			for name := range closers(crossing, plans[i].Source.Name, "") {
				if err := c.exec(ctx, "DROP TRIGGER IF EXISTS "+quote(name)); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Clock is this machine's.
func (d *database) Clock(context.Context) (time.Time, error) { return time.Now(), nil }

// Doing is not known: nothing in a file says what its connections do.
func (d *database) Doing(context.Context, string) (string, bool, error) { return "", false, nil }

// Locked is nobody that could be named.
func (d *database) Locked(context.Context, time.Duration) ([]string, error) { return nil, nil }

// Traces are the crossings for which changes are recorded, and tables that refuse writes.
func (d *database) Traces(ctx context.Context) (out []engine.Trace, err error) {
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	defer c.close()
	has, err := c.recording(ctx)
	if err == nil && has {
		err = c.rows(ctx, "SELECT name, upto, (SELECT count(*) FROM "+capTable+" t WHERE t.name = r.name) FROM "+
			""+readTable+" r",
			func(r []driver.Value) error {
				name := r[0].(string)
				out = append(out, engine.Trace{Crossing: strings.TrimPrefix(name, triggers), Kind: "recording triggers", Name: name,
					Detail: fmt.Sprintf("changes of %d tables are recorded; read up to %d", r[2], r[1])})
				return nil
			})
	}
	tables := map[string]int{} // places of theirs in the list
	if err == nil {
		err = c.rows(ctx, "SELECT name, tbl_name FROM sqlite_schema WHERE type = 'trigger' AND name LIKE "+
			literal(strings.ReplaceAll(closing, "_", `\_`)+"%")+` ESCAPE '\' ORDER BY tbl_name, name`, func(r []driver.Value) error {
			name, table := r[0].(string), r[1].(string)
			uid, _, _ := strings.Cut(strings.TrimPrefix(name, closing), "_")
			at, known := tables[uid+table]
			if !known {
				at, tables[uid+table] = len(out), len(out)
				out = append(out, engine.Trace{Crossing: uid, Kind: "closed to writes", Name: table, Detail: "table " + table})
			}
			out[at].Undo += "DROP TRIGGER " + quote(name) + "; "
			return nil
		})
	}
	return out, d.explain(err)
}

package sqlite

import (
	"context"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"dustyferry/internal/domain"
)

// PrepareCapture makes the log and the triggers in one transaction: what is written behind it is recorded.
func (d *database) PrepareCapture(ctx context.Context, name string, plans []domain.TablePlan) (at domain.Position,
	err error) {
	err = d.transaction(ctx, func(c *conn) error {
		mode := ""
		if err := c.rows(ctx, "PRAGMA journal_mode", func(r []driver.Value) error {
			mode, _ = r[0].(string)
			return nil
		}); err != nil {
			return err
		}
		if mode != "wal" {
			return domain.Conflict("the journal mode of %s is %s, in which nobody can write while a chunk is read: PRAGMA "+
				"journal_mode = WAL", d.path, mode)
		}
		for _, q := range []string{
			"CREATE TABLE IF NOT EXISTS " + logTable + " (n INTEGER PRIMARY KEY AUTOINCREMENT, tbl TEXT, kind TEXT, at REAL)",
			"CREATE TABLE IF NOT EXISTS " + readTable + " (name TEXT PRIMARY KEY, upto INTEGER NOT NULL)",
			"CREATE TABLE IF NOT EXISTS " + capTable + " (name TEXT, tbl TEXT, columns TEXT, olds TEXT, PRIMARY KEY " +
				"(name, tbl))",
		} {
			if err := c.exec(ctx, q); err != nil {
				return err
			}
		}
		for i := range plans {
			if err := c.record(ctx, name, &plans[i]); err != nil {
				return fmt.Errorf("table %s: %w", plans[i].Source, err)
			}
		}
		n, err := c.mark(ctx)
		if err != nil {
			return err
		}
		at = domain.PositionAt(uint64(n) + 1)
		// What it confirmed before stays: it may be begun anew for other tables.
		return c.exec(ctx, "INSERT INTO "+readTable+" VALUES (?, ?) ON CONFLICT DO NOTHING", name, n)
	})
	return at, err
}

// record has a table's changes recorded for a crossing.
func (c *conn) record(ctx context.Context, name string, p *domain.TablePlan) error {
	r := recordOf(p)
	have := map[string]bool{}
	if err := c.rows(ctx, "SELECT name FROM pragma_table_info(?)", func(row []driver.Value) error {
		have[row[0].(string)] = true
		return nil
	}, logTable); err != nil {
		return err
	}
	for prefix, n := range map[string]int{"o": len(r.Old), "n": len(r.Columns)} {
		for i := range n {
			if col := fmt.Sprintf("%s%d", prefix, i); !have[col] { // of no type: each value stays as it is
				if err := c.exec(ctx, "ALTER TABLE "+logTable+" ADD COLUMN "+col); err != nil {
					return err
				}
			}
		}
	}
	uniques, err := c.uniques(ctx, r.Name, p.Key)
	if err != nil {
		return err
	}
	why := unrecordable(p, uniques)
	if why == "" {
		if why, err = c.mixedKey(ctx, p); err != nil {
			return err
		}
	}
	if why != "" {
		return domain.Conflict("%s", why)
	}
	want := r.triggers(len(p.Key) > 0, uniques)
	made, err := c.made(ctx, r.Name)
	if err != nil {
		return err
	}
	for trigger := range made {
		if made[trigger] != want[trigger] {
			if err := c.exec(ctx, "DROP TRIGGER "+quote(trigger)); err != nil {
				return err
			}
		}
	}
	for trigger, sql := range want {
		if made[trigger] != sql {
			if err := c.exec(ctx, sql); err != nil {
				return err
			}
		}
	}
	columns, _ := json.Marshal(r.Columns)
	olds, _ := json.Marshal(r.Old)
	// What was recorded of other columns cannot be read by these, and lies before the table's new load.
	if err := c.exec(ctx, "UPDATE "+logTable+" SET kind = '"+logVoid+"' WHERE tbl = ? AND EXISTS (SELECT 1 FROM "+capTable+
		" WHERE tbl = ? AND (columns <> ? OR olds <> ?))", r.Name, r.Name, string(columns), string(olds)); err != nil {
		return err
	}
	return c.exec(ctx, "INSERT OR REPLACE INTO "+capTable+" VALUES (?, ?, ?, ?)", name, r.Name, string(columns),
		string(olds))
}

// surveyRecording says what would be made in the file to record changes, and what stands against it.
func (d *database) surveyRecording(ctx context.Context, plans []domain.TablePlan) (out []domain.Entry, err error) {
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	defer c.close()
	add := func(v domain.Verdict, topic, subject, remedy, format string, args ...any) {
		out = append(out, domain.Entry{Verdict: v, Topic: topic, Subject: subject, Remedy: remedy,
			Measured: fmt.Sprintf(format, args...)})
	}
	mode := ""
	if err := c.rows(ctx, "PRAGMA journal_mode", func(r []driver.Value) error {
		mode, _ = r[0].(string)
		return nil
	}); err != nil {
		return nil, d.explain(err)
	}
	if mode != "wal" {
		add(domain.Blocker, "journal mode", d.name, "PRAGMA journal_mode = WAL; or load without changes "+
			"(--follow-changes=false)", "it is %s, in which nobody can write while a chunk is read", mode)
	}
	if err := d.transaction(ctx, func(*conn) error { return nil }); err != nil {
		add(domain.Blocker, "file", d.name, "let the service's user write it and its folder, or load without changes "+
			"(--follow-changes=false)", "changes are recorded in the file, and it cannot be written: %s", err)
	}
	add(domain.Notice, "recording changes", d.name, "have each program that writes the file wait for others (PRAGMA "+
		"busy_timeout), and tell them that recorded columns cannot be dropped meanwhile", "in the file are made the tables "+
		"%s, %s and %s, and triggers on %s; each change writes one row more, and the service writes short transactions, "+
		"up to five a second. Closing removes all of it", logTable, readTable, capTable,
		domain.Many(int64(len(plans)), "table"))
	for i := range plans {
		p := &plans[i]
		uniques, err := c.uniques(ctx, p.Source.Name, p.Key)
		if err != nil {
			return nil, d.explain(err)
		}
		why := unrecordable(p, uniques)
		if why == "" {
			if why, err = c.mixedKey(ctx, p); err != nil {
				return nil, d.explain(err)
			}
		}
		if why != "" {
			add(domain.Blocker, "recording changes", p.Source.String(), "", "%s", why)
			continue
		}
		made := recordOf(p).triggers(len(p.Key) > 0, uniques)
		add(domain.OK, "triggers", p.Source.String(), "", "%s", strings.Join(slices.Sorted(maps.Values(made)), "; "))
	}
	return out, nil
}

// unrecordable says why a table's changes cannot all be recorded; empty where they can.
func unrecordable(p *domain.TablePlan, uniques []unique) string {
	switch {
	case p.From != "" || p.Where != "":
		return "changes of rows that are chosen or computed by a query are not recorded in a file: load it without changes"
	case len(p.Key) == 0 && len(uniques) > 0:
		return "it has no primary key and a unique index, by which REPLACE removes rows without telling a trigger: give it " +
			"a primary key"
	}
	for _, u := range uniques {
		if u.of != "" {
			return "its unique index " + u.of + " is over an expression, by which REPLACE removes rows without telling a " +
				"trigger: drop it, or load the table without changes"
		}
	}
	return ""
}

// classes are the storage classes that a key's column must have, by what it is planned as: in an order of its
// own a file has numbers before texts, so that which chunk a key is in would not be known.
func classes(base string) []string {
	switch base {
	case bigint, boolean:
		return []string{"integer"}
	case numeric, double:
		return []string{"integer", "real"}
	case bytea:
		return []string{"blob"}
	}
	return []string{"text"}
}

// mixedKey says which column of the key has values of another class.
func (c *conn) mixedKey(ctx context.Context, p *domain.TablePlan) (string, error) {
	for _, k := range p.KeyColumns() {
		other := int64(0)
		if err := c.rows(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE typeof(%s) NOT IN ('%s') LIMIT 1", quote(p.Source.Name),
			quote(k.Name), strings.Join(classes(writerOf(k).base), "', '")), func(r []driver.Value) error {
			other = r[0].(int64)
			return nil
		}); err != nil {
			return "", err
		}
		if other > 0 {
			return "the column " + k.Name + " of its key has values of several types, and it is not known which chunk such a " +
				"key is in: load it without changes", nil
		}
	}
	return "", nil
}

// made are the triggers of ours on a table, and by which statements they were made.
func (c *conn) made(ctx context.Context, table string) (map[string]string, error) {
	out := map[string]string{}
	err := c.rows(ctx, "SELECT name, sql FROM sqlite_schema WHERE type = 'trigger' AND tbl_name = ? AND name LIKE "+
		"'dusty\\_ferry\\__\\_%' ESCAPE '\\'", func(r []driver.Value) error {
		out[r[0].(string)] = r[1].(string)
		return nil
	}, table)
	return out, err
}

// DropCapture ends the recording for a crossing, and removes what nobody else needs.
func (d *database) DropCapture(ctx context.Context, name string, undo []string) error {
	return d.transaction(ctx, func(c *conn) error {
		if has, err := c.recording(ctx); err != nil || !has {
			return err
		}
		var tables []string
		if err := c.rows(ctx, "SELECT tbl FROM "+capTable+" a WHERE name = ? AND NOT EXISTS (SELECT 1 FROM "+capTable+
			" b WHERE b.tbl = a.tbl AND b.name <> a.name)", func(r []driver.Value) error {
			tables = append(tables, r[0].(string))
			return nil
		}, name); err != nil {
			return err
		}
		for _, t := range tables {
			made, err := c.made(ctx, t)
			if err != nil {
				return err
			}
			for trigger := range made {
				if err := c.exec(ctx, "DROP TRIGGER "+quote(trigger)); err != nil {
					return err
				}
			}
		}
		for _, q := range []string{"DELETE FROM " + capTable + " WHERE name = ?", "DELETE FROM " + readTable + " WHERE " +
			"name = ?"} {
			if err := c.exec(ctx, q, name); err != nil {
				return err
			}
		}
		for _, q := range undo {
			if err := c.exec(ctx, q); err != nil {
				return err
			}
		}
		left, err := c.number(ctx, "SELECT count(*) FROM "+readTable)
		if err != nil || left > 0 {
			return err
		}
		for _, t := range []string{logTable, readTable, capTable} {
			if err := c.exec(ctx, "DROP TABLE "+t); err != nil {
				return err
			}
		}
		return nil
	})
}

// CaptureUndo is nothing: what is made has names of its own, and is removed by them.
func (d *database) CaptureUndo([]domain.TablePlan) []string { return nil }

// KeepsEarlier is not so: nothing is recorded before the triggers are made.
func (d *database) KeepsEarlier() bool { return false }

// OpenTransactions are none: there is one writer, for whose end it was waited.
func (d *database) OpenTransactions(context.Context, time.Duration) ([]string, error) {
	return nil, nil
}

// PreparedTransactions are none.
func (d *database) PreparedTransactions(context.Context, []domain.TablePlan) ([]string, error) {
	return nil, nil
}

// IsLastDDL is not known: the log carries no statements.
func (d *database) IsLastDDL(context.Context, domain.TableName, domain.Position) (bool, error) {
	return false, nil
}

var errNoSlot = domain.Conflict("a file has no slots and no GTIDs: capture begins where its triggers are made")

// CheckCapture refuses: nobody makes a log here but we.
func (d *database) CheckCapture(context.Context, string, []domain.TablePlan) (domain.Position, error) {
	return domain.Position{}, errNoSlot
}

// ResolveGTID refuses.
func (d *database) ResolveGTID(context.Context, string) (domain.Position, error) {
	return domain.Position{}, errNoSlot
}

// Mind returns the tables of which not every change is recorded any more: triggers were dropped, with the
// table or by themselves, or the table has other columns.
func (d *database) Mind(ctx context.Context, name string, plans []domain.TablePlan, _ func(string) error) (
	lost []domain.TableName, err error) {
	c, err := d.conn(ctx)
	if err != nil {
		return nil, err
	}
	defer c.close()
	if has, err := c.recording(ctx); err != nil || !has {
		for i := range plans {
			lost = append(lost, plans[i].Source)
		}
		return lost, d.explain(err)
	}
	for i := range plans {
		p := &plans[i]
		uniques, err := c.uniques(ctx, p.Source.Name, p.Key)
		if err != nil {
			return nil, d.explain(err)
		}
		made, err := c.made(ctx, p.Source.Name)
		if err != nil {
			return nil, d.explain(err)
		}
		mine, err := c.number(ctx, "SELECT count(*) FROM "+capTable+" WHERE name = ? AND tbl = ?", name, p.Source.Name)
		if err != nil {
			return nil, d.explain(err)
		}
		for trigger, sql := range recordOf(p).triggers(len(p.Key) > 0, uniques) {
			if made[trigger] != sql || mine == 0 {
				lost = append(lost, p.Source)
				break
			}
		}
	}
	return lost, nil
}

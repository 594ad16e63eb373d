package folder

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// differs says how a table is not what a plan needs, written in that form; empty: the form does not matter.
func differs(t *tableLine, p *domain.TablePlan, as string) string {
	cols := p.CopiedColumns()
	if as != "" && t.Format != as {
		return fmt.Sprintf("its files are written as %s, not as %s", t.Format, as)
	}
	if len(cols) != len(t.Columns) {
		return fmt.Sprintf("it has %s, not %d", domain.Many(int64(len(t.Columns)), "column"), len(cols))
	}
	for i, c := range cols {
		if was := t.Columns[i]; was.Name != c.Name || was.Type != c.Type {
			return fmt.Sprintf("its column %d is %s %s, not %s %s", i+1, was.Name, was.Type, c.Name, c.Type)
		}
	}
	return ""
}

// Holds counts the rows of tables that stand.
func (d *database) Holds(ctx context.Context, plans []domain.TablePlan) (map[domain.TableName]int64, error) {
	out := map[domain.TableName]int64{}
	return out, d.locked(ctx, func(k *known) error {
		for i := range plans {
			name := plans[i].Target
			if k.table(name.Name) == nil {
				continue
			}
			out[name] = 0
			for _, f := range k.filesOf(name.Name) {
				out[name] += f.Rows
			}
		}
		return nil
	})
}

// SurveyTarget says what is in the folder where the plans will write.
func (d *database) SurveyTarget(ctx context.Context, _ *domain.Catalog, plans []domain.TablePlan,
	set domain.Settings) ([]domain.Entry, error) {
	out := []domain.Entry{d.room()}
	fresh := 0
	first := map[string]domain.TableName{}
	err := d.locked(ctx, func(k *known) error {
		for i := range plans {
			p := &plans[i]
			e := domain.Entry{Verdict: domain.Blocker, Topic: engine.TopicTarget, Subject: p.Target.String()}
			if o, twice := first[strings.ToLower(p.Target.Name)]; twice {
				e.Measured = fmt.Sprintf("a folder has no schemas, and %s would be the same table as %s", p.Target, o)
				e.Remedy = "rename one of them by a rule"
				out = append(out, e)
				continue
			}
			first[strings.ToLower(p.Target.Name)] = p.Target
			switch {
			case len(p.Added) > 0:
				e.Measured, e.Remedy = "files take no column that the source has not ("+p.Added[0].Name+")", "leave it out"
			case len(p.Statements) > 0:
				e.Measured, e.Remedy = "a folder takes no statements, and some are written by hand", "take them out of the plan"
			}
			if e.Measured != "" {
				out = append(out, e)
				continue
			}
			t := k.table(p.Target.Name)
			if t == nil {
				fresh++
				continue
			}
			out = append(out, d.stands(k, t, p, set, e))
		}
		return nil
	})
	if fresh > 0 {
		out = append(out, domain.Entry{Verdict: domain.OK, Topic: "target tables", Subject: d.name,
			Measured: fmt.Sprintf("%s will be written as %s", domain.Many(int64(fresh), "table"), set.FileFormat)})
	}
	return append(out, engine.LeftReferences(plans)...), err
}

// stands says of a table that is in the folder what will become of it.
func (d *database) stands(k *known, t *tableLine, p *domain.TablePlan, set domain.Settings,
	e domain.Entry) domain.Entry {
	rows := int64(0)
	files := k.filesOf(t.Table)
	for _, f := range files {
		rows += f.Rows
	}
	holds := fmt.Sprintf("it holds %s in %s", domain.Many(rows, "row"), domain.Many(int64(len(files)), "file"))
	diff := differs(t, p, set.FileFormat)
	switch way := p.ExistingRowsPolicy(set); {
	case way == "replace", diff != "" && len(files) == 0:
		e.Verdict, e.Measured = domain.Notice, holds+", which will be removed, and it will be made anew"
	case diff != "":
		e.Measured, e.Remedy = "it is there already and is unlike what the plan needs: "+diff,
			"leave the table out, or have it replaced (existing_rows: replace)"
	case way == engine.ReplaceRange:
		e.Measured, e.Remedy = "rows of files cannot take the place of others", "let a load that is done again empty its "+
			"tables first (setting repeat)"
	case len(files) == 0:
		e.Verdict, e.Measured = domain.OK, "it is there already, is alike and empty"
	case way == "keep":
		e.Verdict, e.Measured = domain.Notice, holds+", which stay; a comparison will find them where the source lacks them"
	case way == "empty":
		e.Verdict, e.Measured = domain.Notice, holds+", which will be removed"
	default:
		e.Measured, e.Remedy = holds, "remove them, or set existing_rows: empty (keep, replace)"
	}
	return e
}

// PrepareTarget makes the tables of the plans.
func (d *database) PrepareTarget(ctx context.Context, _ string, _ *domain.Catalog, plans []domain.TablePlan,
	s domain.Settings, told func(engine.Object, error)) error {
	return d.locked(ctx, func(k *known) error {
		var failed []error
		for i := range plans {
			p := &plans[i]
			o := d.Creates(p)[0]
			made, err := d.prepare(k, p, s)
			if err != nil {
				failed = append(failed, fmt.Errorf("making table %s in the folder: %w", p.Target.Name, err))
			}
			if made || err != nil {
				told(o, err)
			}
		}
		return errors.Join(failed...)
	})
}

// prepare makes a table, or sees that the one that is there will do.
func (d *database) prepare(k *known, p *domain.TablePlan, s domain.Settings) (made bool, err error) {
	t, way := k.table(p.Target.Name), p.ExistingRowsPolicy(s)
	if _, _, err := formOf(s.FileFormat, nil); err != nil {
		return false, err
	}
	of := func(f *fileLine) bool { return strings.EqualFold(f.Table, p.Target.Name) }
	if t != nil {
		diff, files := differs(t, p, s.FileFormat), k.filesOf(t.Table)
		switch {
		case way == "replace":
			if err := d.rewrite(k, of); err != nil {
				return false, err
			}
			t = nil
		case diff != "" && len(files) > 0:
			return false, domain.Conflict("it is there already and is unlike what the plan needs: %s", diff)
		case diff != "":
			t = nil
		case way == engine.ReplaceRange:
			return false, domain.Conflict("rows of files cannot take the place of others; let a load that is done again empty " +
				"its tables first (setting repeat)")
		case len(files) == 0, way == "keep":
		case way == "empty":
			return false, d.rewrite(k, of)
		default:
			return false, domain.Conflict("it is there already and holds rows; remove them, or set existing_rows")
		}
	}
	if t != nil {
		return false, nil
	}
	t = &tableLine{Table: p.Target.Name, Schema: p.Target.Schema, Folder: tableFolder(p.Target.Name), Format: s.FileFormat,
		Columns: p.CopiedColumns()}
	at := filepath.Join(d.path, t.Folder)
	if err := os.Mkdir(at, 0o700); err != nil && !errors.Is(err, os.ErrExist) {
		return false, d.problem(err)
	}
	there, err := os.ReadDir(at)
	if err != nil {
		return false, d.problem(err)
	}
	if i := slices.IndexFunc(there, func(f os.DirEntry) bool { return !strings.HasPrefix(f.Name(), ".") }); i >= 0 {
		return false, domain.Conflict("the folder %s has files in it that are not ours (%s); move them", at, there[i].Name())
	}
	if err := syncFolder(d.path); err != nil {
		return false, d.problem(err)
	}
	if err := d.add(engine.FolderList, ownLine{Table: t}); err != nil {
		return false, err
	}
	return true, d.read(engine.FolderList, &k.own, k.readOwn)
}

// Fence raises a chunk's epoch.
func (d *database) Fence(ctx context.Context, crossing string, id, epoch int64) (m *engine.Mark, err error) {
	err = d.locked(ctx, func(k *known) (err error) {
		at := chunk{crossing, id}
		if f := k.files[at]; f != nil {
			m, err = f.mark()
			return err
		}
		if k.fences[at] >= epoch {
			return nil
		}
		if err := d.add(engine.FolderList, ownLine{Fence: &fenceLine{crossing, id, epoch}}); err != nil {
			return err
		}
		k.fences[at] = epoch
		return nil
	})
	return m, err
}

// Marked lists chunks that have landed.
func (d *database) Marked(ctx context.Context, crossing string) (map[int64]bool, error) {
	out := map[int64]bool{}
	return out, d.locked(ctx, func(k *known) error {
		for at := range k.files {
			if at.crossing == crossing {
				out[at.id] = true
			}
		}
		return nil
	})
}

// ClearTable removes a table's files.
func (d *database) ClearTable(ctx context.Context, _, _ string, p *domain.TablePlan, _ []int64) error {
	return d.locked(ctx, func(k *known) error {
		if err := d.rewrite(k, func(f *fileLine) bool { return strings.EqualFold(f.Table, p.Target.Name) }); err != nil {
			return err
		}
		return d.clean()
	})
}

// Forget has nothing to do: what is listed of a crossing says what the files are, and stays with them.
func (d *database) Forget(context.Context, string) error { return nil }

// A folder has no objects beside its tables, and takes no statements.

// AppliesQuietly: nothing watches rows that are applied, of which there are none.
func (d *database) AppliesQuietly(context.Context) bool { return true }

// Creates lists what is made for a table.
func (d *database) Creates(p *domain.TablePlan) []engine.Object {
	return []engine.Object{{Kind: "table", Name: p.Target.Name, Table: p.Target, SQL: "make the folder " +
		tableFolder(p.Target.Name)}}
}

// DiffTable says in words how a table is not what the plan needs.
func (d *database) DiffTable(p *domain.TablePlan, t *domain.Table) string {
	return differs(&tableLine{Columns: t.Columns}, p, "")
}

// Alters are none.
func (d *database) Alters(*domain.TablePlan, []columns.Change) []string { return nil }

// Partitions are none.
func (d *database) Partitions([]domain.Partition) []string { return nil }

// Run refuses statements.
func (d *database) Run(context.Context, string) error {
	return domain.Conflict("the folder %s takes no statements", d.name)
}

// Deferred are none.
func (d *database) Deferred(*domain.Catalog, []domain.TablePlan) []engine.Object { return nil }

// Build has nothing to make.
func (d *database) Build(context.Context, engine.Object) error { return nil }

// BuildsBeside has nothing to say.
func (d *database) BuildsBeside(engine.Object) bool { return false }

// Unbuild has nothing to remove.
func (d *database) Unbuild(context.Context, []engine.Object) error { return nil }

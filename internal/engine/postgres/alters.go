package postgres

import (
	"dustyferry/internal/core/columns"
	"dustyferry/internal/domain"
)

// DiffTable says how a table that stands is not what the plan needs.
func (d *database) DiffTable(p *domain.TablePlan, t *domain.Table) string { return differences(p, t) }

// Alters are the statements that bring the plan's table to changed columns.
func (d *database) Alters(p *domain.TablePlan, changes []columns.Change) []string {
	var out []string
	for _, c := range changes {
		alter := func(line string) { out = append(out, "ALTER TABLE "+qualified(p.Target)+" "+line) }
		column := "ALTER COLUMN " + quote(c.Now.Name) + " "
		switch c.Kind {
		case columns.Added:
			line := "ADD COLUMN " + quote(c.Now.Name) + " " + c.Now.Type
			if c.Now.Collation != "" {
				line += " COLLATE " + c.Now.Collation
			}
			if c.Now.Fill != nil {
				line += " DEFAULT " + literal(*c.Now.Fill) + "::" + c.Now.Type
			}
			if c.Now.NotNull && c.Now.Fill != nil { // otherwise rows that stand may be empty
				line += " NOT NULL"
			}
			alter(line)
			switch {
			case c.Now.Default != "":
				alter(column + "SET DEFAULT " + c.Now.Default)
			case c.Now.Fill != nil:
				alter(column + "DROP DEFAULT")
			}
		case columns.Dropped:
			alter("DROP COLUMN " + quote(c.Was.Name))
		case columns.Renamed:
			alter("RENAME COLUMN " + quote(c.Was.Name) + " TO " + quote(c.Now.Name))
		case columns.Retyped:
			alter(column + "TYPE " + c.Now.Type)
		case columns.Loosened:
			alter(column + "DROP NOT NULL")
		} // what the source refuses never comes
	}
	return out
}

// Partitions are the statements that make partitions of a table that stands.
func (d *database) Partitions(parts []domain.Partition) []string {
	var out []string
	for _, part := range parts {
		sql := "CREATE TABLE IF NOT EXISTS " + qualified(part.Table) + " PARTITION OF " + qualified(part.Parent) + " " +
			part.Bound
		if part.By != "" {
			sql += " PARTITION BY " + part.By
		}
		out = append(out, sql)
	}
	return out
}

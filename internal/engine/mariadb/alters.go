package mariadb

import (
	"strings"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/domain"
)

// DiffTable says how a table that stands is not what the plan needs.
func (d *database) DiffTable(p *domain.TablePlan, t *domain.Table) string { return differences(p, t) }

// Alters are the statements that bring the plan's table to changed columns. A statement
// that alters a table commits by itself here.
func (d *database) Alters(p *domain.TablePlan, changes []columns.Change) []string {
	var out []string
	// What the table's texts are like where nothing is said may be another on the target than
	// in the plan: a column that changes says its own.
	said := *p
	said.Table.Collation = ""
	for _, c := range changes {
		line := ""
		switch c.Kind {
		case columns.Added:
			line = "ADD COLUMN " + columnLine(&said, c.Now)
		case columns.Dropped:
			line = "DROP COLUMN " + quote(c.Was.Name)
		case columns.Renamed:
			line = "RENAME COLUMN " + quote(c.Was.Name) + " TO " + quote(c.Now.Name)
		case columns.Retyped, columns.Loosened:
			line = "MODIFY COLUMN " + columnLine(&said, c.Now)
		case columns.Recollated:
			charset, _, _ := strings.Cut(c.Now.Collation, "_")
			line = "DEFAULT CHARACTER SET " + charset + " COLLATE " + c.Now.Collation
		default:
			continue // what the source refuses never comes
		}
		out = append(out, "ALTER TABLE "+qualified(p.Target)+" "+line)
	}
	return out
}

// Partitions is empty: a table's partitions are part of its definition here.
func (d *database) Partitions([]domain.Partition) []string { return nil }

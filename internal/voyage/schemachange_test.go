package voyage

import (
	"strings"
	"testing"

	"dustyferry/internal/domain"
)

// TestDefinitionsThatTheLogHasNotTold: what was altered between the plan and where capture began
// is in no log that is read; the readiness list says it.
func TestDefinitionsThatTheLogHasNotTold(t *testing.T) {
	table := func() domain.Table {
		return domain.Table{TableName: domain.TableName{Schema: "marsh", Name: "lots"}, Storage: "InnoDB",
			Columns: []domain.Column{{Name: "id", Type: "int"}, {Name: "note", Type: "varchar(20)", Charset: "utf8mb4", Collation: "utf8mb4_bin"}},
			Keys:    []domain.Key{{Columns: []string{"id"}, Primary: true}}}
	}
	for what, c := range map[string]struct {
		alter func(*domain.Table)
		says  string
	}{
		"nothing":                  {func(*domain.Table) {}, ""},
		"the storage engine":       {func(x *domain.Table) { x.Storage = "Aria" }, "the storage engine is aria now, it was innodb"},
		"how texts are compared":   {func(x *domain.Table) { x.Columns[1].Collation = "utf8mb4_general_ci" }, "the collation of note"},
		"the primary key":          {func(x *domain.Table) { x.Keys = nil }, "the primary key is none now"},
		"a server without engines": {func(x *domain.Table) { x.Storage = ""; x.Keys = nil }, ""},
	} {
		was, now := table(), table()
		c.alter(&now)
		if now.Storage == "" {
			was.Storage = ""
		}
		list := columnEntries(&domain.Crossing{Name: "spring"}, &domain.Catalog{Tables: []domain.Table{now}},
			[]domain.CrossingTable{{SourceName: "marsh.lots", Plan: domain.TablePlan{Source: was.TableName, Table: was}}})
		var said string
		for _, e := range list {
			if e.Verdict == domain.Blocker && e.Topic == "columns" {
				said += e.Measured + " → " + e.Remedy
			}
		}
		if c.says == "" && said != "" || !strings.Contains(said, c.says) || c.says != "" && !strings.Contains(said, "crossing restart spring --table marsh.lots") {
			t.Errorf("%s: the list says %q", what, said)
		}
	}
}

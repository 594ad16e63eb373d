package typemap_test

import (
	"fmt"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

// What becomes of columns of MariaDB on PostgreSQL.
func ExampleToPostgres() {
	for _, c := range []domain.Column{
		{Name: "id", Type: "int(10) unsigned", BaseType: "int unsigned"},
		{Name: "kg", Type: "decimal(6,2)", BaseType: "decimal"},
		{Name: "seen", Type: "datetime(6)", BaseType: "datetime"},
	} {
		m := typemap.ToPostgres(c)
		fmt.Println(c.Type, "becomes", m.Column.Type+":", m.Verdict)
	}
	// Output:
	// int(10) unsigned becomes bigint: wider
	// decimal(6,2) becomes numeric(6,2): exact
	// datetime(6) becomes timestamp(6) without time zone: lossy
}

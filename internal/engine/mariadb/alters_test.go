package mariadb

import (
	"slices"
	"strings"
	"testing"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/domain"
)

// TestAltersSayTheirCollation: where the target's table has another default than the plan's,
// a column that is altered becomes what the plan says all the same, and so does the default.
func TestAltersSayTheirCollation(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE jars (id int PRIMARY KEY, sweet tinyint(1), note varchar(9)) ENGINE=InnoDB DEFAULT "+
		"CHARSET=utf8mb4",
		"INSERT INTO jars VALUES (1, 1, 'a')")
	p := *planFor(t, d, "jars")
	p.TargetSide = nil
	p.Table.Collation = "latin1_swedish_ci" // as on the source, which was converted
	text := domain.Column{Name: "sweet", Type: "longtext", BaseType: "longtext", Charset: "latin1",
		Collation: "latin1_swedish_ci"}
	added := domain.Column{Name: "hive", Type: "varchar(20)", BaseType: "varchar", Charset: "latin1",
		Collation: "latin1_swedish_ci"}
	for _, sql := range d.Alters(&p, []columns.Change{
		{Kind: columns.Retyped, Was: *p.Table.Column("sweet"), Now: text},
		{Kind: columns.Added, Now: added},
		{Kind: columns.Recollated, Now: domain.Column{Collation: "latin1_swedish_ci"}},
		{Kind: columns.Tightened, Now: *p.Table.Column("note")}, // what the source refuses never comes
	}) {
		run(t, db, sql)
	}
	rows, err := db.QueryContext(t.Context(), "SELECT concat_ws(' ', column_name, column_type, coalesce(collation_name, "+
		"'-')) FROM information_schema.columns WHERE table_schema = database() AND table_name = 'jars' UNION ALL SELECT "+
		"concat('table ', table_collation) FROM information_schema.tables WHERE table_schema = database()")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = rows.Close() }()
	var got []string
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			t.Fatal(err)
		}
		got = append(got, s)
	}
	for _, want := range []string{"sweet longtext latin1_swedish_ci", "hive varchar(20) latin1_swedish_ci",
		"note varchar(9) utf8mb4_general_ci", "table latin1_swedish_ci"} {
		if !slices.Contains(got, want) {
			t.Errorf("the table is %s, and lacks %s", strings.Join(got, ", "), want)
		}
	}
}

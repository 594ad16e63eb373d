package mariadb

import (
	"fmt"
	"strings"
	"testing"

	"dustyferry/internal/domain"
)

// TestWhatForeignKeysDoIsNotLogged shows why keys that act by themselves must be
// followed.
func TestWhatForeignKeysDoIsNotLogged(t *testing.T) {
	d, db := open(t)
	run(t, db, "CREATE TABLE hives (id int PRIMARY KEY)", "CREATE TABLE frames (id int PRIMARY KEY, hive int, "+
		"CONSTRAINT gone FOREIGN KEY (hive) REFERENCES hives (id) ON DELETE CASCADE)",
		"CREATE TABLE labels (id int PRIMARY KEY, hive int, CONSTRAINT stays FOREIGN KEY (hive) REFERENCES hives (id))",
		"INSERT INTO hives VALUES (1), (2)", "INSERT INTO frames VALUES (1, 1)", "INSERT INTO labels VALUES (1, 2)")
	plans := []*domain.TablePlan{plan(t, d, "hives"), plan(t, d, "frames"), plan(t, d, "labels")}
	c := follow(t, d, here(t, d), plans...)
	run(t, db, "DELETE FROM hives WHERE id = 1")
	changes, _ := until(t, c, here(t, d))
	if len(changes) != 1 || changes[0].Table != 1 {
		t.Errorf("the log has %+v: it tells more than it did, so such keys need not block", changes)
	}
	// It can be followed where the table it refers to is taken along.
	for _, c := range []struct {
		plans   []domain.TablePlan
		capture bool
		blocks  bool
	}{{[]domain.TablePlan{*plans[0], *plans[1], *plans[2]}, true, false}, {[]domain.TablePlan{*plans[1]}, true, true},
		{[]domain.TablePlan{*plans[1]}, false, false}} {
		list, err := d.SurveySource(t.Context(), c.plans, c.capture)
		if err != nil {
			t.Fatal(err)
		}
		var said []string
		blocks := false
		for _, e := range list {
			if e.Topic == "foreign key" {
				said = append(said, e.Measured)
				blocks = blocks || e.Verdict == domain.Blocker
			}
		}
		if blocks != c.blocks || c.capture != (len(said) == 1 && strings.Contains(said[0],
			"gone acts by itself (ON DELETE CASCADE)")) {
			t.Errorf("with capture %v and %d tables it says %q", c.capture, len(c.plans), said)
		}
	}
}

// TestKeysInTheServersOrder cuts tables whose keys only the server can order, and
// asks it where keys lie.
func TestKeysInTheServersOrder(t *testing.T) {
	d, db := openFor(t)
	for i, columns := range []string{
		"k varchar(40)", "k varchar(40) CHARACTER SET latin1 COLLATE latin1_german2_ci", "k varchar(200) COLLATE utf8mb4_bin",
		"k varbinary(30)", "k binary(6)",
		"k decimal(12,3)", "k datetime(3)", "k date, n decimal(5)", "k varchar(20), n bigint unsigned",
		"n tinyint, k varchar(20) COLLATE utf8mb4_unicode_ci", "k uuid",
		"k timestamp(3)", "k time(2)", "k year, n int", "k bit(40)", "k float", "k double", "k inet6", "k inet4",
		"k float, n int",
	} {
		table := fmt.Sprintf("t%d", i)
		var names []string
		for _, c := range strings.Split(columns, ", ") {
			names = append(names, strings.Fields(c)[0])
		}
		key := strings.Join(names, ", ")
		run(t, db, "CREATE TABLE "+table+" ("+columns+", PRIMARY KEY ("+key+")) ENGINE=InnoDB")
		value := map[string]string{"uuid": "uuid()", "decimal(12,3)": "seq * 7919 % 10007 / 8 - 300",
			"datetime(3)":  "'2025-01-01' + INTERVAL seq * 7919 % 10007 * 1001 MICROSECOND + INTERVAL seq SECOND",
			"date,":        "'2025-01-01' + INTERVAL seq % 200 DAY",
			"timestamp(3)": "'2001-01-01' + INTERVAL seq * 7919 SECOND",
			"time(2)":      "sec_to_time(CAST(seq AS SIGNED) * 977.25 - 400000)", "year,": "1901 + seq % 200",
			"bit(40)": "seq * 7919", "double": "seq / 3e7 - 1e-5",
			"inet6": "concat(if(seq % 2, '2001:db8::', '::ffff:10.0.'), if(seq % 2, hex(seq), concat(seq DIV 250, '.', " +
				"seq % 250)))", "inet4": "inet_ntoa(3000000000 + seq * 7919)", "float": "seq / 3 - 100.1",
			"float,": "seq / 3 - 100.1", "varbinary(30)": "unhex(sha1(seq))",
			"binary(6)": "unhex(left(sha1(seq), 12))"}[strings.Fields(columns)[1]]
		if value == "" {
			value = "concat(char(ascii('A') + seq % 60), elt(1 + seq % 5, 'ö', 'z', 'ß ', '''\\\\', 'É'), seq)"
		}
		list := value
		if len(names) == 2 {
			list = value + ", seq"
			if names[0] == "n" {
				list = "CAST(seq % 100 AS SIGNED) - 50, " + value
			}
		}
		run(t, db, "INSERT INTO "+table+" SELECT "+list+" FROM seq_1_to_997", "ANALYZE TABLE "+table)
		p := planFor(t, d, table)
		if p.KeyOrder != "source" {
			t.Errorf("%s: the order is %q", columns, p.KeyOrder)
			continue
		}
		bounds, err := d.Sample(t.Context(), p, 12*samplesToBound)
		if err != nil || len(bounds) < 5 {
			t.Fatalf("%s: %d bounds (%v)", columns, len(bounds), err)
		}
		all, err := d.Sample(t.Context(), p, 100_000*samplesToBound)
		if err != nil || len(all) != 997 {
			t.Fatalf("%s: %d keys (%v)", columns, len(all), err)
		}
		where, err := d.Locate(t.Context(), p, bounds, all)
		if err != nil {
			t.Fatalf("%s: %v", columns, err)
		}
		if i == 0 { // more than one statement holds
			var many []domain.KeyValue
			for range 60 {
				many = append(many, all...)
			}
			at, err := d.Locate(t.Context(), p, bounds, many)
			if err != nil || len(at) != len(many) {
				t.Fatalf("%d of %d keys were located (%v)", len(at), len(many), err)
			}
			for j := range at {
				if at[j] != where[j%len(all)] {
					t.Fatalf("key %d lies in %d, alone it lay in %d", j, at[j], where[j%len(all)])
				}
			}
		}
		// What each chunk holds by reading is what the server said of the keys.
		held := make([]int64, len(bounds)+1)
		for _, w := range where {
			held[w]++
		}
		r, err := d.OpenReader(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if _, err := r.Begin(t.Context()); err != nil {
			t.Fatal(err)
		}
		total := int64(0)
		for n := range held {
			var c domain.Chunk
			if n > 0 {
				c.Lower = bounds[n-1]
			}
			if n < len(bounds) {
				c.Upper = bounds[n]
			}
			sum, err := r.Copy(t.Context(), p, &c, false, func([]byte) error { return nil })
			if err != nil || sum.Rows != held[n] {
				t.Errorf("%s: chunk %d holds %d rows, the keys say %d (%v)", columns, n, sum.Rows, held[n], err)
			}
			total += sum.Rows
		}
		r.Close()
		if total != 997 {
			t.Errorf("%s: the chunks hold %d rows", columns, total)
		}
	}
}

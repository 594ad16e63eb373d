package rowfile

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// opened is a file with that in it.
func opened(t *testing.T, name, text string) (*engine.Opened, string) {
	t.Helper()
	dir := t.TempDir()
	path := filepath.Join(dir, name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	db, err := engine.Open(t.Context(), Texts().Within([]string{dir}), engine.Endpoint{Database: path})
	if err != nil {
		t.Fatal(err)
	}
	return db, path
}

func planned(t *testing.T, db *engine.Opened) domain.TablePlan {
	t.Helper()
	cat, err := db.Catalog(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	p, err := db.Plan(&cat.Tables[0])
	if err != nil {
		t.Fatal(err)
	}
	return p
}

const readings = "hive,kg,taken,note\n1,2.5,2026-05-01,\"a, " +
	"b\"\n2,,2026-05-02,\n\nx,1\n3,4,May,late\n4,5,2026-05-04,ok\n"

func TestRowsOfAFile(t *testing.T) {
	db, _ := opened(t, "Hive readings.CSV", strings.Replace(readings, "May", "2026-05-03", 1))
	p := planned(t, db)
	var types []string
	for _, c := range p.Columns {
		types = append(types, c.Name+" "+c.Type)
	}
	if p.Source.String() != "files.hive readings" && p.Source.Name != "Hive readings" || strings.Join(types, ", ") !=
		"hive bigint, kg numeric, taken date, note text" || p.Table.Rows != 5 || p.KeyOrder != "none" {
		t.Fatalf("%s: %s, %d rows, %s", p.Source, types, p.Table.Rows, p.KeyOrder)
	}
	list, err := db.SurveySource(t.Context(), []domain.TablePlan{p}, false)
	if err != nil || !strings.Contains(list[0].Measured, "commas between 4 columns") {
		t.Errorf("%+v, %v", list, err)
	}
	facts, err := db.Check(t.Context())
	if err != nil || facts.AsTarget[0].Verdict != domain.Blocker || !strings.Contains(facts.AsSource[1].Measured,
		"5 rows") {
		t.Errorf("%+v, %v", facts, err)
	}
	r, err := db.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	var rows, refused []string
	if err := r.Rows(t.Context(), &p, &domain.Chunk{}, func(fields [][]byte, no error) error {
		line := fmt.Sprintf("%s", fields)
		if no != nil {
			refused = append(refused, no.Error())
			return nil
		}
		rows = append(rows, line)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if strings.Join(rows, "\n") != "[1 2.5 2026-05-01 a, b]\n[2  2026-05-02 ]\n[3 4 2026-05-03 late]\n[4 5 "+
		"2026-05-04 ok]" ||
		len(refused) != 1 || refused[0] != "line 5 has 2 values, and the first row 4" {
		t.Errorf("%s; %q", strings.Join(rows, "\n"), refused)
	}
	if _, err := r.Copy(t.Context(), &p, &domain.Chunk{}, false,
		func([]byte) error { return nil }); !engine.RowsRefused(err) {
		t.Errorf("a chunk with a record that is wrong: %v", err)
	}
	preview, err := db.Preview(t.Context(), &p.Table, 2)
	if err != nil || len(preview) != 2 || *preview[0][3] != "a, b" || preview[1][1] != nil {
		t.Errorf("%v, %v", preview, err)
	}
	v, _, err := db.OpenView(t.Context(), false, 0)
	if err != nil {
		t.Fatal(err)
	}
	if n, err := v.Count(t.Context(), &p); err != nil || n != 5 {
		t.Errorf("%d, %v", n, err)
	}
	sums, err := v.Sums(t.Context(), &p, engine.Part{Buckets: 3}, func(int64) {})
	if err != nil || sums[0].Rows+sums[1].Rows+sums[2].Rows != 5 {
		t.Errorf("%+v, %v", sums, err)
	}
	var odd []string
	if err := db.Scan(t.Context(), &p, engine.Scope{Refused: func(_ [][]byte, column, why string) {
		odd = append(odd, column+": "+why)
	}}, func([][]byte) error { return nil }); err != nil || len(odd) != 1 {
		t.Errorf("%q, %v", odd, err)
	}
}

// TestAValueOfAnotherKind: seen only behind those that were looked at, it is refused by its column.
func TestAValueOfAnotherKind(t *testing.T) {
	var text strings.Builder
	text.WriteString("id,kg\n")
	for i := range looked + 5 {
		fmt.Fprintf(&text, "%d,%d\n", i, i)
	}
	text.WriteString("7,heavy\n")
	db, _ := opened(t, "kg.csv", text.String())
	p := planned(t, db)
	if p.Table.Rows < looked || p.Columns[1].Type != "bigint" {
		t.Fatalf("%d rows, %+v", p.Table.Rows, p.Columns)
	}
	var odd []string
	n := 0
	if err := db.Scan(t.Context(), &p, engine.Scope{Refused: func(fields [][]byte, column, why string) {
		odd = append(odd, string(fields[0])+" "+column+": "+why)
	}}, func([][]byte) error { n++; return nil }); err != nil || n != looked+5 || len(odd) != 1 ||
		odd[0] != `7 kg: column kg holds "heavy", which is no bigint` {
		t.Errorf("%d rows, %q, %v", n, odd, err)
	}
}

func TestAFileThatChanges(t *testing.T) {
	db, path := opened(t, "a.csv", "id\n1\n2\n")
	p := planned(t, db)
	read := func() error {
		r, err := db.OpenReader(t.Context())
		if err != nil {
			return err
		}
		_, err = r.Copy(t.Context(), &p, &domain.Chunk{}, false, func([]byte) error { return nil })
		return err
	}
	if err := read(); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte("id\n1\n2\n3\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := read(); err == nil || !strings.Contains(err.Error(), "written since it was planned") ||
		engine.ClassOf(err) != engine.OfStatement {
		t.Errorf("one that was written: %v", err)
	}
	p = planned(t, db)
	if err := read(); err != nil || p.Table.Rows != 3 {
		t.Errorf("planned anew: %v, %d rows", err, p.Table.Rows)
	}
	// While it is read, too.
	r, err := db.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	err = r.Rows(t.Context(), &p, &domain.Chunk{}, func([][]byte, error) error {
		return os.Chtimes(path, time.Time{}, time.Now().Add(time.Hour))
	})
	if err == nil || !strings.Contains(err.Error(), "written since") {
		t.Errorf("one that is written meanwhile: %v", err)
	}
	if err := os.Remove(path); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/etc/hostname", path); err != nil {
		t.Fatal(err)
	}
	if err := read(); !domain.IsKind(err, domain.ProblemForbidden) {
		t.Errorf("a link in its place: %v", err)
	}
}

func TestWhatIsNoFileOfRows(t *testing.T) {
	dir := t.TempDir()
	d := Texts().Within([]string{dir})
	for name, c := range map[string][2]string{"latin.csv": {"name\nM\xfchle\n", "UTF-8"},
		"packed.gz": {"\x1f\x8b\x08cut", "cannot be unpacked"}} {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(c[0]), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, err := d.Open(t.Context(), engine.Endpoint{Database: path}); err == nil || !strings.Contains(err.Error(),
			c[1]) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := d.Open(t.Context(), engine.Endpoint{Database: "/etc/passwd"}); !domain.IsKind(err,
		domain.ProblemForbidden) {
		t.Errorf("another folder: %v", err)
	}
	if made, err := d.(Driver).Make(t.Context(), filepath.Join(dir, "new.csv")); made || err != nil {
		t.Errorf("%v, %v", made, err)
	}
	if _, err := d.ParsePosition("1"); err == nil || d.CheckPlace("1") == nil ||
		d.FormatPosition(domain.PositionAt(1)) != "" {
		t.Error("it has a log")
	}
}

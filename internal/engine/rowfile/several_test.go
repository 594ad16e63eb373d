package rowfile

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/klauspost/compress/zstd"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// packed is a text as a file of that ending has it.
func packed(t *testing.T, name, text string) []byte {
	t.Helper()
	var out bytes.Buffer
	switch filepath.Ext(name) {
	case ".gz":
		z := gzip.NewWriter(&out)
		_, _ = z.Write([]byte(text))
		_ = z.Close()
	case ".zst":
		z, err := zstd.NewWriter(&out)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = z.Write([]byte(text))
		_ = z.Close()
	default:
		out.WriteString(text)
	}
	return out.Bytes()
}

// folder has files in it.
func folder(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), packed(t, name, text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// rowsOf reads all rows, and what is refused of them.
func rowsOf(t *testing.T, db *engine.Opened, p *domain.TablePlan) (rows, refused []string, err error) {
	t.Helper()
	r, err := db.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	err = r.Rows(t.Context(), p, &domain.Chunk{}, func(f [][]byte, no error) error {
		if no != nil {
			refused = append(refused, no.Error())
			return nil
		}
		var line []string
		for _, v := range f {
			line = append(line, map[bool]string{true: "NULL", false: string(v)}[v == nil])
		}
		rows = append(rows, strings.Join(line, "|"))
		return nil
	})
	return rows, refused, err
}

func at(t *testing.T, d Driver, dir, path string) (*engine.Opened, error) {
	t.Helper()
	return engine.Open(t.Context(), d.Within([]string{dir}), engine.Endpoint{Database: filepath.Join(dir, path)})
}

// TestFilesOfOneTable: of a folder or a pattern, in the order of their names, however each is packed.
func TestFilesOfOneTable(t *testing.T) {
	dir := folder(t, map[string]string{"day-1.csv": "hive,kg\n1,2.5\n", "day-2.csv.gz": "hive,kg\n2,3\nx\n",
		"day-3.csv.zst": "\xef\xbb\xbfhive;kg\n3;4\n", ".hidden.csv": "a\n1\n", "notes.txt": "a\tb\tc\n1\t2\t3\n"})
	if err := os.Mkdir(filepath.Join(dir, "day-4"), 0o700); err != nil {
		t.Fatal(err)
	}
	db, err := at(t, Texts(), dir, "day-*")
	if err != nil {
		t.Fatal(err)
	}
	p := planned(t, db)
	rows, refused, err := rowsOf(t, db, &p)
	if err != nil || p.Source.Name != "day" || p.Columns[1].Type != "numeric" ||
		!slices.Equal(rows, []string{"1|2.5", "2|3", "3|4"}) ||
		!slices.Equal(refused, []string{"day-2.csv.gz, line 3 has 1 value, and the first row 2"}) {
		t.Errorf("%s, %s: %q, %q, %v", p.Source, p.Columns[1].Type, rows, refused, err)
	}
	facts, err := db.Check(t.Context())
	if err != nil || !strings.Contains(facts.AsSource[0].Measured, "3 files") {
		t.Errorf("%+v, %v", facts.AsSource, err)
	}
	// One more file is another table, and one of other columns none.
	if err := os.WriteFile(filepath.Join(dir, "day-5.csv"), []byte("hive,kg\n5,5\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, _, err := rowsOf(t, db, &p); err == nil || !strings.Contains(err.Error(), "written since it was planned") {
		t.Errorf("one more file: %v", err)
	}
	whole, err := at(t, Texts(), dir, "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := whole.Catalog(t.Context()); err == nil || !strings.Contains(err.Error(),
		"notes.txt has the columns a, b, c, and day-1.csv has hive, kg") {
		t.Errorf("other columns: %v", err)
	}
}

// TestPathsOfSeveral: nothing is learned of other folders, and patterns that name nothing say so.
func TestPathsOfSeveral(t *testing.T) {
	dir, other := folder(t, map[string]string{"a.csv": "a\n1\n"}), folder(t, map[string]string{"secret.csv": "a\n1\n"})
	for path, kind := range map[string]domain.ProblemKind{
		filepath.Join(other, "*"): domain.ProblemForbidden, other: domain.ProblemForbidden,
		filepath.Join(dir, "b-*.csv"): domain.ProblemUnavailable, filepath.Join(dir, "[a.csv"): domain.ProblemInvalid,
		dir + "/../" + filepath.Base(other) + "/*.csv": domain.ProblemForbidden, "/nowhere/*": domain.ProblemForbidden,
		"a*.csv": domain.ProblemInvalid, filepath.Dir(dir) + "/*/a.csv": domain.ProblemForbidden,
	} {
		_, err := engine.FilesWithin([]string{dir}, path)
		if !domain.IsKind(err, kind) || strings.Contains(err.Error(), "secret") {
			t.Errorf("%s: %v, not %s", path, err, kind)
		}
	}
	if err := os.Symlink(filepath.Join(other, "secret.csv"), filepath.Join(dir, "b.csv")); err != nil {
		t.Fatal(err)
	}
	if got, err := engine.FilesWithin([]string{dir}, dir); !domain.IsKind(err, domain.ProblemForbidden) {
		t.Errorf("a link out of it: %q, %v", got, err)
	}
	if got, err := engine.FilesWithin(nil, dir); !domain.IsKind(err, domain.ProblemForbidden) {
		t.Errorf("no folder is allowed: %q, %v", got, err)
	}
}

// TestObjectsAsRows: names of any line are columns, and what a text holds stays a text.
func TestObjectsAsRows(t *testing.T) {
	var text strings.Builder
	for i := range 50 {
		fmt.Fprintf(&text, `{"hive": %d, "kg": %d.5, "label": "%03d", "tags": ["a", %d], "seen": "2026-05-01"}`+"\n", i, i, i, i)
	}
	text.WriteString(`{"hive": 50, "remark": "late", "kg": null}` + "\n" + `{"hive": 51, "odd": 1` + "\n")
	dir := folder(t, map[string]string{"hives.jsonl.zst": text.String()})
	kind, err := JSONLines().Within([]string{dir}).(Driver).Look(filepath.Join(dir, "hives.jsonl.zst"))
	if err != nil || kind.String() != "file of JSON lines, packed by zstd" || !JSONLines().Recognises(kind) ||
		Texts().Recognises(kind) {
		t.Errorf("%s, %v", kind, err)
	}
	db, err := at(t, JSONLines(), dir, "hives.jsonl.zst")
	if err != nil {
		t.Fatal(err)
	}
	p := planned(t, db)
	var types []string
	for _, c := range p.Columns {
		types = append(types, c.Name+" "+c.Type)
	}
	rows, refused, err := rowsOf(t, db, &p)
	if err != nil || p.Source.Name != "hives" || strings.Join(types, ", ") !=
		"hive bigint, kg numeric, label text, tags json, seen date, remark text" || len(rows) != 51 ||
		rows[7] != `7|7.5|007|["a", 7]|2026-05-01|NULL` || rows[50] != "50|NULL|NULL|NULL|NULL|late" ||
		!slices.Equal(refused, []string{"line 52: it is no JSON: it ends too soon"}) {
		t.Errorf("%s: %s; %d rows: %q, %q, %v", p.Source, types, len(rows), rows[len(rows)-1], refused, err)
	}
	if list, err := db.SurveySource(t.Context(), []domain.TablePlan{p}, false); err != nil ||
		!strings.Contains(list[0].Measured, "one object of JSON a line, with 6 names") {
		t.Errorf("%+v, %v", list, err)
	}
	for name, text := range map[string]string{"empty.jsonl": "{}\n", "cut.jsonl": "{\"a\": 1"} {
		dir := folder(t, map[string]string{name: text})
		db, err := at(t, JSONLines(), dir, name)
		if err == nil {
			_, err = db.Catalog(t.Context())
		}
		if err == nil && name == "empty.jsonl" || err != nil && !strings.Contains(err.Error(), "no line is an object") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestFilesOfUTF16: as some programs save texts, in either order of bytes; what is no character is refused.
func TestFilesOfUTF16(t *testing.T) {
	for name, order := range map[string]binary.ByteOrder{"little": binary.LittleEndian, "big": binary.BigEndian} {
		var text []byte
		for _, unit := range utf16.Encode([]rune("\ufeffid\tname\r\n1\tGröße 🐝\r\n2\tx\r\n")) {
			text = append(text, 0, 0)
			order.PutUint16(text[len(text)-2:], unit)
		}
		order.PutUint16(text[len(text)-6:], 0xd800) // the x becomes half a character
		db, _ := opened(t, "stalls.txt", string(text))
		p := planned(t, db)
		rows, refused, err := rowsOf(t, db, &p)
		if err != nil || strings.Join(rows, "; ") != "1|Größe 🐝" || len(refused) != 1 ||
			refused[0] != "line 3 has something in it that is no character of UTF-16" {
			t.Errorf("%s: %q, refused %q, %v", name, rows, refused, err)
		}
		list, err := db.SurveySource(t.Context(), []domain.TablePlan{p}, false)
		if err != nil || list[0].Measured != "tabs between 2 columns, in UTF-16" {
			t.Errorf("%s: %+v, %v", name, list, err)
		}
	}
}

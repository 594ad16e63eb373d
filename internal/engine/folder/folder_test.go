package folder

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgcopy"
)

var forms = []string{"csv", "csv.gz", "csv.zst", "jsonl", "jsonl.gz", "jsonl.zst", "parquet"}

// kinds are one of each kind that a form writes in its own way.
func kinds() (out []domain.Column) {
	for i, typ := range []string{"bigint", "text", "boolean", "numeric", "double precision", "jsonb", "bytea"} {
		out = append(out, domain.Column{Name: fmt.Sprintf("%s, \"%d\"", typ, i), Type: typ, BaseType: typ})
	}
	return out
}

func hives(name string) domain.TablePlan {
	n := domain.TableName{Schema: "public", Name: name}
	return domain.TablePlan{Source: n, Target: n, Columns: kinds(), Key: []string{kinds()[0].Name}, KeyOrder: "source",
		Table: domain.Table{TableName: n, Columns: kinds()}}
}

// made opens a folder that was just made; the path is in a folder that the driver may open.
func made(t *testing.T) (*database, Driver) {
	t.Helper()
	d := Driver{Folders: []string{t.TempDir()}}
	path := filepath.Join(d.Folders[0], "out")
	if ok, err := d.Make(t.Context(), path); err != nil || !ok {
		t.Fatal(ok, err)
	}
	return again(t, d), d
}

// again opens the folder as another process does.
func again(t *testing.T, d Driver) *database {
	t.Helper()
	db, err := d.Open(t.Context(), engine.Endpoint{Database: filepath.Join(d.Folders[0], "out")})
	if err != nil {
		t.Fatal(err)
	}
	return db.(*database)
}

func prepared(t *testing.T, d *database, as, existing string, plans ...domain.TablePlan) error {
	t.Helper()
	return d.PrepareTarget(t.Context(), "c", nil, plans, domain.Settings{FileFormat: as, ExistingRows: existing}, nothing)
}

func nothing(engine.Object, error) {}

// someRows are rows with what is hard to write in them.
func someRows(r *rand.Rand, n int) (out [][]string) {
	texts := []string{"", "plain", "a,b", "\"", "\"\"", "two\nlines", "\r\n", " blank ", ",", "null", "true", "\\N", "æ🐝",
		"x\"y,\n\"",
		strings.Repeat("long \"text\"\n", 30_000)}
	for i := range n {
		row := []string{fmt.Sprint(i), texts[r.IntN(len(texts)-1)], []string{"true", "false"}[r.IntN(2)],
			[]string{"1.50", "-0.001", "NaN", "123456789012345678901234567890.123", "0", "Infinity"}[r.IntN(6)],
			[]string{"1e+20", "-0", "1.5", "NaN", "-Infinity", "5e-324"}[r.IntN(6)],
			[]string{`{"a": [1, null, "x,\"y"]}`, "[]", "17", "true", `{"a": 1, "a": 2}`}[r.IntN(5)],
			[]string{`\x`, `\x00ff`}[r.IntN(2)]}
		if i%1000 == 7 {
			row[1] = texts[len(texts)-1]
		}
		for c := 1; c < len(row); c++ {
			if r.IntN(6) == 0 {
				row[c] = "\x00" // NULL
			}
		}
		out = append(out, row)
	}
	return out
}

func fieldsOf(row []string) (out [][]byte) {
	for _, v := range row {
		if v == "\x00" {
			out = append(out, nil)
		} else {
			out = append(out, []byte(v))
		}
	}
	return out
}

func block(rows [][]string) (out []byte) {
	for _, row := range rows {
		out = pgcopy.AppendFields(out, fieldsOf(row))
	}
	return out
}

// land writes rows as a chunk.
func land(t *testing.T, d *database, p *domain.TablePlan, chunk, epoch int64, rows [][]string) error {
	t.Helper()
	w, err := d.OpenWriter(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	if err := w.Begin(t.Context(), p, false, nil); err != nil {
		return err
	}
	if err := w.Write(t.Context(), block(rows)); err != nil {
		return err
	}
	return w.Land(t.Context(), mark(chunk, epoch, rows))
}

func mark(chunk, epoch int64, rows [][]string) engine.Mark {
	return engine.Mark{Crossing: "c", Chunk: chunk, Epoch: epoch, Snapshot: domain.Snapshot{Log: domain.PositionAt(9)},
		Sum: rowhash.Sum{Rows: int64(len(rows)), Bytes: 1 << 40, Hash: 1<<63 + uint64(chunk)}}
}

func rowsOf(t *testing.T, d *database, p *domain.TablePlan) (out []string) {
	t.Helper()
	v, _, err := d.OpenView(t.Context(), false, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer v.Close()
	if err := v.(view).t.Range(t.Context(), p, nil, nil, func(row []byte, _ [][]byte) error {
		out = append(out, string(row))
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	slices.Sort(out)
	return out
}

func asRead(rows [][]string) (out []string) {
	for _, row := range rows {
		out = append(out, string(engine.Row(fieldsOf(row))))
	}
	slices.Sort(out)
	return out
}

// TestRowsComeBackAsTheyWere, in every form, through another process.
func TestRowsComeBackAsTheyWere(t *testing.T) {
	for _, as := range forms {
		t.Run(as, func(t *testing.T) {
			d, driver := made(t)
			p := hives("hives")
			if err := prepared(t, d, as, "refuse", p); err != nil {
				t.Fatal(err)
			}
			r := rand.New(rand.NewPCG(1, 2))
			var all [][]string
			for chunk := range 3 {
				rows := someRows(r, 1500*chunk) // the first is empty
				if err := land(t, d, &p, int64(chunk), 1, rows); err != nil {
					t.Fatal(err)
				}
				all = append(all, rows...)
			}
			d = again(t, driver)
			if got, want := rowsOf(t, d, &p), asRead(all); !slices.Equal(got, want) {
				for i := range min(len(got), len(want)) {
					if got[i] != want[i] {
						t.Fatalf("of %d and %d rows, %.200q is %.200q", len(got), len(want), want[i], got[i])
					}
				}
				t.Fatalf("%d rows, not %d", len(got), len(want))
			}
			manifestHolds(t, d, 3, int64(len(all)))
		})
	}
}

// manifestHolds reads the manifest as another program would: each file is there, with that hash and so many
// bytes, and there is no other.
func manifestHolds(t *testing.T, d *database, files int, rows int64) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(d.path, manifest))
	if err != nil {
		t.Fatal(err)
	}
	listed := map[string]bool{}
	n := int64(0)
	for line := range strings.Lines(string(text)) {
		var f struct {
			File, SHA256 string
			Rows, Bytes  int64
		}
		if err := json.Unmarshal([]byte(line), &f); err != nil {
			t.Fatal(err)
		}
		content, err := os.ReadFile(filepath.Join(d.path, f.File))
		if err != nil || int64(len(content)) != f.Bytes || fmt.Sprintf("%x", sha256.Sum256(content)) != f.SHA256 {
			t.Errorf("%s is not as it is listed: %v", f.File, err)
		}
		listed[f.File] = true
		n += f.Rows
	}
	if len(listed) != files || n != rows {
		t.Errorf("%d files with %d rows are listed, not %d with %d", len(listed), n, files, rows)
	}
	there, err := filepath.Glob(filepath.Join(d.path, "*", "*"))
	if err != nil {
		t.Fatal(err)
	}
	hidden, _ := filepath.Glob(filepath.Join(d.path, "*", ".*"+part))
	for _, f := range append(there, hidden...) {
		if name, _ := filepath.Rel(d.path, f); !listed[name] {
			t.Errorf("%s is there and not listed", name)
		}
	}
}

// TestChunksLandOnce: under the newest epoch alone, with all that land with them, or not at all.
func TestChunksLandOnce(t *testing.T) {
	d, driver := made(t)
	p, q := hives("hives"), hives("jars")
	if err := prepared(t, d, "csv", "refuse", p, q); err != nil {
		t.Fatal(err)
	}
	rows := someRows(rand.New(rand.NewPCG(3, 4)), 10)
	other := again(t, driver)
	if m, err := other.Fence(t.Context(), "c", 1, 5); m != nil || err != nil {
		t.Fatal(m, err)
	}
	if err := land(t, d, &p, 1, 4, rows); !errors.Is(err, domain.ErrTakenOver) {
		t.Errorf("an older holder landed: %v", err)
	}
	manifestHolds(t, d, 0, 0)
	if err := land(t, other, &p, 1, 5, rows); err != nil {
		t.Fatal(err)
	}
	if err := land(t, d, &p, 1, 6, rows); !errors.Is(err, domain.ErrTakenOver) {
		t.Errorf("it landed twice: %v", err)
	}
	m, err := d.Fence(t.Context(), "c", 1, 7)
	want := mark(1, 5, rows)
	if err != nil || m == nil || m.Sum != want.Sum || m.Epoch != 5 || m.Snapshot.Log != want.Snapshot.Log {
		t.Errorf("the mark is %+v, %v", m, err)
	}
	// Two together, of which one is another's by now.
	together := func(first, second int64) error {
		w, _ := d.OpenWriter(t.Context(), "")
		defer w.Close()
		for i, plan := range []*domain.TablePlan{&p, &q} {
			if err := errors.Join(w.Begin(t.Context(), plan, false, nil), w.Write(t.Context(), block(rows))); err != nil {
				return err
			}
			if i == 0 {
				if err := w.Next(t.Context(), mark(first, 1, rows)); err != nil {
					return err
				}
				if _, err := other.Fence(t.Context(), "c", 3, 2); err != nil {
					t.Fatal(err)
				}
			}
		}
		return w.Land(t.Context(), mark(second, 1, rows))
	}
	if err := together(2, 3); !errors.Is(err, domain.ErrTakenOver) {
		t.Errorf("one of two was another's: %v", err)
	}
	if err := together(2, 4); err != nil {
		t.Error(err)
	}
	if got, err := other.Marked(t.Context(), "c"); err != nil || len(got) != 3 || !got[1] || !got[2] || !got[4] {
		t.Errorf("%v, %v", got, err)
	}
	manifestHolds(t, other, 3, 30)
	if err := other.ClearTable(t.Context(), "c", "", &p, nil); err != nil {
		t.Fatal(err)
	}
	if got, err := d.Marked(t.Context(), "c"); err != nil || len(got) != 1 || !got[4] {
		t.Errorf("emptied: %v, %v", got, err)
	}
	manifestHolds(t, d, 1, 10)
	theirs := filepath.Join(d.path, "hives", filePrefix+"000000001.csv")
	if err := os.WriteFile(theirs, []byte("theirs"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := land(t, d, &p, 1, 9, rows); !domain.IsKind(err, domain.ProblemConflict) ||
		!strings.Contains(err.Error(), "move it away") {
		t.Errorf("somebody else's file was in the way: %v", err)
	}
	if text, err := os.ReadFile(theirs); err != nil || string(text) != "theirs" || os.Remove(theirs) != nil {
		t.Errorf("somebody else's file is %q, %v", text, err)
	}
	if err := land(t, d, &p, 1, 9, rows); err != nil {
		t.Errorf("it does not land anew: %v", err)
	}
	manifestHolds(t, other, 2, 20)
}

// TestWhatTheDeadLeave: a file that was being written, one that got its name and is not listed, and a line that
// is not whole, are gone when the next process comes; what somebody is writing is not, nor what is listed, nor
// what somebody else put there.
func TestWhatTheDeadLeave(t *testing.T) {
	d, driver := made(t)
	p := hives("hives")
	if err := prepared(t, d, "csv.gz", "refuse", p); err != nil {
		t.Fatal(err)
	}
	rows := someRows(rand.New(rand.NewPCG(3, 4)), 10)
	if err := land(t, d, &p, 1, 1, rows); err != nil {
		t.Fatal(err)
	}
	w, _ := d.OpenWriter(t.Context(), "")
	defer w.Close()
	if err := errors.Join(w.Begin(t.Context(), &p, false, nil), w.Write(t.Context(), block(rows))); err != nil {
		t.Fatal(err)
	}
	in := func(name string) string { return filepath.Join(d.path, "hives", name) }
	first := in(filePrefix + "000000001.csv.gz")
	theirs := in(filePrefix + "000000001.csv.gz.copy")
	if err := errors.Join(os.WriteFile(in(".x"+part), []byte("x"), 0o600), os.WriteFile(theirs, []byte("x"), 0o600),
		os.Link(in(".x"+part), in(filePrefix+"000000002.csv.gz")), os.Link(first, in(".y"+part))); err != nil {
		t.Fatal(err)
	}
	f, err := os.OpenFile(filepath.Join(d.path, manifest), os.O_APPEND|os.O_WRONLY, 0o600)
	if err == nil {
		_, err = f.WriteString(`{"file":"hives/chunk-000000002.csv.gz","ta`)
		_ = f.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	if _, err := again(t, driver).Marked(t.Context(), "c"); err != nil {
		t.Fatal(err)
	}
	if err := w.Land(t.Context(), mark(2, 1, rows)); err != nil {
		t.Errorf("who was writing does not land: %v", err)
	}
	if err := os.Remove(theirs); err != nil {
		t.Errorf("somebody else's file was removed: %v", err)
	}
	// Somebody else died over the next chunk, after we had looked.
	if err := errors.Join(os.WriteFile(in(".z"+part), []byte("x"), 0o600),
		os.Link(in(".z"+part), in(filePrefix+"000000003.csv.gz")), land(t, d, &p, 3, 1, nil)); err != nil {
		t.Error(err)
	}
	manifestHolds(t, d, 3, 20)
	if got := rowsOf(t, d, &p); len(got) != 20 {
		t.Errorf("%d rows", len(got))
	}
}

// TestDamagedFilesAreTold: what is not as it was written is never read as if it were.
func TestDamagedFilesAreTold(t *testing.T) {
	for _, as := range forms {
		for name, damage := range map[string]func([]byte) []byte{
			"cut":   func(b []byte) []byte { return b[:len(b)/2] },
			"empty": func([]byte) []byte { return nil },
			"a value changed": func(b []byte) []byte {
				if as != "csv" && as != "jsonl" {
					return b[:len(b)-1]
				}
				return bytes.Replace(b, []byte("b"), []byte("c"), 1)
			},
			"a row gone": func(b []byte) []byte {
				if strings.Contains(as, ".") {
					return b[:len(b)-12]
				}
				lines := bytes.SplitAfter(b, []byte("\n"))
				return bytes.Join(lines[:len(lines)-2], nil)
			},
		} {
			d, _ := made(t)
			p := hives("hives")
			if err := errors.Join(prepared(t, d, as, "refuse", p), land(t, d, &p, 1, 1, [][]string{
				{"1", "a", "t", "1", "1", "1", `\x`}, {"2", "b", "t", "1", "1", "1", `\x`}})); err != nil {
				t.Fatal(err)
			}
			files, _ := filepath.Glob(filepath.Join(d.path, "hives", "*"))
			content, err := os.ReadFile(files[0])
			if err == nil {
				err = os.WriteFile(files[0], damage(content), 0o600)
			}
			if err != nil {
				t.Fatal(err)
			}
			told := func(n int64, err error) {
				t.Helper()
				if !domain.IsKind(err, domain.ProblemConflict) || !strings.Contains(err.Error(), "restart the table") {
					t.Errorf("%s, %s: %d rows, %v", as, name, n, err)
				}
			}
			n := int64(0)
			err = reader{d}.Rows(t.Context(), &p, nil, func([][]byte, error) error { n++; return nil })
			told(n, err)
			if name == "a value changed" { // a comparison finds that by its row
				continue
			}
			v, _, _ := d.OpenView(t.Context(), false, 0)
			told(v.Count(t.Context(), &p))
		}
	}
}

// TestTablesThatAreThere: what becomes of them is what was set, and never a guess.
func TestTablesThatAreThere(t *testing.T) {
	wider := hives("hives")
	wider.Columns = append(kinds(), domain.Column{Name: "more", Type: "text", BaseType: "text"})
	rows := [][]string{{"1", "a", "t", "1", "1", "1", `\x`}}
	for name, c := range map[string]struct {
		as, existing string
		plan         domain.TablePlan
		empty        bool // before
		left         int  // files
		refused      string
	}{
		"holds rows":                  {"csv", "refuse", hives("hives"), false, 1, "holds rows"},
		"by another case":             {"csv", "refuse", hives("HIVES"), false, 1, "holds rows"},
		"empty":                       {"csv", "refuse", hives("hives"), true, 0, ""},
		"kept":                        {"csv", "keep", hives("hives"), false, 1, ""},
		"emptied":                     {"csv", "empty", hives("hives"), false, 0, ""},
		"replaced":                    {"jsonl", "replace", wider, false, 0, ""},
		"another form":                {"jsonl", "keep", hives("hives"), false, 1, "written as csv, not as jsonl"},
		"another form, empty":         {"jsonl", "refuse", hives("hives"), true, 0, ""},
		"a column more":               {"csv", "empty", wider, false, 1, "it has 7 columns, not 8"},
		"in place of others":          {"csv", engine.ReplaceRange, hives("hives"), false, 1, "cannot take the place"},
		"a form that there is not":    {"xml", "empty", hives("hives"), false, 1, `as "xml"`},
		"with the sign of a folder":   {"csv", "refuse", hives("a/b"), false, 1, ""},
		"hidden":                      {"csv", "refuse", hives("..\\up"), false, 1, ""},
		"files of somebody else's":    {"csv", "refuse", hives("theirs"), false, 1, "not ours"},
		"an ending that there is not": {"csv.zip", "empty", hives("hives"), false, 1, `as "csv.zip"`},
	} {
		t.Run(name, func(t *testing.T) {
			d, _ := made(t)
			p := hives("hives")
			if err := prepared(t, d, "csv", "refuse", p); err != nil {
				t.Fatal(err)
			}
			if !c.empty {
				if err := land(t, d, &p, 1, 1, rows); err != nil {
					t.Fatal(err)
				}
			}
			theirs := filepath.Join(d.path, "theirs")
			if err := errors.Join(os.Mkdir(theirs, 0o700), os.WriteFile(filepath.Join(theirs, "x"), nil, 0o600)); err != nil {
				t.Fatal(err)
			}
			plan := c.plan
			plan.ExistingRows = ""
			err := prepared(t, d, c.as, c.existing, plan)
			if (err == nil) != (c.refused == "") || err != nil && !strings.Contains(err.Error(), c.refused) {
				t.Errorf("%v", err)
			}
			if got, _ := d.Marked(t.Context(), "c"); len(got) != c.left {
				t.Errorf("%d files are left", len(got))
			}
			if err == nil {
				full := append(slices.Clone(rows[0]), "more")[:len(plan.Columns)]
				if err := land(t, d, &plan, 2, 1, [][]string{full}); err != nil {
					t.Errorf("afterwards nothing lands: %v", err)
				}
			}
			outside, _ := filepath.Glob(filepath.Join(filepath.Dir(d.path), "*"))
			if len(outside) != 1 {
				t.Errorf("beside the folder there is %q", outside)
			}
		})
	}
}

// TestWhatIsAFolderOfOurs: only an empty one, or none, in a folder that may be opened, becomes one.
func TestWhatIsAFolderOfOurs(t *testing.T) {
	base := t.TempDir()
	d := Driver{Folders: []string{base}}
	full, file := filepath.Join(base, "full"), filepath.Join(base, "file")
	link := filepath.Join(base, "link")
	if err := errors.Join(os.Mkdir(full, 0o700), os.WriteFile(filepath.Join(full, "x"), nil, 0o600),
		os.WriteFile(file, []byte("id\n1\n"), 0o600), os.Symlink(t.TempDir(), link)); err != nil {
		t.Fatal(err)
	}
	for path, why := range map[string]string{full: "not empty", file: "no folder", base: "in it",
		link:                              "none of the folders",
		filepath.Join(base, "no", "such"): "there is no file", t.TempDir(): "none of the folders", "relative": "not whole"} {
		if ok, err := d.Make(t.Context(), path); ok || err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%s: %t, %v", path, ok, err)
		}
	}
	fresh := filepath.Join(base, "fresh")
	for i, want := range []bool{true, false} { // the second time it is one already
		if ok, err := d.Make(t.Context(), fresh); ok != want || err != nil {
			t.Errorf("%d: %t, %v", i, ok, err)
		}
	}
	if k, err := d.Look(fresh); err != nil || !d.Recognises(k) {
		t.Errorf("%v, %v", k, err)
	}
}

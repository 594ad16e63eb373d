package rowfile

import (
	"bytes"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/deprecated"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// written is a Parquet file with these rows, in groups of two.
func written[T any](t *testing.T, path string, rows ...T) {
	t.Helper()
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	w := parquet.NewGenericWriter[T](f, parquet.MaxRowsPerRowGroup(2))
	for _, row := range rows { // one by one, or a group is larger
		if _, err := w.Write([]T{row}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
}

func openParquetFile(t *testing.T, dir, name string) (*engine.Opened, error) {
	t.Helper()
	return engine.Open(t.Context(), Parquet().Within([]string{dir}), engine.Endpoint{Database: filepath.Join(dir, name)})
}

type frame struct {
	Weight int32             `parquet:"weight"`
	Seen   *int64            `parquet:"seen,optional,timestamp(microsecond:utc)"`
	Marks  []string          `parquet:"marks,list"`
	More   map[string]*int32 `parquet:"more,optional"`
}

type stall struct {
	ID     int64            `parquet:"id"`
	Small  int8             `parquet:"small"`
	Wide   uint64           `parquet:"wide"`
	Open   bool             `parquet:"open"`
	Name   *string          `parquet:"name,optional"`
	Kg     float64          `parquet:"kg"`
	Share  float32          `parquet:"share"`
	Price  int64            `parquet:"price,decimal(2:12)"`
	Since  int32            `parquet:"since,date"`
	At     int64            `parquet:"at,timestamp(millisecond:local)"`
	Zoned  int64            `parquet:"zoned,timestamp(nanosecond:utc)"`
	Tag    [16]byte         `parquet:"tag,uuid"`
	Raw    []byte           `parquet:"raw"`
	Old    deprecated.Int96 `parquet:"old"`
	Rep    []int32          `parquet:"rep"`
	Frames []frame          `parquet:"frames,list"`
	Best   *frame           `parquet:"best,optional"`
}

func TestColumnsOfParquet(t *testing.T) {
	dir := t.TempDir()
	name, seen, five := "Lavender \"L\"", time.Date(2026, 5, 1, 8, 0, 0, 250_000_000, time.UTC).UnixMicro(), int32(5)
	path := filepath.Join(dir, "stalls.parquet")
	never := deprecated.Int96{0, 0, 2440588}
	written(t, path,
		stall{ID: 1, Small: -3, Wide: math.MaxUint64, Open: true, Name: &name, Kg: 0.1, Share: 0.1, Price: -5, Since: 20574,
			At: 1777622400123, Zoned: 1777622400123456000, Tag: [16]byte{15: 7}, Raw: []byte{0, 255},
			Old: deprecated.Int96{0, 0, 2440589}, Rep: []int32{1, 2},
			Frames: []frame{{Weight: 1, Seen: &seen, Marks: []string{"a", ""}, More: map[string]*int32{"x": &five}},
				{Weight: 2}},
			Best: &frame{Weight: 9}},
		stall{ID: 2, Kg: math.Inf(-1), Share: float32(math.NaN()), Old: never},
		stall{ID: 3, Zoned: 1, Old: never},
		stall{ID: 4, At: -62135596800001, Old: never})
	db, err := openParquetFile(t, dir, "stalls.parquet")
	if err != nil {
		t.Fatal(err)
	}
	p := planned(t, db)
	var types []string
	for _, c := range p.Columns {
		null := ""
		if !c.NotNull {
			null = " null"
		}
		types = append(types, c.Name+" "+c.Type+null)
	}
	want := "id bigint, small smallint, wide numeric(20,0), open boolean, name text null, kg double precision, share " +
		"real, " +
		"price numeric(12,2), since date, at timestamp without time zone, zoned timestamp with time zone, tag uuid, " +
		"raw bytea, old timestamp without time zone, rep json, frames json, best json null"
	if got := strings.Join(types, ", "); got != want || p.Table.Rows != 4 || p.Source.Name != "stalls" {
		t.Fatalf("%s: %s\nwant %s; %d rows", p.Source, got, want, p.Table.Rows)
	}
	rows, refused, err := rowsOf(t, db, &p)
	if err != nil {
		t.Fatal(err)
	}
	first := `1|-3|18446744073709551615|true|Lavender "L"|0.1|0.1|-0.05|2026-05-01|2026-05-01 08:00:00.123|` +
		`2026-05-01 08:00:00.123456+00|00000000-0000-0000-0000-000000000007|\x00ff|1970-01-02 00:00:00|[1,2]|` +
		`[{"weight":1,"seen":"2026-05-01 08:00:00.25+00","marks":["a",""],"more":{"x":5}},` +
		`{"weight":2,"seen":null,"marks":[],"more":null}]|{"weight":9,"seen":null,"marks":[],"more":null}`
	if len(rows) != 2 || rows[0] != first || !strings.Contains(rows[1], "|-Infinity|NaN|0.00|1970-01-01|") ||
		!strings.HasSuffix(rows[1], "|[]|[]|NULL") {
		t.Errorf("rows are\n%s\nwant\n%s", strings.Join(rows, "\n"), first)
	}
	if len(refused) != 2 || refused[0] != "row 3: zoned: it is finer than a microsecond, which no target keeps" ||
		refused[1] != "row 4: at: the year 0 is none from 1 to 9999" {
		t.Errorf("refused: %q", refused)
	}
	list, err := db.SurveySource(t.Context(), []domain.TablePlan{p}, false)
	if err != nil || !strings.Contains(list[0].Measured, "17 columns in 2 groups of rows") ||
		!strings.HasSuffix(list[0].Measured, "becomes JSON: rep, frames, best") {
		t.Errorf("%+v, %v", list, err)
	}
}

// TestListsAndNothing: nothing, an empty list, a list of nothing and one in another are told apart.
func TestListsAndNothing(t *testing.T) {
	schema := parquet.NewSchema("x", parquet.Group{
		"a": parquet.Optional(parquet.List(parquet.Optional(parquet.List(parquet.Optional(parquet.Int(32)))))),
		"m": parquet.Map(parquet.Int(64), parquet.Optional(parquet.Decimal(1, 4, parquet.Int32Type))),
	})
	dir := t.TempDir()
	var out bytes.Buffer
	w := parquet.NewWriter(&out, schema)
	v := func(x any, d, r, column int) parquet.Value { return parquet.ValueOf(x).Level(r, d, column) }
	for _, row := range []parquet.Row{
		{v(nil, 0, 0, 0), v(nil, 0, 0, 1), v(nil, 0, 0, 2)},
		{v(nil, 1, 0, 0), v(int64(7), 1, 0, 1), v(nil, 1, 0, 2)},
		{v(nil, 2, 0, 0), v(nil, 3, 1, 0), v(nil, 4, 1, 0), v(int32(3), 5, 2, 0), v(int64(-1), 1, 0, 1), v(int64(2), 1, 1, 1),
			v(int32(15), 2, 0, 2), v(int32(-4), 2, 1, 2)},
	} {
		if _, err := w.WriteRows([]parquet.Row{row}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "lists"), out.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	db, err := openParquetFile(t, dir, "lists")
	if err != nil {
		t.Fatal(err)
	}
	p := planned(t, db)
	rows, refused, err := rowsOf(t, db, &p)
	want := "NULL|{}\n[]|{\"7\":null}\n[null,[],[null,3]]|{\"-1\":1.5,\"2\":-0.4}"
	if got := strings.Join(rows, "\n"); got != want || len(refused) > 0 || err != nil {
		t.Errorf("%s\nwant\n%s\n%q %v", got, want, refused, err)
	}
}

// TestSeveralOfParquet are one table if their columns are alike; one that is cut off, packed or another is
// refused, whatever it was when the table was planned.
func TestSeveralOfParquet(t *testing.T) {
	type lot struct {
		ID int32 `parquet:"id"`
	}
	type other struct {
		ID int64 `parquet:"id"`
	}
	dir := t.TempDir()
	written(t, filepath.Join(dir, "a.parquet"), lot{1}, lot{2}, lot{3})
	written(t, filepath.Join(dir, "b.parquet"), lot{4})
	db, err := openParquetFile(t, dir, "*.parquet")
	if err != nil {
		t.Fatal(err)
	}
	p := planned(t, db)
	rows, _, err := rowsOf(t, db, &p)
	if err != nil || p.Table.Rows != 4 || fmt.Sprint(rows) != "[1 2 3 4]" {
		t.Errorf("%d rows are known, %v, %v", p.Table.Rows, rows, err)
	}
	written(t, filepath.Join(dir, "c.parquet"), other{5})
	if _, err := db.Catalog(t.Context()); err == nil || !strings.Contains(err.Error(),
		"c.parquet has the columns id bigint, and a.parquet has id integer") {
		t.Errorf("other columns: %v", err)
	}
	if _, _, err := rowsOf(t, db, &p); err == nil || !strings.Contains(err.Error(), "was written since") {
		t.Errorf("one more file: %v", err)
	}
	whole, err := os.ReadFile(filepath.Join(dir, "a.parquet"))
	if err != nil {
		t.Fatal(err)
	}
	for name, content := range map[string][]byte{
		"cut":  whole[:len(whole)-9],
		"torn": append(append([]byte("PAR1"), bytes.Repeat([]byte{7}, 60)...), whole[len(whole)-60:]...),
		"gz":   packed(t, "a.gz", string(whole)),
	} {
		if err := os.WriteFile(filepath.Join(dir, name), content, 0o600); err != nil {
			t.Fatal(err)
		}
		if db, err := openParquetFile(t, dir, name); err == nil {
			cat, err := db.Catalog(t.Context())
			if err != nil {
				continue
			}
			p, err := db.Plan(&cat.Tables[0])
			if err != nil {
				t.Fatal(err)
			}
			if _, _, err := rowsOf(t, db, &p); err == nil {
				t.Errorf("%s: it was read", name)
			}
		} else if name == "gz" && !strings.Contains(err.Error(), "unpack it") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

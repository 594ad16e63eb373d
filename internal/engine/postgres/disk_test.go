package postgres

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/core/chunkplan"
	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgcopy"
)

// TestWhichTablesLieOnTheDisk: those whose keys are equal only where their texts are.
func TestWhichTablesLieOnTheDisk(t *testing.T) {
	d := fresh(t, "CREATE COLLATION public.loose (provider = icu, locale = 'und-u-ks-level2', deterministic = false)",
		"CREATE DOMAIN public.code AS text",
		"CREATE TABLE public.a_uuid (id uuid PRIMARY KEY)",
		"CREATE TABLE public.a_pair (a text, b integer, PRIMARY KEY (a, b))",
		"CREATE TABLE public.a_name (id varchar(9) COLLATE \"C\" PRIMARY KEY)", "CREATE TABLE public.no_key (id uuid)",
		"CREATE TABLE public.no_number (id numeric PRIMARY KEY)", "CREATE TABLE public.no_blanks (id char(9) PRIMARY KEY)",
		"CREATE TABLE public.no_loose (id text COLLATE public.loose PRIMARY KEY)",
		"CREATE TABLE public.no_domain (id public.code PRIMARY KEY)",
		"CREATE TABLE public.no_parts (id uuid PRIMARY KEY) PARTITION BY HASH (id)",
		"INSERT INTO public.a_uuid SELECT gen_random_uuid() FROM generate_series(1, 20000)", "ANALYZE")
	if d.major < tidRanges {
		t.Skip("the server reads no ranges of pages")
	}
	var plans []*domain.TablePlan
	for _, name := range []string{"a_uuid", "a_pair", "a_name", "no_key", "no_number", "no_blanks", "no_loose",
		"no_domain",
		"no_parts"} {
		plans = append(plans, planned(t, d, "public."+name))
	}
	orders, err := d.DiskOrders(t.Context(), plans)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for name := range orders {
		got = append(got, name.Name)
	}
	if slices.Sort(got); strings.Join(got, " ") != "a_name a_pair a_uuid" {
		t.Errorf("these lie on the disk: %v", got)
	}
	o := orders[plans[0].Source]
	if o.Pages < 90 || o.Cache < 1000 || o.File == "" || o.Correlation == nil || *o.Correlation > 0.2 {
		t.Errorf("20,000 random keys lie as %+v", o)
	}
	if o := orders[plans[1].Source]; o.Correlation != nil {
		t.Errorf("of an empty table the order is known: %v", *o.Correlation)
	}
}

// wall is a table with a random key, and its empty copy on another database.
type wall struct {
	from, to *database
	p        *domain.TablePlan
	chunks   []domain.Chunk
	w        *writer
	a        *applier
}

func newWall(t *testing.T, chunks int) *wall {
	t.Helper()
	x := &wall{from: fresh(t,
		"CREATE TABLE public.labels (code uuid PRIMARY KEY, jar integer, twice integer GENERATED ALWAYS "+
			"AS (jar * 2) STORED, honey text)",
		"INSERT INTO public.labels (code, jar, honey) SELECT md5(g::text)::uuid, g, repeat('x', 100) "+
			"FROM generate_series(1, 5000) g"),
		to: fresh(t, bookkeepingTables, "CREATE TABLE public.labels (code uuid PRIMARY KEY, jar integer, twice integer "+
			"GENERATED ALWAYS AS (jar * 2) STORED NOT NULL, honey text)")}
	if x.from.major < tidRanges {
		t.Skip("the server reads no ranges of pages")
	}
	x.p = planned(t, x.from, "public.labels")
	x.p.ReadOrder = domain.ByDisk
	orders, err := x.from.DiskOrders(t.Context(), []*domain.TablePlan{x.p})
	if err != nil {
		t.Fatal(err)
	}
	x.chunks = chunkplan.Pages(orders[x.p.Source], chunks)
	w, err := x.to.OpenWriter(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	a, err := x.to.OpenApplier(t.Context(), "c", "", 1)
	if err != nil {
		t.Fatal(err)
	}
	x.w, x.a = w.(*writer), a.(*applier)
	t.Cleanup(x.w.Close)
	t.Cleanup(x.a.Close)
	return x
}

// read begins to land a chunk, and reads it.
func (x *wall) read(t *testing.T, i int) (engine.Mark, error) {
	t.Helper()
	r, err := x.from.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	m := engine.Mark{Crossing: "c", Chunk: int64(i), Epoch: 1}
	if m.Snapshot, err = r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := x.w.Begin(t.Context(), x.p, false, nil); err != nil {
		t.Fatal(err)
	}
	m.Sum, err = r.Copy(t.Context(), x.p, &x.chunks[i], false, func(b []byte) error { return x.w.Write(t.Context(), b) })
	return m, err
}

func (x *wall) land(t *testing.T, i int) {
	t.Helper()
	m, err := x.read(t, i)
	if err == nil {
		err = x.w.Land(t.Context(), m)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// apply has changes applied, as a follower does while the table loads.
func (x *wall) apply(t *testing.T, n fold.Net, keep, forget []domain.KeyValue) {
	t.Helper()
	if err := x.a.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := x.a.Remember(t.Context(), x.p, keep, forget); err != nil {
		t.Fatal(err)
	}
	if _, err := x.a.Apply(t.Context(), x.p, n, false); err != nil {
		t.Fatal(err)
	}
	if err := x.a.tx.Commit(t.Context()); err != nil {
		t.Fatal(err)
	}
}

func code(t *testing.T, d *database, jar int) string {
	t.Helper()
	return collectOne(t, d, fmt.Sprintf("SELECT md5('%d')::uuid::text", jar))
}

// TestChunksOfPages cover every row once, and land beside what stands, which stays.
func TestChunksOfPages(t *testing.T) {
	x := newWall(t, 4)
	x.land(t, 0)
	if x.w.staged {
		t.Error("rows land through a stage, and nothing was applied")
	}
	k1, k2 := code(t, x.from, 4999), code(t, x.from, 4998)
	put := domain.Row{{Kind: domain.Present, Data: []byte(k1)}, {Kind: domain.Present, Data: []byte("-7")},
		{Kind: domain.Present, Data: []byte("newer")}}
	gone := domain.Row{{Kind: domain.Present, Data: []byte(k2)}, {}, {}}
	x.apply(t, fold.Net{Puts: []domain.Row{put}, Removes: []domain.Row{gone}}, []domain.KeyValue{{k2}}, nil)
	for i := 1; i < 4; i++ {
		x.land(t, i)
		if !x.w.staged {
			t.Error("rows land straight, and changes were applied")
		}
	}
	if got := collectOne(t, x.to,
		"SELECT count(*) || ' ' || sum(jar) || ' ' || count(*) FILTER (WHERE honey = 'newer') || "+
			"' ' || sum(twice) FROM public.labels"); got != fmt.Sprintf("5000 %d 1 %d", 5000*5001/2-4999-7,
		2*(5000*5001/2-4999-7)) {
		t.Errorf("there stand %s", got)
	}
	kept, err := x.to.Remembered(t.Context(), "c", x.p)
	if err != nil || len(kept) != 1 || kept[0][0] != k2 {
		t.Errorf("remembered are %v (%v)", kept, err)
	}
	x.apply(t, fold.Net{Removes: []domain.Row{gone}}, nil, []domain.KeyValue{{k2}})
	if kept, err = x.to.Remembered(t.Context(), "c", x.p); err != nil || len(kept) != 0 {
		t.Errorf("remembered are still %v (%v)", kept, err)
	}
	x.apply(t, fold.Net{Removes: []domain.Row{gone}}, []domain.KeyValue{{k2}}, nil)
	if err := x.to.forgetRemoved(t.Context(), "c", []domain.TablePlan{*x.p}); err != nil {
		t.Fatal(err)
	}
	if kept, err = x.to.Remembered(t.Context(), "c", x.p); err != nil || len(kept) != 0 {
		t.Errorf("a load that begins remembers %v (%v)", kept, err)
	}
	x.apply(t, fold.Net{Removes: []domain.Row{gone}}, []domain.KeyValue{{k2}}, nil)
	if err := x.to.ClearTable(t.Context(), "c", "", x.p, []int64{0, 1, 2, 3}); err != nil {
		t.Fatal(err)
	}
	if got := collectOne(t, x.to, "SELECT count(*)::text FROM dusty_ferry.removed_key"); got != "0" {
		t.Errorf("%s keys of an empty table are remembered", got)
	}
	if err := x.to.Forget(t.Context(), "c"); err != nil {
		t.Error(err)
	}
}

// TestAChunkAndChangesTakeTurns: while rows land straight, changes wait; while changes are under
// way, a chunk is read, and waits where it is to land.
func TestAChunkAndChangesTakeTurns(t *testing.T) {
	x := newWall(t, 4)
	m, err := x.read(t, 0) // not landed yet
	if err != nil {
		t.Fatal(err)
	}
	applied := make(chan error, 1)
	if err := x.a.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	go func() { applied <- x.a.Remember(t.Context(), x.p, []domain.KeyValue{{code(t, x.from, 1)}}, nil) }()
	select {
	case err := <-applied:
		t.Fatalf("changes are applied to a table into which rows go straight (%v)", err)
	case <-time.After(300 * time.Millisecond):
	}
	if err := x.w.Land(t.Context(), m); err != nil {
		t.Fatal(err)
	}
	if err := <-applied; err != nil {
		t.Fatal(err)
	}
	landed := make(chan error, 1)
	go func() {
		m, err := x.read(t, 1)
		if err == nil {
			err = x.w.Land(t.Context(), m)
		}
		landed <- err
	}()
	select {
	case err := <-landed:
		t.Fatalf("a chunk landed while changes were under way (%v)", err)
	case <-time.After(500 * time.Millisecond):
	}
	if err := x.a.tx.Commit(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := <-landed; err != nil {
		t.Error(err)
	}
}

// TestARowInTwoChunks: one that was moved between two reads keeps the second from landing straight,
// and the next try goes through a stage.
func TestARowInTwoChunks(t *testing.T) {
	x := newWall(t, 4)
	x.land(t, 0)
	run(t, x.from, "UPDATE public.labels SET jar = -1 WHERE code = (SELECT code FROM public.labels ORDER BY ctid LIMIT 1)")
	m, err := x.read(t, 3)
	if err == nil {
		err = x.w.Land(t.Context(), m)
	}
	if err == nil || engine.ClassOf(err) == engine.OfRows || !strings.Contains(err.Error(), "moved between the reads") {
		t.Fatalf("a row that stands was landed again: %v", err)
	}
	x.w.Abort()
	w, err := x.to.OpenWriter(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	x.w = w.(*writer)
	defer x.w.Close()
	x.land(t, 3)
	if !x.w.staged {
		t.Error("the next try goes straight too")
	}
	if err := x.to.Forget(t.Context(), "another"); err != nil {
		t.Error(err)
	}
}

// TestRowsOneByOneBesideWhatStands: a chunk that is carried row by row leaves alone what stands.
func TestRowsOneByOneBesideWhatStands(t *testing.T) {
	x := newWall(t, 1)
	key := code(t, x.from, 7)
	run(t, x.to, "INSERT INTO public.labels VALUES ('"+key+"', -1, DEFAULT, 'stands')")
	if err := x.w.Careful(t.Context(), x.p, nil); err != nil {
		t.Fatal(err)
	}
	row := func(code, jar string) []byte {
		return pgcopy.AppendFields(nil, [][]byte{[]byte(code), []byte(jar), []byte("read")})
	}
	other := code(t, x.from, 8)
	if err := x.w.InsertRows(t.Context(), [][]byte{row(key, "7"), row(other, "8")}); err != nil {
		t.Fatal(err)
	}
	if err := x.w.InsertRows(t.Context(), [][]byte{row(key, "seven")}); engine.ClassOf(err) != engine.OfRows {
		t.Errorf("a row that is none was taken: %v", err)
	}
	if err := x.w.InsertRows(t.Context(), [][]byte{row(code(t, x.from, 9), "9")}); err != nil {
		t.Fatal(err)
	}
	if err := x.w.Land(t.Context(), engine.Mark{Crossing: "c", Chunk: 1, Epoch: 1}); err != nil {
		t.Fatal(err)
	}
	if got := collectOne(t, x.to, "SELECT string_agg(jar || ' ' || honey, ', ' ORDER BY jar) FROM public.labels"); got !=
		"-1 stands, 8 read, 9 read" {
		t.Errorf("there stand %s", got)
	}
}

// TestATargetThatDropsRows: what a trigger there drops is told of, straight and through a stage.
func TestATargetThatDropsRows(t *testing.T) {
	x := newWall(t, 2)
	run(t, x.to, "CREATE FUNCTION public.drops() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.jar % 1000 = 7 THEN "+
		"RETURN NULL; END IF; RETURN NEW; END $$")
	run(t, x.to, "CREATE TRIGGER drops BEFORE INSERT ON public.labels FOR EACH ROW EXECUTE FUNCTION public.drops()")
	run(t, x.to, "ALTER TABLE public.labels ENABLE ALWAYS TRIGGER drops")
	for i, want := range []string{"rows, but", "rows were not kept by the target: a trigger or rule there drops rows"} {
		if i > 0 {
			x.apply(t, fold.Net{}, nil, nil) // changes are applied from now on
		}
		m, err := x.read(t, 0)
		if err == nil {
			err = x.w.Land(t.Context(), m)
		}
		if err == nil || !strings.Contains(err.Error(), want) || x.w.staged != (i > 0) {
			t.Errorf("staged %t: %v, want %q", x.w.staged, err, want)
		}
		x.w.Abort()
		w, err := x.to.OpenWriter(t.Context(), "")
		if err != nil {
			t.Fatal(err)
		}
		x.w = w.(*writer)
		defer x.w.Close()
	}
	if got := collectOne(t, x.to, "SELECT count(*)::text FROM public.labels"); got != "0" {
		t.Errorf("%s rows stand of chunks that did not land", got)
	}
}

// TestATableWrittenAnew lies in other pages: its chunks are not read any more.
func TestATableWrittenAnew(t *testing.T) {
	x := newWall(t, 3)
	x.land(t, 0)
	run(t, x.from, "VACUUM FULL public.labels")
	if _, err := x.read(t, 1); !errors.Is(err, engine.ErrRewritten) {
		t.Errorf("the second chunk was read: %v", err)
	}
	r, err := x.from.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if _, err := r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := r.Rows(t.Context(), x.p, &x.chunks[2], func([][]byte, error) error { return nil }); !errors.Is(err,
		engine.ErrRewritten) {
		t.Errorf("the third chunk was read row by row: %v", err)
	}
}

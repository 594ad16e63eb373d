package postgres

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/localserver"
)

var (
	host   *localserver.Postgres
	number atomic.Int64
)

func TestMain(m *testing.M) {
	var err error
	if host, err = localserver.StartPostgres(context.Background(), localserver.Options{}); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	host.Stop()
	os.Exit(code)
}

// fresh opens a new database and runs the statements in it.
func fresh(t *testing.T, statements ...string) *database {
	t.Helper()
	name := fmt.Sprintf("t%d", number.Add(1))
	admin, err := pgx.Connect(t.Context(), host.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := admin.Exec(t.Context(), "CREATE DATABASE "+name); err != nil {
		t.Fatal(err)
	}
	_ = admin.Close(t.Context())
	db, err := Driver{}.Open(t.Context(), engine.Endpoint{Host: host.Host, Port: host.Port, Database: name,
		User: "postgres", Password: host.Password, TLS: "disable"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(db.Close)
	d := db.(*database)
	for _, q := range statements {
		run(t, d, q)
	}
	return d
}

func run(t *testing.T, d *database, sql string, args ...any) {
	t.Helper()
	if _, err := d.pool.Exec(t.Context(), sql, args...); err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
}

func value[T any](t *testing.T, d *database, sql string) T {
	t.Helper()
	var v T
	if err := d.pool.QueryRow(t.Context(), sql).Scan(&v); err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
	return v
}

// planned returns the plan of one table.
func planned(t *testing.T, d *database, table string) *domain.TablePlan {
	t.Helper()
	cat, err := d.Catalog(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	schema, name, _ := strings.Cut(table, ".")
	tab := cat.Table(domain.TableName{Schema: schema, Name: name})
	if tab == nil {
		t.Fatalf("no table %s", table)
	}
	p, err := d.Plan(tab)
	if err != nil {
		t.Fatal(err)
	}
	return &p
}

func TestPlansIdentifyRows(t *testing.T) {
	d := fresh(t, `
CREATE TABLE public.keyed (id integer PRIMARY KEY, v text);
CREATE TABLE public.bare (v text);
CREATE TABLE public.uniq (code text NOT NULL UNIQUE, v text);
CREATE TABLE public.nullable (code text UNIQUE);
CREATE TABLE public.silent (id integer PRIMARY KEY); ALTER TABLE public.silent REPLICA IDENTITY NOTHING;
CREATE TABLE public.whole (id integer PRIMARY KEY); ALTER TABLE public.whole REPLICA IDENTITY FULL;
CREATE TABLE public.byindex (id integer PRIMARY KEY, code integer NOT NULL);
  CREATE UNIQUE INDEX byindex_code ON public.byindex (code);
ALTER TABLE public.byindex REPLICA IDENTITY USING INDEX byindex_code;
CREATE TYPE public.colour AS ENUM ('a', 'b');
CREATE TABLE public.arrays (id integer PRIMARY KEY, c public.colour, cs public.colour[]);
CREATE TABLE public.plainarrays (id uuid PRIMARY KEY, n integer[]);
CREATE TABLE public.cordered (id text COLLATE "C" PRIMARY KEY);
CREATE TABLE public.parts (day date, n integer, PRIMARY KEY (day, n)) PARTITION BY RANGE (day);
CREATE TABLE public.parts_1 PARTITION OF public.parts FOR VALUES FROM ('2026-01-01') TO ('2027-01-01')`)
	for _, c := range []struct {
		table, key, set, order string
		binary                 bool
	}{
		{"public.keyed", "[id]", "", "ours", true},
		{"public.bare", "[]", "full", "source", true},
		{"public.uniq", "[code]", "full", "source", true},
		{"public.nullable", "[]", "full", "source", true},
		{"public.silent", "[id]", "default", "ours", true},
		{"public.whole", "[id]", "", "ours", true},
		{"public.byindex", "[code]", "", "ours", true},
		{"public.arrays", "[id]", "", "ours", false},
		{"public.plainarrays", "[id]", "", "ours", true},
		{"public.cordered", "[id]", "", "ours", true},
		{"public.parts", "[day n]", "", "ours", true},
	} {
		p := planned(t, d, c.table)
		if got := fmt.Sprint(p.Key); got != c.key || p.SetIdentity != c.set || p.KeyOrder != c.order || p.Binary != c.binary {
			t.Errorf("%s: key %s, identity to set %q, order %s, binary %t", c.table, got, p.SetIdentity, p.KeyOrder, p.Binary)
		}
	}
}

// chunkOf copies one chunk between two databases through the raw connections.
func copyChunk(t *testing.T, src, dst *database, p *domain.TablePlan, c *domain.Chunk,
	m engine.Mark) (rowhash.Sum, error) {
	t.Helper()
	r, err := src.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	w, err := dst.OpenWriter(t.Context(), "")
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	if m.Snapshot, err = r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := w.Begin(t.Context(), p, false, nil); err != nil {
		return rowhash.Sum{}, err
	}
	sum, err := r.Copy(t.Context(), p, c, false, func(b []byte) error {
		return w.Write(t.Context(), b)
	})
	if err != nil {
		return sum, err
	}
	m.Sum = sum
	if err := r.End(t.Context()); err != nil {
		t.Fatal(err)
	}
	return sum, w.Land(t.Context(), m)
}

func TestChunksLandOnceUnderTheirEpoch(t *testing.T) {
	ddl := `CREATE TABLE public.h (id integer PRIMARY KEY, v text, b bytea)`
	src := fresh(t, ddl, `INSERT INTO public.h SELECT g, repeat('v', g % 3000), decode(md5(g::text), 'hex')
  FROM generate_series(1, 4000) g`)
	dst := fresh(t, ddl, bookkeepingTables)
	p := planned(t, src, "public.h")
	c := &domain.Chunk{Lower: domain.KeyValue{"1000"}, Upper: domain.KeyValue{"3000"}}
	sum, err := copyChunk(t, src, dst, p, c, engine.Mark{Crossing: "x", Chunk: 7, Epoch: 3})
	if err != nil || sum.Rows != 2000 {
		t.Fatalf("%d rows (%v)", sum.Rows, err)
	}
	if n := value[int64](t, dst,
		`SELECT count(*) FROM public.h WHERE id >= 1000 AND id < 3000 AND length(v) = id % 3000`); n != 2000 {
		t.Errorf("%d rows arrived whole", n)
	}
	m, err := dst.Fence(t.Context(), "x", 7, 9)
	if err != nil || m == nil || m.Sum != sum || m.Snapshot.Xmax == 0 {
		t.Errorf("the fence does not find the landed mark: %+v (%v)", m, err)
	}
	if _, err := copyChunk(t, src, dst, p, &domain.Chunk{Upper: domain.KeyValue{"10"}}, engine.Mark{Crossing: "x",
		Chunk: 7, Epoch: 9}); !errors.Is(err, domain.ErrTakenOver) {
		t.Errorf("a landed chunk landed twice: %v", err)
	}
	if m, err := dst.Fence(t.Context(), "x", 8, 5); err != nil || m != nil {
		t.Errorf("nothing had landed: %+v (%v)", m, err)
	}
	if _, err := copyChunk(t, src, dst, p, &domain.Chunk{Upper: domain.KeyValue{"10"}}, engine.Mark{Crossing: "x",
		Chunk: 8, Epoch: 4}); !errors.Is(err, domain.ErrTakenOver) {
		t.Errorf("an old holder landed a fenced chunk: %v", err)
	}
	if n := value[int64](t, dst, `SELECT count(*) FROM public.h WHERE id < 10`); n != 0 {
		t.Errorf("a refused chunk left %d rows", n)
	}
	if err := dst.Forget(t.Context(), "x"); err != nil {
		t.Fatal(err)
	}
	if value[bool](t, dst, `SELECT to_regnamespace('dusty_ferry') IS NOT NULL`) {
		t.Error("the last crossing's bookkeeping stays behind")
	}
}

func TestAFailedWriteSaysWhatTheServerSaid(t *testing.T) {
	src := fresh(t, `CREATE TABLE public.h (id integer PRIMARY KEY)`, `INSERT INTO public.h SELECT generate_series(1, 5)`)
	dst := fresh(t, `CREATE TABLE public.h (id integer PRIMARY KEY CHECK (id <> 3))`, bookkeepingTables)
	_, err := copyChunk(t, src, dst, planned(t, src, "public.h"), &domain.Chunk{}, engine.Mark{Crossing: "x", Chunk: 1,
		Epoch: 1})
	if err == nil || !strings.Contains(err.Error(), `violates check constraint "h_id_check" (SQLSTATE 23514)`) ||
		strings.Count(err.Error(), "violates") != 1 {
		t.Errorf("%v", err)
	}
}

func TestReadersStopWhenTold(t *testing.T) {
	src := fresh(t, `CREATE TABLE public.h (id integer PRIMARY KEY, v text)`,
		`INSERT INTO public.h SELECT g, repeat('x', 1000) FROM generate_series(1, 20000) g`)
	r, err := src.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if _, err := r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	_, err = r.Copy(ctx, planned(t, src, "public.h"), &domain.Chunk{}, false, func([]byte) error {
		cancel()
		return ctx.Err()
	})
	if !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}

// apply runs one batch of changes through an applier.
func applyAll(t *testing.T, d *database, epoch int64, to domain.Position, f func(a engine.Applier) error) error {
	t.Helper()
	a, err := d.OpenApplier(t.Context(), "x", "", epoch)
	if err != nil {
		t.Fatal(err)
	}
	defer a.Close()
	if err := a.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	if err := f(a); err != nil {
		a.Abort()
		return err
	}
	return a.Commit(t.Context(), to, "", 0)
}

func row(vals ...string) domain.Row {
	var r domain.Row
	for _, v := range vals {
		switch v {
		case "~":
			r = append(r, domain.Value{})
		case "=":
			r = append(r, domain.Value{Kind: domain.Unchanged})
		default:
			r = append(r, domain.Value{Kind: domain.Present, Data: []byte(v)})
		}
	}
	return r
}

func TestApplying(t *testing.T) {
	d := fresh(t, bookkeepingTables, `CREATE TABLE public.h (id integer PRIMARY KEY, v text, n numeric(6,2));
  CREATE TABLE public.bag (v text, n double precision)`,
		`INSERT INTO public.h VALUES (1, 'one', 1), (2, 'two', 2), (3, 'large', 3)`,
		`INSERT INTO public.bag VALUES ('a', 'NaN'), ('a', 'NaN'), (NULL, 1)`)
	if _, err := d.TakeStream(t.Context(), "x", 1, domain.PositionAt(100)); err != nil {
		t.Fatal(err)
	}
	h, bag := planned(t, d, "public.h"), planned(t, d, "public.bag")
	rows := func() string {
		return value[string](t, d, `SELECT coalesce(string_agg(concat_ws(' ', id, coalesce(v, '~'), coalesce(n::text, '~')),
  '; ' ORDER BY id), '') FROM public.h`)
	}
	for _, c := range []struct {
		name string
		f    func(a engine.Applier) error
		want string
	}{
		{"removes, patches and puts", func(a engine.Applier) error {
			return applied(a.Apply(t.Context(), h, fold.Net{Removes: []domain.Row{row("1", "~", "~")},
				Patches: []domain.Row{row("3", "=", "3.50")}, Puts: []domain.Row{row("2", "~", "~"), row("4", `back\slash, "q"`,
					"4")}}, false))
		}, `2 ~ ~; 3 large 3.50; 4 back\slash, "q" 4.00`},
		{"replaced rows", func(a engine.Applier) error {
			return applied(a.Apply(t.Context(), h, fold.Net{Puts: []domain.Row{row("2", "new", "9")}}, true))
		}, `2 new 9.00; 3 large 3.50; 4 back\slash, "q" 4.00`},
		{"a key moved in place keeps what was unsaid", func(a engine.Applier) error {
			return was(a.Move(t.Context(), h, domain.Change{Kind: domain.Update, Old: row("3", "~", "~"),
				New: row("33", "=", "7")}))
		}, `2 new 9.00; 4 back\slash, "q" 4.00; 33 large 7.00`},
		{"truncate", func(a engine.Applier) error {
			return a.Truncate(t.Context(), []*domain.TablePlan{h}, "CASCADE")
		}, ``},
	} {
		if err := applyAll(t, d, 1, domain.PositionAt(200), c.f); err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		if got := rows(); got != c.want {
			t.Errorf("%s: [%s], want [%s]", c.name, got, c.want)
		}
	}
	err := applyAll(t, d, 1, domain.PositionAt(300), func(a engine.Applier) error {
		return a.ApplyWhole(t.Context(), bag, []domain.Change{{Kind: domain.Delete, Old: row("a", "NaN")},
			{Kind: domain.Insert, New: row("b", "2")}, {Kind: domain.Update, Old: row("~", "1"), New: row("", "1")}})
	})
	if got := value[string](t, d,
		`SELECT string_agg(coalesce(v, '~') || ' ' || n, '; ' ORDER BY v, n) FROM public.bag`); err != nil ||
		got != " 1; a NaN; b 2" {
		t.Errorf("rows without a key: [%s] (%v)", got, err)
	}
	err = applyAll(t, d, 1, domain.PositionAt(300), func(a engine.Applier) error {
		return a.ApplyWhole(t.Context(), bag, []domain.Change{{Kind: domain.Delete, Old: row("nobody", "1")}})
	})
	if !domain.IsKind(err, domain.ProblemConflict) {
		t.Errorf("a row that is not there was removed in silence: %v", err)
	}
}

// TestASessionThatTheServerEnded: what comes next has another, and is told of nothing.
func TestASessionThatTheServerEnded(t *testing.T) {
	d := fresh(t, `CREATE TABLE public.h (id integer PRIMARY KEY)`)
	for range 3 {
		if _, err := d.Catalog(t.Context()); err != nil {
			t.Fatal(err)
		}
		other, err := pgx.Connect(t.Context(), host.URL("postgres"))
		if err != nil {
			t.Fatal(err)
		}
		var ended int
		err = other.QueryRow(t.Context(), `SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity WHERE datname = $1`,
			d.conf.Database).Scan(&ended)
		_ = other.Close(t.Context())
		if err != nil || ended == 0 {
			t.Fatal(ended, err)
		}
		time.Sleep(mayBeGone + 50*time.Millisecond)
	}
	if _, err := d.Catalog(t.Context()); err != nil {
		t.Error(err)
	}
}

func TestOnlyTheNewestApplierCommits(t *testing.T) {
	d := fresh(t, bookkeepingTables, `CREATE TABLE public.h (id integer PRIMARY KEY)`)
	h := planned(t, d, "public.h")
	put := func(a engine.Applier) error {
		return applied(a.Apply(t.Context(), h, fold.Net{Puts: []domain.Row{row("1")}}, false))
	}
	if at, err := d.TakeStream(t.Context(), "x", 1, domain.PositionAt(100)); err != nil || at != domain.PositionAt(100) {
		t.Fatalf("at %s (%v)", at, err)
	}
	if err := applyAll(t, d, 1, domain.PositionAt(150), put); err != nil {
		t.Fatal(err)
	}
	if at, err := d.TakeStream(t.Context(), "x", 2, domain.PositionAt(100)); err != nil || at != domain.PositionAt(150) {
		t.Fatalf("the second goes on at %s (%v)", at, err)
	}
	if err := applyAll(t, d, 1, domain.PositionAt(160), put); !errors.Is(err, domain.ErrTakenOver) {
		t.Errorf("the replaced applier committed: %v", err)
	}
	if err := applyAll(t, d, 2, domain.PositionAt(140), put); !errors.Is(err, domain.ErrTakenOver) {
		t.Errorf("the position went back: %v", err)
	}
	if _, err := d.TakeStream(t.Context(), "x", 1, domain.PositionAt(100)); !errors.Is(err, domain.ErrTakenOver) {
		t.Errorf("an old epoch took the stream: %v", err)
	}
}

// A holder that is frozen inside its transaction must not keep others out.
func TestAFrozenHolderIsEnded(t *testing.T) {
	d := fresh(t, bookkeepingTables)
	if _, err := d.TakeStream(t.Context(), "x", 1, domain.PositionAt(100)); err != nil {
		t.Fatal(err)
	}
	a, err := d.OpenApplier(t.Context(), "x", "", 1)
	if err != nil {
		t.Fatal(err)
	}
	defer a.Close()
	if err := a.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	if _, err := a.(*applier).tx.Exec(t.Context(), `UPDATE dusty_ferry.stream SET position = 120`); err != nil {
		t.Fatal(err)
	}
	limit, cancel := context.WithTimeout(t.Context(), 15*time.Second)
	defer cancel()
	if at, err := d.TakeStream(limit, "x", 2, domain.PositionAt(100)); err != nil || at != domain.PositionAt(100) {
		t.Errorf("at %s (%v)", at, err)
	}
	if err := a.Commit(t.Context(), domain.PositionAt(130), "", 0); err == nil {
		t.Error("the frozen holder committed after all")
	}
}

func TestPositions(t *testing.T) {
	for _, s := range []string{"0/0", "0/16B3748", "FFFFFFFF/FFFFFFFF", "A/1"} {
		p, err := Driver{}.ParsePosition(s)
		if err != nil || (Driver{}).FormatPosition(p) != s {
			t.Errorf("%s came back as %s (%v)", s, (Driver{}).FormatPosition(p), err)
		}
	}
	for _, s := range []string{"", "1", "x/y", "1/2/3", "-1/0"} {
		if _, err := (Driver{}).ParsePosition(s); err == nil {
			t.Errorf("%q was taken", s)
		}
	}
	if parse := func(s string) string {
		x, err := parseSnapshot(s)
		return fmt.Sprint(x.Xmin, x.Xmax, x.Running, err == nil)
	}; parse("10:20:10,14,15") != "10 20 [10 14 15] true" || parse("7:7:") != "7 7 [] true" ||
		!strings.HasSuffix(parse("7"), "false") {
		t.Error("snapshots are read wrongly")
	}
}

func TestFullTransactionNumbers(t *testing.T) {
	for _, c := range []struct {
		seen uint64
		x    uint32
		want uint64
	}{{5_000_000_000, 705_032_705, 5_000_000_001}, {5_000_000_000, 705_032_600, 4_999_999_896}, {1<<32 - 5, 3, 1<<32 + 3},
		{1<<32 + 5, 0xffff_fff0, 1<<32 - 16}, {100, 90, 90}} {
		if got := (&capture{xid: c.seen}).fullXID(c.x); got != c.want {
			t.Errorf("%d after %d: %d, want %d", c.x, c.seen, got, c.want)
		}
	}
}

func TestQuoting(t *testing.T) {
	d := fresh(t)
	for _, s := range []string{`plain`, `it's`, `back\slash`, `\'; DROP TABLE x --`, "new\nline", `"both' \"`} {
		if got := value[string](t, d, "SELECT "+literal(s)); got != s {
			t.Errorf("%q came back as %q", s, got)
		}
		if got := value[string](t, d, "SELECT 1::text AS "+quote(s)); got != "1" {
			t.Errorf("identifier %q", s)
		}
	}
}

// A server without encryption is good enough for who prefers it, and not for who wants it,
// also where this machine has a socket of its own.
func TestEncryptionIsNotLeftOut(t *testing.T) {
	d := fresh(t)
	for tls, ok := range map[string]bool{"": true, "prefer": true, "disable": true, "require": false,
		"verify-full": false} {
		c := d.conf
		got, err := Driver{}.Open(t.Context(), engine.Endpoint{Host: c.Host, Port: int(c.Port), Database: c.Database,
			User: c.User, Password: c.Password, TLS: tls})
		if err == nil {
			got.Close()
		}
		if (err == nil) != ok {
			t.Errorf("tls %q: %v", tls, err)
		}
	}
	_, err := Driver{}.Open(t.Context(), engine.Endpoint{Host: `it's \ nowhere`, Port: 1, TLS: "disable"})
	if err == nil || !strings.Contains(err.Error(), `it's \ nowhere`) {
		t.Errorf("a host with quotes: %v", err)
	}
}

// applied wants nothing to be missing.
func applied(missing []domain.Row, err error) error {
	if err == nil && len(missing) > 0 {
		err = fmt.Errorf("%d rows are missing", len(missing))
	}
	return err
}

// was wants the row to have been there.
func was(there bool, err error) error {
	if err == nil && !there {
		err = errors.New("the row is missing")
	}
	return err
}

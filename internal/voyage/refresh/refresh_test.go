package refresh

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// meadow is a crossing whose load repeats, with its source, its target and what is kept of it.
type meadow struct {
	engine.Database
	engine.Reads
	engine.Applies

	c       domain.Crossing
	tables  []domain.CrossingTable
	rows    map[string]int // by table: how many are past its watermark
	newest  string         // watermark of the source now
	other   error          // another server answers
	breaks  error          // after all rows were read
	refuses error          // of a row
	pauses  int            // after how many commits the crossing is paused, once
	lacks   bool           // the target takes no changes

	wheres  []string
	put     int
	commits int
	replace bool
	epochs  []int64
	opened  int
	done    []string
	said    []string
	told    []string
}

func newMeadow(watermarks ...string) *meadow {
	m := &meadow{rows: map[string]int{}, newest: "900"}
	m.c = domain.Crossing{ID: 7, UID: "u7", Name: "spring", Source: "marsh", Target: "cloud", Kind: domain.KindLoad,
		Condition: domain.ConditionRunning, Settings: domain.DefaultSettings()}
	for i, w := range watermarks {
		name := domain.TableName{Schema: "marsh", Name: fmt.Sprint("t", i)}
		m.tables = append(m.tables, domain.CrossingTable{ID: int64(i), SourceName: name.String(), Plan: domain.TablePlan{
			Source: name, Target: name, Columns: []domain.Column{{Name: "id", BaseType: "bigint"},
				{Name: "changed", BaseType: "bigint"}},
			Key: []string{"id"}, Watermark: w, Overlap: "0"}})
		m.tables[i].Plan.Table = domain.Table{TableName: name, Columns: m.tables[i].Plan.Columns}
		m.rows[name.Name] = 10
	}
	return m
}

func (m *meadow) run(ctx context.Context) error {
	c := m.c
	f := New(records{m}, m, m, func(_ context.Context, _ *domain.Crossing, _ []domain.CrossingTable, table,
		actor string) error {
		m.done = append(m.done, "restart "+table+" for "+actor)
		return nil
	})
	return f.Run(ctx, &c, &domain.Task{ID: 3, Epoch: 2, Actor: "ann"}, 11, func(string) {})
}

func (m *meadow) CrossingByID(context.Context, int64) (domain.Crossing, error) {
	c := m.c
	if m.pauses > 0 && m.commits == m.pauses {
		m.pauses = -3 // three looks long
	}
	if m.pauses < 0 {
		m.pauses++
		c.Condition = domain.ConditionPaused
	}
	return c, nil
}

// database is one of the two, as registered.
func (m *meadow) registered(name string) domain.Database {
	return domain.Database{Name: name, Engine: "postgres"}
}

type records struct{ *meadow }

func (r records) Database(_ context.Context, name string) (domain.Database, error) {
	return r.registered(name), nil
}
func (m *meadow) Tables(context.Context, int64) ([]domain.CrossingTable, error) { return m.tables, nil }
func (m *meadow) SetWatermark(_ context.Context, table int64, mark string) error {
	m.done = append(m.done, fmt.Sprintf("mark %d %s", table, mark))
	m.tables[table].Watermark = mark
	return nil
}
func (m *meadow) BeginRun(_ context.Context, _, run int64, by string, _ bool) error {
	m.done = append(m.done, fmt.Sprintf("run %d by %s", run, by))
	return nil
}
func (m *meadow) EndRun(_ context.Context, _ int64, state domain.RunState, cause string) error {
	m.done = append(m.done, "ended "+string(state)+": "+cause)
	return nil
}
func (m *meadow) EndRefresh(_ context.Context, _ int64, tables int, rows, _ int64, note string, over bool) error {
	m.done = append(m.done, fmt.Sprintf("refreshed %d tables, %d rows, over %v", tables, rows, over))
	return nil
}
func (m *meadow) OpenPair(context.Context, *domain.Crossing) (src, dst *engine.Opened, err error) {
	dst = &engine.Opened{Database: m, Applies: m}
	if m.lacks {
		dst.Applies = nil
	}
	return &engine.Opened{Database: m, Reads: m}, dst, nil
}
func (m *meadow) SameSource(context.Context, *domain.Crossing, *engine.Opened) error { return m.other }
func (m *meadow) Recordf(_ context.Context, _, _, _, _, _, format string, args ...any) {
	m.said = append(m.said, fmt.Sprintf(format, args...))
}
func (m *meadow) Notify(_ context.Context, _ *domain.Crossing, event, _ string) {
	m.told = append(m.told, event)
}
func (m *meadow) Origin(context.Context) (string, error) { return "marsh", nil }
func (m *meadow) Greatest(context.Context, *domain.TablePlan, string) (string, error) {
	return m.newest, nil
}
func (m *meadow) OpenReader(context.Context) (engine.Reader, error) {
	m.opened++
	return reader{meadow: m}, nil
}
func (m *meadow) TakeStream(_ context.Context, _ string, epoch int64, _ domain.Position) (domain.Position, error) {
	m.epochs = append(m.epochs, epoch)
	return domain.Position{}, nil
}
func (m *meadow) OpenApplier(context.Context, string, string, int64) (engine.Applier, error) {
	return applier{meadow: m}, nil
}

type reader struct {
	engine.Reader
	*meadow
}

func (r reader) Begin(context.Context) (domain.Snapshot, error) { return domain.Snapshot{}, nil }
func (r reader) End(context.Context) error                      { return nil }
func (r reader) Close()                                         { r.opened-- }
func (r reader) Rows(_ context.Context, p *domain.TablePlan, _ *domain.Chunk, take func([][]byte, error) error) error {
	r.wheres = append(r.wheres, p.Source.Name+": "+p.Where)
	for i := range r.rows[p.Source.Name] {
		if err := take([][]byte{[]byte(strconv.Itoa(i)), []byte("7")}, r.refuses); err != nil {
			return err
		}
	}
	return r.breaks
}

type applier struct {
	engine.Applier
	*meadow
}

func (a applier) Begin(context.Context) error { return nil }
func (a applier) Abort()                      {}
func (a applier) Close()                      {}
func (a applier) Apply(_ context.Context, _ *domain.TablePlan, n fold.Net, replace bool) ([]domain.Row, error) {
	a.put += len(n.Puts)
	a.replace = replace
	return nil, nil
}
func (a applier) Commit(context.Context, domain.Position, string, int64) error {
	a.commits++
	return nil
}

// TestOnlyWhatIsPastTheWatermark: is read, and put in place; the watermark moves when the rows
// stand. Tables without one are loaded again.
func TestOnlyWhatIsPastTheWatermark(t *testing.T) {
	m := newMeadow("changed", "", "changed")
	m.tables[0].Watermark, m.tables[0].Plan.Where = "800", "id > 1"
	m.rows["t0"] = 12_000
	if err := m.run(t.Context()); err != nil {
		t.Fatal(err)
	}
	want := []string{"run 11 by ann", "mark 0 900", "mark 2 900", "refreshed 2 tables, 12010 rows, over false",
		"restart marsh.t1 for ann"}
	if !slices.Equal(m.done, want) || m.put != 12_010 || m.commits != 4 || m.opened != 0 {
		t.Errorf("done %q; %d rows in %d commits, %d readers open", m.done, m.put, m.commits, m.opened)
	}
	if len(m.wheres) != 2 || !strings.Contains(m.wheres[0], "800") || !strings.HasSuffix(m.wheres[0], " AND (id > 1)") ||
		m.wheres[1] != "t2: " {
		t.Errorf("read: %q", m.wheres)
	}
	if !slices.Equal(m.epochs, []int64{3<<20 | 2}) || m.told != nil || len(m.said) != 1 {
		t.Errorf("epochs %v, told %q, said %q", m.epochs, m.told, m.said)
	}
	m = newMeadow("changed")
	m.newest = "" // an empty table has none
	if err := m.run(t.Context()); err != nil || slices.ContainsFunc(m.done, func(s string) bool {
		return strings.HasPrefix(s, "mark")
	}) || len(m.told) != 1 {
		t.Errorf("%v; %q; told %q", err, m.done, m.told)
	}
}

// TestARefreshThatFails: keeps its watermark, and says so.
func TestARefreshThatFails(t *testing.T) {
	for what, c := range map[string]struct {
		change func(*meadow)
		says   string
	}{
		"another server": {func(m *meadow) { m.other = domain.Conflict("another server answers") },
			"another server answers"},
		"a read that breaks": {func(m *meadow) { m.breaks = errors.New("the source is away") },
			"marsh.t0: the source is away"},
		"a row without a form": {func(m *meadow) { m.refuses = errors.New("no such date") }, "no such date"},
		"a target that cannot": {func(m *meadow) { m.lacks = true }, "cannot take changes"},
		"rows of its own": {func(m *meadow) {
			m.tables = append(m.tables, newMeadow("", "").tables[1])
			m.c.Settings.ExistingRows = "keep"
		}, "cannot be: table marsh.t1 was planned to keep the rows"},
	} {
		m := newMeadow("changed")
		c.change(m)
		err := m.run(t.Context())
		if err == nil || !strings.Contains(err.Error(), c.says) || slices.ContainsFunc(m.done, func(s string) bool {
			return strings.HasPrefix(s, "mark")
		}) ||
			!strings.HasPrefix(m.done[len(m.done)-1], "ended failed: ") || m.opened != 0 {
			t.Errorf("%s: %v; %q; %d readers open", what, err, m.done, m.opened)
		}
	}
	m := newMeadow("changed") // whoever takes it over ends the run
	over, cancel := context.WithCancelCause(t.Context())
	m.breaks = errors.New("no more")
	cancel(domain.ErrTakenOver)
	if err := m.run(over); err == nil || slices.ContainsFunc(m.done, func(s string) bool {
		return strings.HasPrefix(s, "ended")
	}) {
		t.Errorf("taken over: %v; %q", err, m.done)
	}
}

// TestAPausedRefresh: gives its snapshot up, and reads again when the crossing goes on.
func TestAPausedRefresh(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		m := newMeadow("changed")
		m.rows["t0"], m.pauses = 12_000, 1
		if err := m.run(t.Context()); err != nil {
			t.Fatal(err)
		}
		if len(m.wheres) != 2 || m.put != 5000+12_000 ||
			!slices.Contains(m.done, "refreshed 1 tables, 12000 rows, over true") || m.opened != 0 {
			t.Errorf("read %d times, %d rows put; %q", len(m.wheres), m.put, m.done)
		}
	})
}

// TestTheLimitsOfSpeed: are kept by a refresh too.
func TestTheLimitsOfSpeed(t *testing.T) {
	for what, limit := range map[string]func(*domain.Settings){
		"rows":  func(s *domain.Settings) { s.RowLimit = 1000 },
		"bytes": func(s *domain.Settings) { s.SpeedLimit = 4888 }, // 48,890 bytes
	} {
		synctest.Test(t, func(t *testing.T) {
			m := newMeadow("changed")
			m.rows["t0"] = 10_000
			limit(&m.c.Settings)
			began := time.Now()
			if err := m.run(t.Context()); err != nil {
				t.Fatal(err)
			}
			if took := time.Since(began); took < 9*time.Second || took > 12*time.Second {
				t.Errorf("%s: it took %s", what, took)
			}
		})
	}
}

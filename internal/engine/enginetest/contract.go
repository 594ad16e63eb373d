package enginetest

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Subject is an engine under test.
type Subject struct {
	Name string            // as the catalogue of types knows it
	Stop domain.StopMethod // its best way to stop writes
	// Marked: transactions are told apart at heartbeats alone, and those between two come as one.
	Marked bool
	// Above: whoever runs statements may write in spite of that.
	Above bool
	// Fresh makes an empty database and opens it; its name is where tables of it stand on a
	// target, and exec runs a statement there as an application would.
	Fresh func(t *testing.T) (db *engine.Opened, name string, exec func(statement string) error)
}

// Holds holds the sentences of the engine interfaces against an engine: one subtest for each,
// and those of what it cannot do are left out. Every engine's own tests call it.
func Holds(t *testing.T, s Subject) {
	for _, c := range []struct {
		sentence string
		needs    []engine.Capability
		holds    func(*contract)
	}{
		{"a catalogue says how a table's rows are found", nil, (*contract).catalogue},
		{"chunks of one table hold each row once", []engine.Capability{engine.CanRead}, (*contract).chunks},
		{"a chunk is read in one snapshot, taken at its beginning", []engine.Capability{engine.CanRead},
			(*contract).snapshot},
		{"what a sink refuses ends the reading, and is said as it was", []engine.Capability{engine.CanRead},
			(*contract).sink},
		{"a chunk's rows land with its mark, or nothing does", []engine.Capability{engine.CanRead, engine.CanLand},
			(*contract).lands},
		{"a chunk lands under its newest epoch alone", []engine.Capability{engine.CanRead, engine.CanLand},
			(*contract).fences},
		{"chunks that land together do so in one transaction, all or none", []engine.Capability{engine.CanRead,
			engine.CanLand}, (*contract).landsTogether},
		{"a table is emptied with its marks", []engine.Capability{engine.CanRead, engine.CanLand}, (*contract).clears},
		{"a source says which chunk a key is in as it cuts chunks", []engine.Capability{engine.CanRead, engine.CanCapture},
			(*contract).locates},
		{"changes come in the order of their commits, whole transactions at a time", []engine.Capability{engine.CanCapture},
			(*contract).captures},
		{"capture goes on from where it is told, and misses and doubles nothing", []engine.Capability{engine.CanCapture},
			(*contract).goesOn},
		{"changes are applied with their place, or not at all", []engine.Capability{engine.CanRead, engine.CanLand,
			engine.CanApply}, (*contract).applies},
		{"only the newest holder of a stream commits, and its place never goes back", []engine.Capability{engine.CanRead,
			engine.CanLand, engine.CanApply}, (*contract).epochs},
		{"a change of what is not there is told of", []engine.Capability{engine.CanRead, engine.CanLand, engine.CanApply},
			(*contract).missing},
		{"which rows were touched is kept with the changes, or not at all", []engine.Capability{engine.CanRead,
			engine.CanLand, engine.CanApply, engine.CanVouch}, (*contract).touches},
		{"views are equal where rows are, and find each row that is not", []engine.Capability{engine.CanRead, engine.CanLand,
			engine.CanCompare}, (*contract).compares},
		{"objects are made once, and removed again", []engine.Capability{engine.CanRead, engine.CanLand, engine.CanDefine},
			(*contract).builds},
		{"stopped writes fail for good once closed, and go on when opened again", []engine.Capability{engine.CanStop},
			(*contract).stops},
	} {
		t.Run(strings.ReplaceAll(c.sentence, " ", "_"), func(t *testing.T) {
			k := &contract{T: t, s: s}
			k.from, k.fromName, k.exec = s.Fresh(t)
			k.crossing = "c0ffee" + k.fromName
			if lacks := k.from.Lacks(c.needs...); len(lacks) > 0 {
				t.Skipf("it cannot %s", lacks[0])
			}
			c.holds(k)
		})
	}
}

// contract is one sentence that is held against an engine: two databases of it, and a table of
// 200 rows on the first.
type contract struct {
	*testing.T
	s        Subject
	from, to *engine.Opened
	fromName string
	exec     func(string) error // on the first
	crossing string             // what is kept on a target is of this one
	cat      *domain.Catalog
	plan     domain.TablePlan
	there    domain.TablePlan
}

func (k *contract) run(statements ...string) {
	k.Helper()
	for _, q := range statements {
		if err := k.exec(q); err != nil {
			k.Fatalf("%s: %v", q, err)
		}
	}
}

func (k *contract) ok(err error) {
	k.Helper()
	if err != nil {
		k.Fatal(err)
	}
}

// table makes the table and plans it for another database of the engine.
func (k *contract) table() {
	k.Helper()
	var rows []string
	for i := range 200 {
		name := fmt.Sprintf("'hive %d'", i)
		if i%7 == 0 {
			name = "NULL"
		}
		rows = append(rows, fmt.Sprintf("(%d, %s, %d)", i*3-100, name, i))
	}
	k.run("CREATE TABLE hives (id int PRIMARY KEY, name varchar(40), frames int NOT NULL)", "INSERT INTO hives VALUES "+
		strings.Join(rows, ", "))
	k.planned()
}

// planned plans the table as it is now.
func (k *contract) planned() {
	k.Helper()
	cat, err := k.from.Catalog(k.Context())
	k.ok(err)
	i := slices.IndexFunc(cat.Tables, func(t domain.Table) bool { return t.Name == "hives" })
	if i < 0 {
		k.Fatalf("the catalogue has no table hives: %+v", cat.Tables)
	}
	k.cat = cat
	k.plan, err = k.from.Plan(&cat.Tables[i])
	k.ok(err)
}

// target opens another database, and makes the table there.
func (k *contract) target() {
	k.Helper()
	k.table()
	var name string
	k.to, name, _ = k.s.Fresh(k.T)
	k.plan.Target = k.plan.Source
	k.plan, _ = typemap.Mapping{From: k.s.Name, To: k.s.Name, Into: name, Catalog: k.cat}.Complete(k.plan)
	k.there = k.plan.TargetPlan()
	k.ok(k.to.PrepareTarget(k.Context(), k.crossing, k.cat, []domain.TablePlan{k.there}, domain.DefaultSettings(),
		func(o engine.Object, err error) {
			if err != nil {
				k.Errorf("%s %s: %v", o.Kind, o.Name, err)
			}
		}))
}

// copied reads a chunk, and lands it under an epoch.
func (k *contract) copied(n int64, lower, upper domain.KeyValue, epoch int64) (rowhash.Sum, error) {
	k.Helper()
	r, err := k.from.OpenReader(k.Context())
	k.ok(err)
	defer r.Close()
	w, err := k.to.OpenWriter(k.Context(), "")
	k.ok(err)
	defer w.Close()
	m := engine.Mark{Crossing: k.crossing, Chunk: n, Epoch: epoch}
	m.Snapshot, err = r.Begin(k.Context())
	k.ok(err)
	k.ok(w.Begin(k.Context(), &k.there, false, nil))
	var refused error // by a writer that says so at once, and not as the chunk is to land
	m.Sum, err = r.Copy(k.Context(), &k.plan, &domain.Chunk{Lower: lower, Upper: upper}, false, func(b []byte) error {
		refused = w.Write(k.Context(), b)
		return refused
	})
	if refused != nil {
		w.Abort()
		return m.Sum, refused
	}
	k.ok(err)
	k.ok(r.End(k.Context()))
	return m.Sum, w.Land(k.Context(), m)
}

// held is how many rows the target has.
func (k *contract) held() int64 {
	k.Helper()
	held, err := k.to.Holds(k.Context(), []domain.TablePlan{k.there})
	k.ok(err)
	return held[k.there.Target]
}

func (k *contract) catalogue() {
	k.table()
	t := k.plan.Table
	key := t.PrimaryKey()
	if key == nil || !slices.Equal(key.Columns, []string{"id"}) || len(t.Columns) != 3 ||
		!slices.Equal(k.plan.Key, []string{"id"}) {
		k.Errorf("it has the key %+v, columns %+v, and is planned by %v", key, t.Columns, k.plan.Key)
	}
	if t.Column("name").NotNull || !t.Column("frames").NotNull {
		k.Error("which columns can be empty is not told")
	}
	if id, err := k.from.Identity(k.Context()); err != nil || id != k.cat.Server {
		k.Errorf("its server is %q, and by the catalogue %q, %v", id, k.cat.Server, err)
	}
	if origin, err := k.from.Origin(k.Context()); err != nil || origin == "" {
		k.Errorf("it has no name among all: %q, %v", origin, err)
	}
}

// alone reads a chunk, to count it.
func (k *contract) alone(r engine.Reader, lower, upper domain.KeyValue) rowhash.Sum {
	k.Helper()
	sum, err := r.Copy(k.Context(), &k.plan, &domain.Chunk{Lower: lower, Upper: upper}, false, func([]byte) error {
		return nil
	})
	k.ok(err)
	return sum
}

func (k *contract) chunks() {
	k.target()
	keys, err := k.from.Sample(k.Context(), &k.plan, 4)
	k.ok(err)
	if len(keys) < 2 || len(keys) > 200 {
		k.Fatalf("a sample of about 4 keys has %d", len(keys))
	}
	r, err := k.from.OpenReader(k.Context())
	k.ok(err)
	defer r.Close()
	_, err = r.Begin(k.Context())
	k.ok(err)
	whole, parts := k.alone(r, nil, nil), rowhash.Sum{}
	var lower domain.KeyValue
	for _, upper := range append(keys[1:], nil) {
		s := k.alone(r, lower, upper)
		parts.Rows, parts.Hash = parts.Rows+s.Rows, parts.Hash+s.Hash
		lower = upper
	}
	if whole.Rows != 200 || parts.Rows != whole.Rows || parts.Hash != whole.Hash {
		k.Errorf("the table has %d rows of %x, its chunks %d of %x", whole.Rows, whole.Hash, parts.Rows, parts.Hash)
	}
	n := 0
	k.ok(r.Rows(k.Context(), &k.plan, &domain.Chunk{}, func(fields [][]byte, refused error) error {
		if n++; refused != nil || len(fields) != 3 || fields[2] == nil {
			k.Errorf("row %d: %q, %v", n, fields, refused)
		}
		return nil
	}))
	if n != 200 {
		k.Errorf("row by row it has %d", n)
	}
}

func (k *contract) snapshot() {
	k.target()
	r, err := k.from.OpenReader(k.Context())
	k.ok(err)
	defer r.Close()
	before, err := r.Begin(k.Context())
	k.ok(err)
	k.run("INSERT INTO hives VALUES (9001, 'late', 1)", "DELETE FROM hives WHERE id < 0")
	if s := k.alone(r, nil, nil); s.Rows != 200 {
		k.Errorf("rows that were written meanwhile show: %d", s.Rows)
	}
	k.ok(r.End(k.Context()))
	after, err := r.Begin(k.Context())
	k.ok(err)
	if s := k.alone(r, nil, nil); s.Rows != 200+1-34 {
		k.Errorf("the next snapshot has %d rows", s.Rows)
	}
	if after.Log.Before(before.Log) {
		k.Errorf("a later snapshot is at %s, the one before was at %s", after.Log, before.Log)
	}
}

func (k *contract) sink() {
	k.target()
	r, err := k.from.OpenReader(k.Context())
	k.ok(err)
	defer r.Close()
	_, err = r.Begin(k.Context())
	k.ok(err)
	full := errors.New("the sink is full")
	if _, err := r.Copy(k.Context(), &k.plan, &domain.Chunk{}, false, func([]byte) error { return full }); !errors.Is(err,
		full) {
		k.Errorf("it says %v", err)
	}
}

func (k *contract) lands() {
	k.target()
	if _, err := k.copied(1, nil, domain.KeyValue{"200"}, 1); err != nil {
		k.Fatal(err)
	}
	marked, err := k.to.Marked(k.Context(), k.crossing)
	k.ok(err)
	if n := k.held(); n != 100 || !marked[1] || marked[2] {
		k.Errorf("%d rows are there, with the marks %v", n, marked)
	}
	w, err := k.to.OpenWriter(k.Context(), "")
	k.ok(err)
	k.ok(w.Careful(k.Context(), &k.there, nil))
	k.ok(w.InsertRows(k.Context(), [][]byte{engine.Row([][]byte{[]byte("9000"), nil, []byte("4")})}))
	w.Abort()
	w.Close()
	if n := k.held(); n != 100 {
		k.Errorf("of what was called off, rows stay: %d", n)
	}
	// Rows that stand are refused, and leave nothing.
	if _, err := k.copied(2, nil, nil, 1); err == nil || engine.ClassOf(err) != engine.OfRows {
		k.Errorf("rows landed upon rows: %v", err)
	}
	if marked, err = k.to.Marked(k.Context(), k.crossing); err != nil || marked[2] || k.held() != 100 {
		k.Errorf("a chunk that was refused left %d rows, marks %v (%v)", k.held(), marked, err)
	}
}

func (k *contract) fences() {
	k.target()
	m, err := k.to.Fence(k.Context(), k.crossing, 1, 5)
	if err != nil || m != nil {
		k.Fatalf("nothing had landed: %+v, %v", m, err)
	}
	if _, err := k.copied(1, nil, nil, 4); !errors.Is(err, domain.ErrTakenOver) {
		k.Errorf("an older holder landed it: %v", err)
	}
	if n := k.held(); n != 0 {
		k.Errorf("what was refused left %d rows", n)
	}
	sum, err := k.copied(1, nil, nil, 5)
	k.ok(err)
	if m, err = k.to.Fence(k.Context(), k.crossing, 1, 9); err != nil || m == nil || m.Epoch != 5 || m.Sum != sum {
		k.Errorf("its mark is %+v, %v; it landed as %+v", m, err, sum)
	}
	k.ok(k.to.Forget(k.Context(), k.crossing))
}

func (k *contract) clears() {
	k.target()
	_, err := k.copied(1, nil, nil, 1)
	k.ok(err)
	k.ok(k.to.ClearTable(k.Context(), k.crossing, "", &k.there, []int64{1}))
	marked, err := k.to.Marked(k.Context(), k.crossing)
	k.ok(err)
	if n := k.held(); n != 0 || marked[1] {
		k.Errorf("%d rows stay, and the marks %v", n, marked)
	}
	if _, err := k.copied(1, nil, nil, 2); err != nil || k.held() != 200 {
		k.Errorf("it does not land again: %v, %d rows", err, k.held())
	}
}

func (k *contract) locates() {
	k.target()
	bounds := []domain.KeyValue{{"-10"}, {"50"}, {"200"}}
	at, err := k.from.Locate(k.Context(), &k.plan, bounds, []domain.KeyValue{{"-100"}, {"-10"}, {"49"}, {"50"}, {"9999"}})
	if err != nil || !slices.Equal(at, []int{0, 1, 1, 2, 3}) {
		k.Errorf("keys are in the chunks %v, %v", at, err)
	}
	row, err := k.from.FetchRow(k.Context(), &k.plan, domain.KeyValue{"-97"})
	if err != nil || len(row) != 3 || string(row[1].Data) != "hive 1" {
		k.Errorf("the row of a key is %v, %v", row, err)
	}
	if row, err := k.from.FetchRow(k.Context(), &k.plan, domain.KeyValue{"12345"}); err != nil || row != nil {
		k.Errorf("a row that is not there is %v, %v", row, err)
	}
}

func (k *contract) builds() {
	k.table()
	k.run("CREATE INDEX by_name ON hives (name)")
	k.planned()
	cat := k.cat
	var name string
	k.to, name, _ = k.s.Fresh(k.T)
	k.plan.Target = k.plan.Source
	k.plan, _ = typemap.Mapping{From: k.s.Name, To: k.s.Name, Into: name, Catalog: cat}.Complete(k.plan)
	there := []domain.TablePlan{k.plan.TargetPlan()}
	k.ok(k.to.PrepareTarget(k.Context(), k.crossing, cat, there, domain.DefaultSettings(), func(engine.Object, error) {}))
	list := k.to.Deferred(cat, there)
	has := func() bool {
		now, err := k.to.Catalog(k.Context())
		k.ok(err)
		return slices.ContainsFunc(now.Table(there[0].Target).Indexes, func(x domain.Index) bool {
			return strings.Contains(x.Name, "by_name")
		})
	}
	if !slices.ContainsFunc(list, func(o engine.Object) bool { return o.Kind == "index" }) || has() {
		k.Fatalf("after the rows are made %+v", list)
	}
	for range 2 { // what stands is no error
		for _, o := range list {
			k.ok(k.to.Build(k.Context(), o))
		}
	}
	if !has() {
		k.Error("the index was not made")
	}
	k.ok(k.to.Unbuild(k.Context(), list))
	if has() {
		k.Error("the index was not removed")
	}
}

func (k *contract) stops() {
	k.table()
	name := (&domain.Crossing{UID: k.crossing}).ObjectName()
	plans := []domain.TablePlan{k.plan}
	method := k.s.Stop
	k.ok(k.from.MayStop(k.Context(), method))
	stop, err := k.from.StopWrites(k.Context(), method, name, plans, 10*time.Second)
	k.ok(err)
	k.ok(stop.Alive(k.Context()))
	k.ok(stop.CloseWrites(k.Context(), "the hives have moved", "back"))
	k.ok(stop.Release(k.Context()))
	if err := k.exec("UPDATE hives SET name = 'closed' WHERE id = -100"); err == nil && !k.s.Above {
		k.Error("a source that is closed takes writes")
	}
	k.ok(k.from.Reopen(k.Context(), method, name, plans))
	k.run("UPDATE hives SET name = 'open' WHERE id = -100")
	k.ok(k.from.Reopen(k.Context(), method, name, plans)) // there is nothing to undo, which is no error
}

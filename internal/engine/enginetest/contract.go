package enginetest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/core/narrow"
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

// capture prepares capture of the table.
func (k *contract) capture() (name string, from domain.Position) {
	k.Helper()
	k.target()
	name = (&domain.Crossing{UID: k.crossing}).ObjectName()
	from, err := k.from.PrepareCapture(k.Context(), name, []domain.TablePlan{k.plan})
	k.ok(err)
	k.Cleanup(func() { _ = k.from.DropCapture(context.Background(), name, nil) })
	return name, from
}

// read reads events from a place until everything that was committed by now has come, as words.
func (k *contract) read(name string, from domain.Position) (words []string, ends []domain.Position) {
	k.Helper()
	end, err := k.from.Heartbeat(k.Context())
	k.ok(err)
	ctx, cancel := context.WithTimeout(k.Context(), time.Minute)
	defer cancel()
	c, err := k.from.OpenCapture(ctx, name, from, []engine.CaptureTable{{ID: 1, Plan: &k.plan}}, "")
	k.ok(err)
	defer c.Close()
	value := func(v domain.Value) string {
		return map[domain.ValueKind]string{domain.Null: "-", domain.Present: string(v.Data), domain.Unchanged: "~"}[v.Kind]
	}
	var last domain.Position
	open, quiet := false, true
	for {
		select {
		case e, more := <-c.Events():
			if !more {
				k.Fatalf("the stream ended: %v", c.Err())
			}
			c.Took(&e)
			switch e.Kind {
			case domain.EventBegin:
				if open || e.Tx.Commit.Before(last) {
					k.Errorf("a transaction begins inside another, or at %s after one at %s", e.Tx.Commit, last)
				}
				open, quiet, last = true, true, e.Tx.Commit
			case domain.EventChange:
				if !open {
					k.Error("a change belongs to no transaction")
				}
				quiet = false
				switch e.Change.Kind {
				case domain.Insert:
					words = append(words, "insert "+value(e.Change.New[0])+" "+value(e.Change.New[1]))
				case domain.Update:
					words = append(words, "update "+value(e.Change.New[0])+" "+value(e.Change.New[1]))
				case domain.Delete:
					words = append(words, "delete "+value(e.Change.Old[0]))
				case domain.Truncate:
					words = append(words, "truncate")
				}
			case domain.EventCommit:
				open = false
				if !quiet {
					words, ends = append(words, "commit"), append(ends, e.Tx.End)
				}
				if !e.Tx.Commit.Before(end) {
					return words, ends
				}
			case domain.EventProgress:
				if !e.Position.Before(end) {
					return words, ends
				}
			}
		case <-ctx.Done():
			k.Fatalf("a minute is over, and this has come: %v", words)
		}
	}
}

// work is what an application writes.
var work = []string{
	"INSERT INTO hives VALUES (5001, 'new', 1)",
	"UPDATE hives SET name = 'renamed' WHERE id = 5001",
	"UPDATE hives SET id = 5002 WHERE id = 5001",
	"INSERT INTO hives VALUES (5003, NULL, 3), (5004, 'x', 4)",
	"DELETE FROM hives WHERE id = 5003",
}

var worked = []string{"insert 5001 new", "commit", "update 5001 renamed", "commit", "update 5002 renamed", "commit",
	"insert 5003 -", "insert 5004 x", "commit", "delete 5003", "commit"}

func (k *contract) work() {
	k.Helper()
	for _, q := range work {
		k.run(q)
		if k.s.Marked {
			_, err := k.from.Heartbeat(k.Context())
			k.ok(err)
		}
	}
}

func (k *contract) captures() {
	name, from := k.capture()
	k.work()
	if got, _ := k.read(name, from); !slices.Equal(got, worked) {
		k.Errorf("came\n%q, was\n%q", got, worked)
	}
}

func (k *contract) goesOn() {
	name, from := k.capture()
	k.work()
	all, ends := k.read(name, from)
	if len(ends) != len(work) {
		k.Fatalf("%d transactions came: %q", len(ends), all)
	}
	for i, at := range ends[:len(ends)-1] {
		rest, _ := k.read(name, at)
		var want []string // what stands behind the commit of that transaction
		for n, w := range worked {
			if w == "commit" {
				if i--; i < 0 {
					want = worked[n+1:]
					break
				}
			}
		}
		if !slices.Equal(rest, want) {
			k.Errorf("after %d came %q, was %q", at, rest, want)
		}
	}
}

func text(v string) domain.Value { return domain.Value{Kind: domain.Present, Data: []byte(v)} }

func hive(id, name string) domain.Row {
	return domain.Row{text(id), text(name), text("1")}
}

// applied brings a net effect to the target under an epoch.
func (k *contract) applied(epoch int64, to domain.Position, n fold.Net) ([]domain.Row, error) {
	k.Helper()
	a, err := k.to.OpenApplier(k.Context(), k.crossing, "", epoch)
	k.ok(err)
	defer a.Close()
	defer a.Abort()
	if err := a.Begin(k.Context()); err != nil {
		return nil, err
	}
	missing, err := a.Apply(k.Context(), &k.there, n, false)
	if err != nil {
		return nil, err
	}
	return missing, a.Commit(k.Context(), to, "", 1)
}

func (k *contract) applies() {
	k.target()
	_, err := k.copied(1, nil, nil, 1)
	k.ok(err)
	if at, err := k.to.TakeStream(k.Context(), k.crossing, 1, domain.PositionAt(100)); err != nil ||
		at != domain.PositionAt(100) {
		k.Fatalf("it begins at %d, %v", at, err)
	}
	_, err = k.applied(1, domain.PositionAt(200), fold.Net{Removes: []domain.Row{hive("-100", "")},
		Patches: []domain.Row{{text("-97"), {Kind: domain.Unchanged}, text("77")}}, Puts: []domain.Row{hive("-94", "put"),
			hive("7000", "put")}})
	k.ok(err)
	if n := k.held(); n != 200 {
		k.Errorf("%d rows are there", n)
	}
	if at, _, err := k.to.StreamAt(k.Context(), k.crossing); err != nil || at != domain.PositionAt(200) {
		k.Errorf("it stands at %d, %v", at, err)
	}
	a, err := k.to.OpenApplier(k.Context(), k.crossing, "", 1)
	k.ok(err)
	k.ok(a.Begin(k.Context()))
	moved, err := a.Move(k.Context(), &k.there, domain.Change{Kind: domain.Update, Old: domain.Row{text("-97"), {}, {}},
		New: domain.Row{text("7001"), {Kind: domain.Unchanged}, text("78")}})
	k.ok(err)
	gone, err := a.Move(k.Context(), &k.there, domain.Change{Kind: domain.Update, Old: domain.Row{text("-96"), {}, {}},
		New: domain.Row{text("7002"), {Kind: domain.Unchanged}, text("78")}})
	k.ok(err)
	if !moved || gone {
		k.Errorf("a row that is there is moved: %t; one that is not: %t", moved, gone)
	}
	a.Abort()
	a.Close()
	if at, _, err := k.to.StreamAt(k.Context(), k.crossing); err != nil || at != domain.PositionAt(200) {
		k.Errorf("what was called off brought it to %d, %v", at, err)
	}
}

func (k *contract) epochs() {
	k.target()
	if at, err := k.to.TakeStream(k.Context(), k.crossing, 1, domain.PositionAt(100)); err != nil ||
		at != domain.PositionAt(100) {
		k.Fatalf("it begins at %d, %v", at, err)
	}
	put := fold.Net{Puts: []domain.Row{hive("1", "a")}}
	_, err := k.applied(1, domain.PositionAt(150), put)
	k.ok(err)
	if at, err := k.to.TakeStream(k.Context(), k.crossing, 2, domain.PositionAt(100)); err != nil ||
		at != domain.PositionAt(150) {
		k.Fatalf("the second holder begins at %d, %v", at, err)
	}
	if _, err := k.applied(1, domain.PositionAt(160), fold.Net{Puts: []domain.Row{hive("2", "b")}}); !errors.Is(err,
		domain.ErrTakenOver) {
		k.Errorf("the first holder committed: %v", err)
	}
	if _, err := k.applied(2, domain.PositionAt(140), put); !errors.Is(err, domain.ErrTakenOver) {
		k.Errorf("the place went back: %v", err)
	}
	if _, err := k.to.TakeStream(k.Context(), k.crossing, 1, domain.PositionAt(100)); !errors.Is(err,
		domain.ErrTakenOver) {
		k.Errorf("an older holder took the stream: %v", err)
	}
	if n := k.held(); n != 1 {
		k.Errorf("%d rows are there", n)
	}
	k.ok(k.to.MoveStream(k.Context(), k.crossing, 2, domain.PositionAt(70)))
	if at, _, err := k.to.StreamAt(k.Context(), k.crossing); err != nil || at != domain.PositionAt(70) {
		k.Errorf("as another server counts, it stands at %d, %v", at, err)
	}
	k.ok(k.to.ForgetStream(k.Context(), k.crossing))
	if at, err := k.to.TakeStream(k.Context(), k.crossing, 3, domain.PositionAt(10)); err != nil ||
		at != domain.PositionAt(10) {
		k.Errorf("a stream that was forgotten begins at %d, %v", at, err)
	}
}

func (k *contract) missing() {
	k.target()
	_, err := k.to.TakeStream(k.Context(), k.crossing, 1, domain.PositionAt(100))
	k.ok(err)
	missing, err := k.applied(1, domain.PositionAt(150), fold.Net{Patches: []domain.Row{{text("4"),
		{Kind: domain.Unchanged}, text("1")}}})
	if err != nil || len(missing) != 1 || string(missing[0][0].Data) != "4" {
		k.Errorf("a change of what is not there: %v, %v", missing, err)
	}
	if n := k.held(); n != 0 {
		k.Errorf("it left %d rows", n)
	}
}

func (k *contract) compares() {
	k.target()
	_, err := k.copied(1, nil, nil, 1)
	k.ok(err)
	part := engine.Part{Bounds: []domain.KeyValue{{"0"}, {"100"}, {"300"}}}
	look := func() (source, target engine.View, differ []int) {
		a, _, err := k.from.OpenView(k.Context(), false, time.Minute)
		k.ok(err)
		b, _, err := k.to.OpenView(k.Context(), false, time.Minute)
		k.ok(err)
		mine, err := a.Sums(k.Context(), &k.plan, part, func(int64) {})
		k.ok(err)
		theirs, err := b.Sums(k.Context(), &k.there, part, func(int64) {})
		k.ok(err)
		if len(mine) != 4 || len(theirs) != 4 {
			k.Fatalf("4 parts have %d and %d sums", len(mine), len(theirs))
		}
		for i := range mine {
			if mine[i] != theirs[i] {
				differ = append(differ, i)
			}
		}
		k.hashed(a, b, part, differ)
		return a, b, differ
	}
	a, b, differ := look()
	n, err := a.Count(k.Context(), &k.plan)
	k.ok(err)
	m, err := b.Count(k.Context(), &k.there)
	k.ok(err)
	if len(differ) > 0 || n != 200 || m != 200 {
		k.Errorf("of equal tables the parts %v differ, with %d and %d rows", differ, n, m)
	}
	a.Close()
	b.Close()
	k.run("UPDATE hives SET name = 'else' WHERE id = 113", "DELETE FROM hives WHERE id = 401")
	a, b, differ = look()
	defer a.Close()
	defer b.Close()
	if !slices.Equal(differ, []int{2, 3}) {
		k.Fatalf("the parts %v differ, it is 2 and 3", differ)
	}
	rows := func(v engine.View, p *domain.TablePlan) map[string]uint64 {
		out := map[string]uint64{}
		k.ok(v.Rows(k.Context(), p, part, differ, func(key []byte, hash uint64) { out[string(key)] = hash }))
		return out
	}
	here, there := rows(a, &k.plan), rows(b, &k.there)
	var keys []string
	for key, hash := range there {
		if here[key] != hash {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	if len(keys) != 2 || len(there)-len(here) != 1 {
		k.Fatalf("%d rows differ: %q; %d here, %d there", len(keys), keys, len(here), len(there))
	}
	got, err := a.Fetch(k.Context(), &k.plan, part, keys)
	k.ok(err)
	were, err := b.Fetch(k.Context(), &k.there, part, keys)
	k.ok(err)
	names := map[string]bool{}
	for _, key := range keys {
		for _, r := range got[key] {
			names["here "+string(r[1].Data)] = true
		}
		for _, r := range were[key] {
			names["there "+string(r[1].Data)] = true
		}
	}
	if !names["here else"] || !names["there hive 71"] || !names["there hive 167"] || len(names) != 3 {
		k.Errorf("the rows that differ are %v", names)
	}
}

// hashed: where servers hash rows by themselves, the same parts differ.
func (k *contract) hashed(a, b engine.View, part engine.Part, want []int) {
	here, ok := a.(engine.Hashes)
	there, too := b.(engine.Hashes)
	if !ok || !too {
		return
	}
	if form := here.HashForm(&k.plan); form == "" || form != there.HashForm(&k.there) {
		k.Errorf("the sides hash as %q and %q", form, there.HashForm(&k.there))
	}
	mine, err := here.HashThere(k.Context(), &k.plan, part, []int{0, 1, 2, 3}, func(int64) {})
	k.ok(err)
	theirs, err := there.HashThere(k.Context(), &k.there, part, []int{0, 1, 2, 3}, func(int64) {})
	k.ok(err)
	if len(mine) != 4 || len(theirs) != 4 {
		k.Fatalf("4 parts have %d and %d sums of the servers", len(mine), len(theirs))
	}
	if differ := narrow.Parts(mine, theirs); !slices.Equal(differ, want) || mine[2].Hash == mine[3].Hash {
		k.Errorf("by the servers' sums the parts %v differ, it is %v: %v, %v", differ, want, mine, theirs)
	}
	tried, err := here.TryHashes(k.Context(), &k.plan, part, 2, 50)
	if err != nil || tried.Rows != 50 || tried.Here <= 0 || tried.There <= 0 {
		k.Errorf("tried on rows it is %+v, %v", tried, err)
	}
	if trip, err := here.RoundTrip(k.Context()); err != nil || trip <= 0 {
		k.Errorf("the server is %s away, %v", trip, err)
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

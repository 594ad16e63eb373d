package planning

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"dustyferry/internal/core/columns"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// coop is a crossing of Saltmarsh Apiaries, with what stands on both sides and what is kept.
type coop struct {
	c        *domain.Crossing
	from, to string          // engines
	here     *domain.Catalog // of the source
	there    *domain.Catalog // of the target
	oneHost  bool            // both sides are one database

	// What the source says.
	says    []domain.Entry
	open    []string // transactions
	extras  []engine.Object
	deny    error               // instead of extras
	answers map[string][]string // columns of queries, as name:type, by a part of them
	refuses string              // queries with it
	rows    [][]string          // "\\N" is NULL
	last    bool                // a statement was the last of its table
	blind   bool                // it cannot be read
	slow    time.Duration       // between two blocks of a reader
	cores   int                 // readers beyond which more give no more
	grows   uint64              // of the log, with every look
	breaks  error               // of reading

	// What the target says.
	tells []domain.Entry
	holds map[domain.TableName]int64
	ahead time.Duration // its clock

	label  string // of a worker at work
	policy domain.Policy
	survey []domain.Entry
	fit    *domain.FitCheck

	mu      sync.Mutex
	reading int
	at      uint64
	saves   int
	said    []string
	scopes  []engine.Scope
}

func newCoop(tables ...domain.Table) *coop {
	c := &domain.Crossing{ID: 1, Name: "spring", Source: "marsh", Target: "cloud", Kind: domain.KindLoadCapture,
		Phase: domain.PhaseDraft, Settings: domain.DefaultSettings()}
	return &coop{c: c, from: typemap.Postgres, to: typemap.MariaDB, here: &domain.Catalog{Tables: tables},
		there: &domain.Catalog{},
		holds: map[domain.TableName]int64{}, answers: map[string][]string{}, cores: 1}
}

func (o *coop) planning() *Planning {
	return New(o, servers{o}, o, func(purpose string) []byte { return []byte("secret for " + purpose) })
}

// hive is the table of that name with columns as name:type, the first of which is its key.
func hive(name string, bytes int64, cols ...string) domain.Table {
	t := domain.Table{TableName: domain.TableName{Schema: "marsh", Name: name}, Rows: bytes / 100, Bytes: bytes,
		ID: "oid " + name, Written: "file " + name}
	for _, c := range cols {
		t.Columns = append(t.Columns, column(c))
	}
	t.Columns[0].NotNull = true
	t.Keys = []domain.Key{{Columns: []string{t.Columns[0].Name}, Primary: true, Name: name + "_pkey"}}
	return t
}

func column(text string) domain.Column {
	name, kind, _ := strings.Cut(text, ":")
	base, _, _ := strings.Cut(kind, "(")
	return domain.Column{Name: name, Type: kind, BaseType: base, Wire: "portable"}
}

func (o *coop) Database(_ context.Context, name string) (domain.Database, error) {
	d := domain.Database{Name: name, Host: name, Engine: o.from, DBName: "honey"}
	if name == o.c.Target {
		d.Engine = o.to
	}
	if o.oneHost {
		d.Host = "one"
	}
	return d, nil
}
func (o *coop) Policy(context.Context) (domain.Policy, error)           { return o.policy, nil }
func (o *coop) HasWorker(_ context.Context, label string) (bool, error) { return label == o.label, nil }
func (o *coop) SurveyOf(context.Context, int64) ([]domain.Entry, error) { return o.survey, nil }
func (o *coop) FitOf(context.Context, int64) (*domain.FitCheck, error)  { return o.fit, nil }
func (o *coop) SaveFit(_ context.Context, _ *domain.Crossing, f *domain.FitCheck) error {
	o.saves++
	kept := *f
	o.fit = &kept
	return nil
}
func (o *coop) Recordf(_ context.Context, _, _, _, _, _, format string, args ...any) {
	o.said = append(o.said, fmt.Sprintf(format, args...))
}

// servers are both sides by their names.
type servers struct{ o *coop }

func (s servers) Open(_ context.Context, name string) (*engine.Opened, error) {
	if name == s.o.c.Target {
		t := &target{coop: s.o}
		return &engine.Opened{Database: t, Lands: t, Applies: t, Defines: t, Tells: t}, nil
	}
	f := &source{coop: s.o}
	out := &engine.Opened{Database: f, Reads: f, Queries: f, Captures: f, Carries: f, Tells: f}
	if s.o.blind {
		out = &engine.Opened{Database: f}
	}
	return out, nil
}
func (s servers) OpenPair(ctx context.Context, c *domain.Crossing) (src, dst *engine.Opened, err error) {
	src, _ = s.Open(ctx, c.Source)
	dst, err = s.Open(ctx, c.Target)
	return src, dst, err
}
func (s servers) Catalog(_ context.Context, name string, _ bool) (*domain.Catalog, error) {
	if name == s.o.c.Target {
		return s.o.there, nil
	}
	return s.o.here, nil
}

// source is the database that is read.
type source struct {
	engine.Database
	engine.Reads
	engine.Queries
	engine.Captures
	engine.Carries
	engine.Tells
	*coop
}

func (s *source) Catalog(context.Context) (*domain.Catalog, error) { return s.here, nil }
func (s *source) Plan(t *domain.Table) (domain.TablePlan, error) {
	p := domain.TablePlan{Source: t.TableName, Target: t.TableName, Columns: t.Columns, Table: *t, KeyOrder: "none"}
	if len(t.Keys) > 0 {
		p.Key, p.KeyOrder = t.Keys[0].Columns, "ours"
	}
	return p, nil
}
func (s *source) SurveySource(context.Context, []domain.TablePlan, bool) ([]domain.Entry, error) {
	return append([]domain.Entry(nil), s.says...), nil
}
func (s *source) OpenTransactions(context.Context, time.Duration) ([]string, error) {
	return s.open, nil
}
func (s *source) Extras(_ context.Context, _ []domain.TablePlan,
	kinds []domain.Carried) (out []engine.Object, err error) {
	for _, x := range s.extras {
		for _, k := range kinds {
			if strings.HasSuffix(x.Kind, strings.TrimSuffix(string(k), "s")) || k == domain.CarryRoutines &&
				x.Kind == "function" {
				out = append(out, x)
			}
		}
	}
	return out, s.deny
}
func (s *source) Describe(_ context.Context, query string) ([]domain.Column, error) {
	if s.refuses != "" && strings.Contains(query, s.refuses) {
		return nil, &engine.ServerError{Text: "no such column"}
	}
	for part, cols := range s.answers {
		if strings.Contains(query, part) {
			var out []domain.Column
			for _, c := range cols {
				out = append(out, column(c))
			}
			return out, nil
		}
	}
	return []domain.Column{{Name: "?column?"}}, nil
}
func (s *source) Scan(ctx context.Context, _ *domain.TablePlan, scope engine.Scope, visit func([][]byte) error) error {
	s.scopes = append(s.scopes, scope)
	for i, r := range s.rows {
		if scope.First > 0 && i == scope.First {
			break
		}
		fields := make([][]byte, len(r))
		for k, v := range r {
			if v != `\N` {
				fields[k] = []byte(v)
			}
		}
		if err := visit(fields); err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return s.breaks
}
func (s *source) Preview(_ context.Context, t *domain.Table, limit int) ([][]*string, error) {
	text := fmt.Sprintf("%d of %s", limit, t)
	return [][]*string{{&text}}, nil
}
func (s *source) IsLastDDL(context.Context, domain.TableName, domain.Position) (bool, error) {
	return s.last, nil
}
func (s *source) LogBytes(_ context.Context, from, to domain.Position) (int64, error) {
	return int64(to.Number() - from.Number()), nil
}
func (s *source) Clock(context.Context) (time.Time, error) { return time.Unix(1_800_000_000, 0), nil }
func (s *source) OpenReader(context.Context) (engine.Reader, error) {
	return &reader{coop: s.coop}, nil
}

// reader gives blocks of a megabyte, at the pace of as many cores as the source has.
type reader struct {
	engine.Reader
	*coop
}

func (r *reader) Begin(context.Context) (domain.Snapshot, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.at += r.grows
	r.reading++
	return domain.Snapshot{Log: domain.PositionAt(1000 + r.at)}, nil
}
func (r *reader) End(context.Context) error { return nil }
func (r *reader) Close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.reading--
}
func (r *reader) SupportsBinary(*domain.TablePlan) bool { return false }
func (r *reader) Copy(ctx context.Context, _ *domain.TablePlan, _ *domain.Chunk, _ bool,
	sink func([]byte) error) (rowhash.Sum, error) {
	if r.breaks != nil {
		return rowhash.Sum{}, r.breaks
	}
	r.mu.Lock()
	pause := r.slow * time.Duration(max(1, r.reading/r.cores))
	r.mu.Unlock()
	for range 1000 {
		time.Sleep(pause)
		if err := sink(make([]byte, 1<<20)); err != nil {
			return rowhash.Sum{}, err
		}
	}
	return rowhash.Sum{}, errors.New("a thousand blocks, and nobody has had enough")
}

// target is the database that is written.
type target struct {
	engine.Database
	engine.Lands
	engine.Applies
	engine.Defines
	engine.Tells
	*coop
}

func (t *target) Catalog(context.Context) (*domain.Catalog, error) { return t.there, nil }
func (t *target) SurveyTarget(context.Context, *domain.Catalog, []domain.TablePlan,
	domain.Settings) ([]domain.Entry, error) {
	return append([]domain.Entry(nil), t.tells...), nil
}
func (t *target) Holds(context.Context, []domain.TablePlan) (map[domain.TableName]int64, error) {
	return t.coop.holds, nil
}
func (t *target) Creates(p *domain.TablePlan) []engine.Object {
	return []engine.Object{{Kind: "table", Name: p.Target.Name, Table: p.Target, SQL: "CREATE TABLE " + p.Target.Name},
		{Kind: "comment", Name: "comment", Table: p.Target, SQL: "COMMENT"}}
}
func (t *target) Deferred(_ *domain.Catalog, plans []domain.TablePlan) (out []engine.Object) {
	for i := range plans {
		out = append(out, engine.Object{Kind: "index", Name: plans[i].Target.Name + "_by", Table: plans[i].Target,
			SQL: "CREATE INDEX"})
	}
	return out
}
func (t *target) Alters(p *domain.TablePlan, list []columns.Change) (out []string) {
	for _, k := range list {
		out = append(out, fmt.Sprintf("ALTER %s %s %s→%s", p.Target.Name, k.Kind, k.Was.Name, k.Now.Name))
	}
	return out
}
func (t *target) Clock(context.Context) (time.Time, error) {
	return time.Unix(1_800_000_000, 0).Add(t.ahead), nil
}

package planning

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Surveyed is what was found on both sides of a crossing, with its tables as they are planned.
type Surveyed struct {
	Source, Target *engine.Opened
	Catalog        *domain.Catalog // of the source
	Plans          []domain.TablePlan
	Entries        []domain.Entry
}

// Survey looks at both sides. With try, it also reads for a moment to measure; not
// where the load itself is about to begin.
func (pl *Planning) Survey(ctx context.Context, c *domain.Crossing, try bool) (*Surveyed, error) {
	s, types, err := pl.Plan(ctx, c)
	if err != nil {
		return nil, err
	}
	able, can := abilityEntries(c, s.Source, s.Target)
	if !can { // nothing else could be asked
		s.Entries = able
		return s, nil
	}
	begun := c.Phase != domain.PhaseDraft && c.Phase != domain.PhaseSurveyed
	from, err := pl.sourceEntries(ctx, c, s, begun)
	if err != nil {
		return nil, err
	}
	to, err := pl.targetEntries(ctx, c, s, begun)
	if err != nil {
		return nil, err
	}
	tables, err := pl.tableEntries(ctx, c, s, append(types, able...))
	if err != nil {
		return nil, err
	}
	size, err := pl.sizeEntries(ctx, c, s, try && !begun)
	if err != nil {
		return nil, err
	}
	back, err := pl.returnEntries(ctx, c, s)
	if err != nil {
		return nil, err
	}
	s.Entries = slices.Concat(from, to, tables, size, back)
	rank := map[domain.Verdict]int{domain.Blocker: 0, domain.Notice: 1, domain.OK: 2}
	slices.SortStableFunc(s.Entries, func(a, b domain.Entry) int { return rank[a.Verdict] - rank[b.Verdict] })
	return s, nil
}

// sourceEntries are what the source says of itself, and which transactions a capture that
// begins has to wait for.
func (pl *Planning) sourceEntries(ctx context.Context, c *domain.Crossing, s *Surveyed,
	begun bool) ([]domain.Entry, error) {
	capture := c.Kind != domain.KindLoad
	tables := slices.DeleteFunc(slices.Clone(s.Plans), func(p domain.TablePlan) bool { return p.From != "" })
	out, err := s.Source.SurveySource(ctx, tables, capture)
	if err != nil || !capture || begun {
		return out, err
	}
	open, err := s.Source.OpenTransactions(ctx, 30*time.Second)
	if err != nil {
		return nil, err
	}
	if len(open) > 0 {
		out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "open transactions", Subject: "source",
			Measured: "capture can begin only when these have ended: " + strings.Join(open[:min(len(open), 5)], "; ") +
				domain.More(len(open)-5),
			Remedy: "let them end, or end them, before the start"})
	}
	return out, nil
}

// targetEntries are what the target says of itself. What a crossing that has begun made there
// does not stand in its way.
func (pl *Planning) targetEntries(ctx context.Context, c *domain.Crossing, s *Surveyed,
	begun bool) ([]domain.Entry, error) {
	out, err := s.Target.SurveyTarget(ctx, s.Catalog, OnTarget(s.Plans), c.Settings)
	if err != nil {
		return nil, err
	}
	if begun {
		out = slices.DeleteFunc(out, func(e domain.Entry) bool {
			return e.Topic == engine.TopicTarget || e.Topic == engine.TopicActs
		})
	}
	same, err := pl.sameDatabase(ctx, c)
	if same {
		out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: "target", Subject: "target",
			Measured: "source and target are the same database", Remedy: "choose another target"})
	}
	return out, err
}

// tableEntries add to what is known of the tables' types what else there is to say of the plan.
func (pl *Planning) tableEntries(ctx context.Context, c *domain.Crossing, s *Surveyed,
	types []domain.Entry) ([]domain.Entry, error) {
	types = append(types, clashes(s.Plans)...)
	label, err := pl.labelEntry(ctx, c)
	if err != nil {
		return nil, err
	}
	way, err := pl.way(ctx, c, s.Catalog)
	if err != nil {
		return nil, err
	}
	extras, err := extraEntries(ctx, c, s, way.From == way.To)
	if err != nil {
		return nil, err
	}
	types = slices.Concat(types, label, extras, byHandEntries(s))
	checked, err := pl.fitEntries(ctx, c, s.Plans, types)
	return append(types, checked...), err
}

// sizeEntries say how much there is to carry, and how long that takes: with try, by reading for
// a moment.
func (pl *Planning) sizeEntries(ctx context.Context, c *domain.Crossing, s *Surveyed,
	try bool) ([]domain.Entry, error) {
	clocks, err := clockEntry(ctx, s)
	if err != nil {
		return nil, err
	}
	out := slices.Concat(clocks, orderEntry(s.Plans), []domain.Entry{roomEntry(s.Plans)}, oneChunkEntries(c, s.Plans))
	if try {
		return append(out, trialEntries(ctx, c, s)...), nil
	}
	return pl.lastTrial(ctx, c, s, out)
}

// abilityEntries say what of a crossing's work its databases cannot do, and whether it can be
// begun all the same.
func abilityEntries(c *domain.Crossing, src, dst *engine.Opened) (out []domain.Entry, can bool) {
	can = true
	lack := func(verdict domain.Verdict, remedy, name string, lacks []engine.Capability) {
		for _, k := range lacks {
			out = append(out, domain.Entry{Verdict: verdict, Topic: "what engines can do", Subject: name,
				Measured: fmt.Sprintf("%s cannot %s: its engine has no way to", name, k), Remedy: remedy})
			can = can && verdict != domain.Blocker
		}
	}
	var from, to []engine.Capability
	if c.Kind != domain.KindCapture {
		from, to = append(from, engine.CanRead), append(to, engine.CanLand)
	}
	const other = "choose another database, or a crossing that does not need it"
	if c.Kind != domain.KindLoad {
		lack(domain.Notice, "have a person's word for it that writes have stopped, before the cutover", c.Source,
			src.Lacks(engine.CanStop))
		from, to = append(from, engine.CanCapture), append(to, engine.CanApply)
	}
	lack(domain.Blocker, other, c.Source, src.Lacks(from...))
	lack(domain.Blocker, other, c.Target, dst.Lacks(append(to, engine.CanDefine)...))
	const unproven = "nothing but a look of your own shows then that both sides are equal"
	lack(domain.Notice, unproven, c.Source, src.Lacks(engine.CanCompare))
	lack(domain.Notice, unproven, c.Target, dst.Lacks(engine.CanCompare))
	return out, can
}

// Plan plans all tables of the crossing as the source is now, and says what
// becomes of their columns.
func (pl *Planning) Plan(ctx context.Context, c *domain.Crossing) (*Surveyed, []domain.Entry, error) {
	s := &Surveyed{}
	var err error
	if s.Source, s.Target, err = pl.databases.OpenPair(ctx, c); err != nil {
		return nil, nil, err
	}
	if s.Catalog, err = s.Source.Catalog(ctx); err != nil {
		return nil, nil, err
	}
	draw, err := pl.planner(ctx, c, s.Source, s.Catalog)
	if err != nil {
		return nil, nil, err
	}
	if s.Plans, err = draw.plain(ctx); err != nil {
		return nil, nil, err
	}
	var types []domain.Entry
	var there *domain.Catalog // of a target on which all rows stand
	if c.Kind == domain.KindCapture {
		if there, err = pl.databases.Catalog(ctx, c.Target, true); err != nil {
			return nil, nil, err
		}
		types = ontoRows(c)
	}
	for i := range s.Plans {
		p, _, notes, err := draw.shape(ctx, s.Plans[i])
		if err != nil {
			return nil, nil, err
		}
		if there != nil {
			types = append(types, missing(there, &p)...)
		}
		if c.ReturnOf != nil {
			if t := there.Table(p.TargetPlan().Target); t != nil {
				notes = draw.way.Onto(&p, t, notes)
			}
		}
		s.Plans[i] = p
		types = append(types, noteEntries(&p, notes)...)
	}
	draw.way.RemapForeignKeys(s.Plans)
	types = append(types, ruleEntries(c, s.Plans)...)
	types = append(types, refreshEntries(c, s.Plans)...)
	if c.Kind != domain.KindLoad {
		types = append(types, orderActs(s.Plans)...)
	}
	orders, err := readOrders(ctx, c, s)
	return s, append(types, orders...), err
}

// way is from the crossing's source to its target.
func (pl *Planning) way(ctx context.Context, c *domain.Crossing, cat *domain.Catalog) (typemap.Mapping, error) {
	from, err := pl.records.Database(ctx, c.Source)
	if err != nil {
		return typemap.Mapping{}, err
	}
	to, err := pl.records.Database(ctx, c.Target)
	return typemap.Mapping{From: from.Engine, To: to.Engine, Into: to.DBName, Catalog: cat}, err
}

// topicTypes is what is filed of columns' types under: of one whose values change, with how much
// they do, and of all those that are only wider there.
const (
	topicTypes = "column type"
	topicWider = "column types, wider"
)

func typeTopic(v typemap.Verdict) string { return topicTypes + ", " + string(v) }

// lossyTopic is of columns that cannot keep every value.
var lossyTopic = typeTopic(typemap.Lossy)

// noteEntries tell what becomes of a table's columns, and what is left of it.
func noteEntries(p *domain.TablePlan, notes []typemap.Noted) []domain.Entry {
	var out []domain.Entry
	var wider []string
	for _, n := range notes {
		text := fmt.Sprintf("%s: %s becomes %s", n.Column, n.From, n.To)
		switch {
		case n.From == "":
			text = n.Column
		case n.Note == "":
			wider = append(wider, text)
			continue
		}
		verdict := domain.Notice
		if n.Verdict == typemap.Impossible {
			verdict = domain.Blocker
		}
		out = append(out, domain.Entry{Verdict: verdict, Topic: typeTopic(n.Verdict), Subject: p.Source.String(),
			Measured: text + "; " + n.Note})
	}
	if len(wider) > 0 {
		out = append(out, domain.Entry{Verdict: domain.OK, Topic: topicWider, Subject: p.Source.String(),
			Measured: strings.Join(wider, ", ")})
	}
	if p.TargetSide != nil {
		for _, l := range p.TargetSide.Table.Left {
			out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "left out", Subject: p.Source.String(),
				Measured: l + " is not made on the target"})
		}
	}
	return out
}

func (pl *Planning) sameDatabase(ctx context.Context, c *domain.Crossing) (bool, error) {
	a, err := pl.records.Database(ctx, c.Source)
	if err != nil {
		return false, err
	}
	b, err := pl.records.Database(ctx, c.Target)
	return a.Host == b.Host && a.Port == b.Port && a.DBName == b.DBName, err
}

// chosen are the tables that patterns choose, in the catalog's order.
func chosen(cat *domain.Catalog, patterns []string) []*domain.Table {
	names := make([]domain.TableName, len(cat.Tables))
	for i := range cat.Tables {
		names[i] = cat.Tables[i].TableName
	}
	in := map[domain.TableName]bool{}
	for _, n := range domain.MatchTables(patterns, names) {
		in[n] = true
	}
	var out []*domain.Table
	for i := range cat.Tables {
		if in[cat.Tables[i].TableName] {
			out = append(out, &cat.Tables[i])
		}
	}
	return out
}

// Plans plans the tables that the patterns choose.
func Plans(src *engine.Opened, cat *domain.Catalog, patterns []string) ([]domain.TablePlan, error) {
	var names []domain.TableName
	for _, t := range cat.Tables {
		names = append(names, t.TableName)
	}
	tables := chosen(cat, patterns)
	if len(tables) == 0 && len(patterns) == 0 {
		return nil, domain.Invalid("the source has no table that can be carried: views, foreign tables and " +
			"system-versioned tables are not")
	}
	if len(tables) == 0 {
		return nil, domain.Invalid("no table of the source matches %s; 'dustyferry database show' lists the tables there are",
			strings.Join(patterns, ", "))
	}
	for _, p := range patterns {
		if !strings.ContainsAny(p, "*") && !strings.HasPrefix(p, "-") &&
			!slices.ContainsFunc(names, func(n domain.TableName) bool { return n.String() == p }) {
			return nil, domain.Invalid("the source has no table %s; it may have been renamed or dropped ('dustyferry database "+
				"show' lists the tables there are)", p)
		}
	}
	var out []domain.TablePlan
	for _, t := range tables {
		p, err := src.Plan(t)
		if err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

// labelEntry says when no worker has the label that the crossing asks for.
func (pl *Planning) labelEntry(ctx context.Context, c *domain.Crossing) ([]domain.Entry, error) {
	label := c.Settings.WorkerLabel
	if label == "" {
		return nil, nil
	}
	at, err := pl.records.HasWorker(ctx, label)
	if err != nil {
		return nil, err
	}
	if at {
		return []domain.Entry{{Verdict: domain.OK, Topic: "workers", Subject: c.Name, Measured: "a worker with the label " +
			label + " is at work"}}, nil
	}
	return []domain.Entry{{Verdict: domain.Notice, Topic: "workers", Subject: c.Name,
		Measured: "no worker with the label " + label + " is at work: chunks and changes wait until there is one",
		Remedy:   "dustyferry worker --label " + label}}, nil
}

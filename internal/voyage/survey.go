package voyage

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
)

// Survey looks at both sides without changing anything, and keeps what it found. It is work
// like any other: it ends when somebody cancels it, or when ctx does.
func (v *Voyage) Survey(ctx context.Context, c *domain.Crossing, actor string) ([]domain.Entry, error) {
	if err := lifecycle.AllowOn(lifecycle.Survey, c); err != nil {
		return nil, err
	}
	// Without a job for the queue: it is carried out here, and now. Should this process die,
	// the keeper has another one end it.
	var id int64
	err := v.Queue.In(ctx, func(tx pgx.Tx) (err error) {
		id, err = records.AddTaskTx(ctx, tx, c.ID, TaskSurvey, struct{}{}, actor)
		return err
	})
	if err != nil {
		return nil, err
	}
	stay := context.WithoutCancel(ctx)
	gone := context.AfterFunc(ctx, func() { _, _ = v.Store.CancelTask(stay, c.ID, id, "whoever asked for it went away") })
	defer gone()
	worked, err := v.Run(stay, id)
	if err := cmp.Or(worked, err, ctx.Err()); err != nil {
		return nil, err
	}
	return v.Store.SurveyOf(ctx, c.ID)
}

// surveyTask looks at both sides and keeps what it found.
func (v *Voyage) surveyTask(ctx context.Context, c *domain.Crossing, note func(string)) error {
	note("looking at both sides")
	s, err := v.survey(ctx, c, true)
	if err != nil {
		return err
	}
	return v.Store.SaveSurvey(ctx, c, s.entries)
}

type surveyed struct {
	src, dst *engine.Opened
	catalog  *domain.Catalog
	plans    []domain.TablePlan
	entries  []domain.Entry
}

// survey looks at both sides. With try, it also reads for a moment to measure; not
// where the load itself is about to begin.
func (v *Voyage) survey(ctx context.Context, c *domain.Crossing, try bool) (*surveyed, error) {
	s, types, err := v.planned(ctx, c)
	if err != nil {
		return nil, err
	}
	under := c.Phase != domain.PhaseDraft && c.Phase != domain.PhaseSurveyed
	capture := c.Kind != domain.KindLoad
	able, can := abilityEntries(c, s.src, s.dst)
	if !can { // nothing else could be asked
		s.entries = able
		return s, nil
	}
	types = append(types, able...)
	from, err := s.src.SurveySource(ctx, slices.DeleteFunc(slices.Clone(s.plans), func(p domain.TablePlan) bool { return p.From != "" }), capture)
	if err != nil {
		return nil, err
	}
	if capture && !under {
		open, err := s.src.OpenTransactions(ctx, 30*time.Second)
		if err != nil {
			return nil, err
		}
		if len(open) > 0 {
			from = append(from, domain.Entry{Verdict: domain.Notice, Topic: "open transactions", Subject: "source", Measured: "capture can begin only when these have ended: " + strings.Join(open[:min(len(open), 5)], "; ") + more(len(open)-5),
				Remedy: "let them end, or end them, before the start"})
		}
	}
	to, err := s.dst.SurveyTarget(ctx, s.catalog, onTarget(s.plans), c.Settings)
	if err != nil {
		return nil, err
	}
	if under { // its own tables and slot stand there already
		to = slices.DeleteFunc(to, func(e domain.Entry) bool { return e.Topic == "target table" || e.Topic == engine.TopicActs })
	}
	if same, err := v.sameDatabase(ctx, c); err != nil {
		return nil, err
	} else if same {
		to = append(to, domain.Entry{Verdict: domain.Blocker, Topic: "target", Subject: "target", Measured: "source and target are the same database", Remedy: "choose another target"})
	}
	types = append(types, clashes(s.plans)...)
	label, err := v.labelEntry(ctx, c)
	if err != nil {
		return nil, err
	}
	types = append(types, label...)
	way, err := v.way(ctx, c, s.catalog)
	if err != nil {
		return nil, err
	}
	extras, err := extraEntries(ctx, c, s, way.From == way.To)
	if err != nil {
		return nil, err
	}
	types = append(append(types, extras...), byHandEntries(s)...)
	checked, err := v.fitEntries(ctx, c, s.plans, types)
	if err != nil {
		return nil, err
	}
	types = append(types, checked...)
	clocks, err := clockEntry(ctx, s)
	if err != nil {
		return nil, err
	}
	size := append(clocks, append(orderEntry(s.plans), roomEntry(s.plans))...)
	size = append(size, oneChunkEntries(c, s.plans)...)
	if try && !under {
		size = append(size, trialEntries(ctx, c, s)...)
	} else if size, err = v.lastTrial(ctx, c, s, size); err != nil {
		return nil, err
	}
	s.entries = append(append(append(from, to...), types...), size...)
	rank := map[domain.Verdict]int{domain.Blocker: 0, domain.Notice: 1, domain.OK: 2}
	slices.SortStableFunc(s.entries, func(a, b domain.Entry) int { return rank[a.Verdict] - rank[b.Verdict] })
	return s, nil
}

// abilityEntries say what of a crossing's work its databases cannot do, and whether it can be
// begun all the same.
func abilityEntries(c *domain.Crossing, src, dst *engine.Opened) (out []domain.Entry, can bool) {
	can = true
	lack := func(verdict domain.Verdict, remedy, name string, lacks []engine.Capability) {
		for _, k := range lacks {
			out = append(out, domain.Entry{Verdict: verdict, Topic: "what engines can do", Subject: name, Measured: fmt.Sprintf("%s cannot %s: its engine has no way to", name, k), Remedy: remedy})
			can = can && verdict != domain.Blocker
		}
	}
	var from, to []engine.Capability
	if c.Kind != domain.KindCapture {
		from, to = append(from, engine.CanRead), append(to, engine.CanLand)
	}
	const other = "choose another database, or a crossing that does not need it"
	if c.Kind != domain.KindLoad {
		lack(domain.Notice, "have a person's word for it that writes have stopped, before the cutover", c.Source, src.Lacks(engine.CanStop))
		from, to = append(from, engine.CanCapture), append(to, engine.CanApply)
	}
	lack(domain.Blocker, other, c.Source, src.Lacks(from...))
	lack(domain.Blocker, other, c.Target, dst.Lacks(append(to, engine.CanDefine)...))
	const unproven = "nothing but a look of your own shows then that both sides are equal"
	lack(domain.Notice, unproven, c.Source, src.Lacks(engine.CanCompare))
	lack(domain.Notice, unproven, c.Target, dst.Lacks(engine.CanCompare))
	return out, can
}

// planned plans all tables of the crossing as the source is now, and says what
// becomes of their columns.
func (v *Voyage) planned(ctx context.Context, c *domain.Crossing) (*surveyed, []domain.Entry, error) {
	s := &surveyed{}
	var err error
	if s.src, s.dst, err = v.OpenPair(ctx, c); err != nil {
		return nil, nil, err
	}
	if s.catalog, err = s.src.Catalog(ctx); err != nil {
		return nil, nil, err
	}
	draw, err := v.planner(ctx, c, s.src, s.catalog)
	if err != nil {
		return nil, nil, err
	}
	if s.plans, err = draw.plain(ctx); err != nil {
		return nil, nil, err
	}
	var types []domain.Entry
	for i := range s.plans {
		p, _, notes, err := draw.shape(ctx, s.plans[i])
		if err != nil {
			return nil, nil, err
		}
		s.plans[i] = p
		types = append(types, noteEntries(&p, notes)...)
	}
	draw.way.RemapForeignKeys(s.plans)
	types = append(types, ruleEntries(c, s.plans)...)
	types = append(types, refreshEntries(c, s.plans)...)
	if c.Kind == domain.KindCapture {
		there, err := v.Catalog(ctx, c.Target, true)
		if err != nil {
			return nil, nil, err
		}
		types = append(types, ontoRows(c, there, s.plans)...)
	}
	if c.Kind != domain.KindLoad {
		types = append(types, orderActs(s.plans)...)
	}
	return s, types, nil
}

// ruleEntries say which tables each rule is for, and what rules cannot do.
func ruleEntries(c *domain.Crossing, plans []domain.TablePlan) []domain.Entry {
	var out []domain.Entry
	for i, r := range c.Rules {
		n := 0
		for _, p := range plans {
			if r.Matches(p.Source) {
				n++
			}
		}
		e := domain.Entry{Verdict: domain.OK, Topic: "rule", Subject: fmt.Sprintf("rule %d", i+1), Measured: fmt.Sprintf("%s matches %s", r.Tables, domain.Many(int64(n), "table"))}
		if n == 0 {
			e.Verdict, e.Remedy = domain.Notice, "correct its pattern, or remove the rule"
		}
		out = append(out, e)
	}
	if c.Kind == domain.KindLoad {
		return out
	}
	for _, p := range plans {
		block := func(topic, measured, remedy string) {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: topic, Subject: p.Source.String(), Measured: measured, Remedy: remedy})
		}
		if p.Where != "" {
			block("rule", "only rows where "+p.Where+" are wanted; changes cannot be held against a condition of the source's", "make a crossing for it that does not follow changes, or take the condition away")
		}
		if p.From != "" {
			block("query", "it is a query, whose rows no log tells of", "make a crossing for it that does not follow changes, or carry the tables that it reads")
		}
		for _, k := range p.Columns {
			if k.Expression != "" {
				block("rule", "column "+k.Name+" is computed as "+k.Expression+", which the source's log does not tell", "make a crossing for it that does not follow changes, or let the target compute it")
			}
		}
	}
	return out
}

// roomEntry tells how much room the tables take.
func roomEntry(plans []domain.TablePlan) domain.Entry {
	var bytes, indexes int64
	for i := range plans {
		bytes += plans[i].Table.Bytes
		indexes += plans[i].Table.IndexBytes
	}
	return domain.Entry{Verdict: domain.OK, Topic: "room", Subject: "target", Measured: fmt.Sprintf(
		"rows take %.1f MB on the source and indexes %.1f MB; how much room is free here, its server does not tell", float64(bytes)/1e6, float64(indexes)/1e6)}
}

// orderEntry tells how rows are compared whose keys the two servers may order unlike.
func orderEntry(plans []domain.TablePlan) []domain.Entry {
	var names []string
	for i := range plans {
		p := &plans[i]
		if slices.ContainsFunc(p.KeyColumns(), func(c domain.Column) bool {
			return strings.Contains(c.BaseType, "char") || strings.Contains(c.BaseType, "text")
		}) && !keyorder.Alike(p) {
			names = append(names, p.Source.String())
		}
	}
	if len(names) == 0 {
		return nil
	}
	return []domain.Entry{{Verdict: domain.OK, Topic: "key order", Subject: "both sides", Measured: fmt.Sprintf(
		"the servers may order the text keys of %s unlike: chunks follow the source's order, and rows are compared by a hash of the key", strings.Join(names[:min(len(names), 6)], ", ")+more(len(names)-6))}}
}

func more(n int) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf(" and %d more", n)
}

// way is from the crossing's source to its target.
func (v *Voyage) way(ctx context.Context, c *domain.Crossing, cat *domain.Catalog) (typemap.Mapping, error) {
	from, err := v.Store.Database(ctx, c.Source)
	if err != nil {
		return typemap.Mapping{}, err
	}
	to, err := v.Store.Database(ctx, c.Target)
	return typemap.Mapping{From: from.Engine, To: to.Engine, Into: to.DBName, Catalog: cat}, err
}

func typeTopic(v typemap.Verdict) string { return "column type, " + string(v) }

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
		out = append(out, domain.Entry{Verdict: verdict, Topic: typeTopic(n.Verdict), Subject: p.Source.String(), Measured: text + "; " + n.Note})
	}
	if len(wider) > 0 {
		out = append(out, domain.Entry{Verdict: domain.OK, Topic: "column types, wider", Subject: p.Source.String(), Measured: strings.Join(wider, ", ")})
	}
	if p.TargetSide != nil {
		for _, l := range p.TargetSide.Table.Left {
			out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "left out", Subject: p.Source.String(), Measured: l + " is not made on the target"})
		}
	}
	return out
}

// clashes blocks tables that would land in one. A MariaDB server may take capital
// and small letters in table names for the same.
func clashes(plans []domain.TablePlan) []domain.Entry {
	var out []domain.Entry
	first := map[domain.TableName]domain.TableName{}
	for _, p := range plans {
		at := p.Target
		if p.TargetSide != nil && p.TargetSide.Engine == typemap.MariaDB {
			at.Name = strings.ToLower(at.Name)
		}
		if other, taken := first[at]; taken {
			out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: "target table", Subject: p.Source.String(), Measured: fmt.Sprintf("it and %s would both become %s", other, p.Target), Remedy: "give one of them another name by a rule, or leave it to a crossing with another target"})
			continue
		}
		first[at] = p.Source
	}
	return out
}

func (v *Voyage) sameDatabase(ctx context.Context, c *domain.Crossing) (bool, error) {
	a, err := v.Store.Database(ctx, c.Source)
	if err != nil {
		return false, err
	}
	b, err := v.Store.Database(ctx, c.Target)
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
		return nil, domain.Invalid("the source has no table that can be carried: views, foreign tables and system-versioned tables are not")
	}
	if len(tables) == 0 {
		return nil, domain.Invalid("no table of the source matches %s; 'dustyferry database show' lists the tables there are", strings.Join(patterns, ", "))
	}
	for _, p := range patterns {
		if !strings.ContainsAny(p, "*") && !strings.HasPrefix(p, "-") && !slices.ContainsFunc(names, func(n domain.TableName) bool { return n.String() == p }) {
			return nil, domain.Invalid("the source has no table %s; it may have been renamed or dropped ('dustyferry database show' lists the tables there are)", p)
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

// assumedRate is what a lane is assumed to carry before anything was measured.
const assumedRate = 40 << 20

func sizeEntry(plans []domain.TablePlan, s domain.Settings) domain.Entry {
	var bytes int64
	for _, p := range plans {
		bytes += p.Table.Bytes
	}
	took, rate := loadTime(bytes, s)
	return sizes(plans, fmt.Sprintf("at an assumed %.1f MB/s (nothing was measured yet) the load takes about %s", float64(rate)/1e6, max(took, time.Second)))
}

// sizes says how much there is to carry, and what follows from it.
func sizes(plans []domain.TablePlan, so string) domain.Entry {
	var rows, bytes int64
	for _, p := range plans {
		rows += max(0, p.Table.Rows)
		bytes += p.Table.Bytes
	}
	return domain.Entry{Verdict: domain.OK, Topic: topicSize, Subject: "crossing",
		Measured: fmt.Sprintf("%s, about %s and %.1f MB; %s", domain.Many(len(plans), "table"), domain.Many(rows, "row"), float64(bytes)/1e6, so)}
}

// longRead is for how long changes may wait for one read before a person is told of it.
const longRead = 20 * time.Second

// oneChunkEntries tell of tables that cannot be cut and take long to read: the changes of
// all tables wait for as long.
func oneChunkEntries(c *domain.Crossing, plans []domain.TablePlan) []domain.Entry {
	if c.Kind != domain.KindLoadCapture {
		return nil
	}
	set := c.Settings
	set.Lanes = 1
	var out []domain.Entry
	for i := range plans {
		p := &plans[i]
		took, rate := loadTime(p.Table.Bytes, set)
		if p.Splittable() || took < longRead {
			continue
		}
		out = append(out, domain.Entry{Verdict: domain.Notice, Topic: "one chunk", Subject: p.Source.String(),
			Measured: fmt.Sprintf("its %.1f MB cannot be cut: while they are read, about %s at %.1f MB/s, changes wait, and the source keeps the log that is written meanwhile", float64(p.Table.Bytes)/1e6, took, float64(rate)/1e6),
			Remedy:   "give it a primary key on the source, or start when little is written; it is read before tables that can be cut"})
	}
	return out
}

// loadTime reckons how long a load takes, and the rate that was assumed.
func loadTime(bytes int64, s domain.Settings) (time.Duration, int64) {
	rate := int64(assumedRate) * int64(min(s.Lanes, 4))
	if s.SpeedLimit > 0 {
		rate = min(rate, s.SpeedLimit)
	}
	return time.Duration(bytes/rate) * time.Second, rate
}

// blocking is what blocks first, with what to do about it and how many other points there
// are, or "" where nothing does; see is where all of them are listed.
func blocking(entries []domain.Entry, see string) string {
	first, others := "", 0
	for _, e := range entries {
		switch {
		case e.Verdict != domain.Blocker:
		case first != "":
			others++
		default:
			first = e.Subject + ": " + e.Measured
			if e.Remedy != "" {
				first += " (" + e.Remedy + ")"
			}
		}
	}
	if others > 0 {
		first += fmt.Sprintf("; %s more: %s", domain.Many(others, "point"), see)
	}
	return first
}

// labelEntry says when no worker has the label that the crossing asks for.
func (v *Voyage) labelEntry(ctx context.Context, c *domain.Crossing) ([]domain.Entry, error) {
	label := c.Settings.WorkerLabel
	if label == "" {
		return nil, nil
	}
	workers, err := v.Store.Workers(ctx)
	if err != nil {
		return nil, err
	}
	for _, w := range workers {
		if slices.Contains(w.Labels.V, label) && time.Since(w.SeenAt) < 10*time.Second {
			return []domain.Entry{{Verdict: domain.OK, Topic: "workers", Subject: c.Name, Measured: "a worker with the label " + label + " is at work"}}, nil
		}
	}
	return []domain.Entry{{Verdict: domain.Notice, Topic: "workers", Subject: c.Name, Measured: "no worker with the label " + label + " is at work: chunks and changes wait until there is one",
		Remedy: "dustyferry worker --label " + label}}, nil
}

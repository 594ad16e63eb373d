// Package readiness says what must hold before a cutover may start, and whether it does: the
// readiness list. It looks, and changes nothing; only tables whose rows a source wrote anew
// without a word in its log are compared, unasked.
package readiness

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/proof"
	"dustyferry/internal/core/turned"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// Records are what is known of a crossing.
type Records interface {
	View(ctx context.Context, crossing int64) (lifecycle.View, error)
	Tables(ctx context.Context, crossing int64) ([]domain.CrossingTable, error)
	// Stand is where capture stands, nil where nobody ever followed.
	Stand(ctx context.Context, crossing int64) (*domain.Stand, error)
	RejectedRows(ctx context.Context, crossing int64, table string, landed bool, offset, limit int) ([]domain.BadRow, int,
		error)
	Policy(ctx context.Context) (domain.Policy, error)
	Cutovers(ctx context.Context, crossing int64) ([]domain.Cutover, error)
	Compared(ctx context.Context, crossing int64) ([]proof.Compared, error)
	Reconciliation(ctx context.Context, crossing, id int64) (domain.Reconciliation, error)
	// Vouching is how far what changes touched is compared, and ComparedWhole which tables were
	// compared whole since that is known.
	Vouching(ctx context.Context, crossing int64) (domain.Vouching, error)
	ComparedWhole(ctx context.Context, crossing int64) (map[int64]bool, error)
	// Trust keeps that a table is as planned although its rows were written anew; false when it
	// was planned anew meanwhile.
	Trust(ctx context.Context, table int64, was, now string) (bool, error)
}

// Databases opens registered databases.
type Databases interface {
	Open(ctx context.Context, name string) (*engine.Opened, error)
	// CatalogOf returns a database's catalog that is not older than kept.
	CatalogOf(ctx context.Context, name string, kept time.Duration) (*domain.Catalog, error)
}

// Comparer begins comparisons.
type Comparer interface {
	Start(ctx context.Context, c *domain.Crossing, depth domain.Depth, patterns []string, share float64,
		actor string) (int64, error)
}

// Returns know return paths.
type Returns interface {
	// Survey says what stands in the way of one.
	Survey(ctx context.Context, c *domain.Crossing) ([]domain.Entry, error)
}

// Gateways stand between applications and the databases.
type Gateways interface {
	// Ready says whether they can be held and turned; nothing where there are none.
	Ready(ctx context.Context, c domain.Crossing, stop domain.StopMethod) ([]domain.Entry, error)
}

// Journal records what happens.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
}

// Readiness makes readiness lists.
type Readiness struct {
	records   Records
	databases Databases
	comparer  Comparer
	returns   Returns
	gateways  Gateways
	journal   Journal

	mu     sync.Mutex
	doubts map[int64]doubt // tables whose rows the source wrote anew
	ways   map[int64]way   // return paths, by crossing
}

// New returns the readiness of this process.
func New(r Records, d Databases, c Comparer, w Returns, g Gateways, j Journal) *Readiness {
	return &Readiness{records: r, databases: d, comparer: c, returns: w, gateways: g, journal: j,
		doubts: map[int64]doubt{},
		ways:   map[int64]way{}}
}

// How long each question to the source may take: a list that people look at waits for nobody
// for long; what a cutover stands on waits for a server that is busy, or has many tables.
const (
	Glances = 12 * time.Second
	Asks    = 20 * time.Second // whoever asks for a cutover waits for the answer
	Decides = time.Minute
)

// List is the readiness list: what must hold before a cutover may start, each entry with
// what was measured, or that it could not be within the patience.
func (r *Readiness) List(ctx context.Context, c *domain.Crossing, set domain.Settings,
	patience time.Duration) ([]domain.Entry, error) {
	l := list{of: c}
	view, err := r.records.View(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	l.state(view)
	rejected, left, err := r.records.RejectedRows(ctx, c.ID, "", false, 0, 1)
	if err != nil {
		return nil, err
	}
	if left > 0 {
		l.add(false, domain.Notice, "rejected rows", "correct the rows on the source, or the target's table, and repair "+
			"what a comparison finds: dustyferry crossing rejected "+c.Name,
			"%s set aside, as the target could not take them (first: %s, %s)", domain.Counted(left, "row was", "rows were"),
			rejected[0].TableName, rejected[0])
	}
	st, err := r.records.Stand(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	tables, err := r.records.Tables(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if st != nil {
		l.out = append(l.out, ProvedInside(r.noticed(ctx, c, st, tables, set.CutoverDepth, patience), set.CutoverDepth)...)
	}
	l.capture(st, set.InStepLag.Seconds())
	l.out = append(l.out, r.Unended(ctx, c, planning.PlansOf(tables), patience)...)
	l.out = append(l.out, r.bound(ctx, c, set.StopMethod, patience)...)
	policy, err := r.records.Policy(ctx)
	if err != nil {
		return nil, err
	}
	verdict, why := wanted(policy, domain.CheckCompare)
	compared, err := r.Compared(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if set.CutoverDepth == domain.DepthVouched {
		if err := r.vouching(ctx, &l, tables); err != nil {
			return nil, err
		}
	}
	names := make([]string, len(tables))
	for i := range tables {
		names[i] = tables[i].SourceName
	}
	l.out = append(l.out, proof.Of(c.Name, names, compared, verdict, why))
	if set.ReturnPath == domain.ReturnOpen {
		l.returns(r.wayBack(ctx, c, patience))
	}
	gates, err := r.gateways.Ready(ctx, *c, set.StopMethod)
	if err != nil {
		return nil, err
	}
	l.out = append(l.out, gates...)
	cuts, err := r.records.Cutovers(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	verdict, why = wanted(policy, domain.CheckRehearsal)
	l.rehearsal(cuts, set, verdict, why)
	return l.out, nil
}

// list is a readiness list that is being written.
type list struct {
	of  *domain.Crossing
	out []domain.Entry
}

// add writes a line: that it is well, or what is otherwise, with what to do.
func (l *list) add(ok bool, otherwise domain.Verdict, topic, remedy, format string, args ...any) {
	e := domain.Entry{Verdict: otherwise, Topic: topic, Subject: l.of.Name, Measured: fmt.Sprintf(format, args...),
		Remedy: remedy}
	if ok {
		e.Verdict, e.Remedy = domain.OK, ""
	}
	l.out = append(l.out, e)
}

// state says how far the crossing is.
func (l *list) state(view lifecycle.View) {
	c := l.of
	l.add((view.Chunks > 0 || c.Kind == domain.KindCapture) && view.Landed == view.Chunks, domain.Blocker, "load",
		"wait until every chunk has landed", "%d of %d chunks have landed", view.Landed, view.Chunks)
	l.add(c.Built, domain.Blocker, "deferred objects", "wait until they are built",
		"indexes and constraints on the target: %s", yesNo(c.Built, "built", "not built yet"))
	l.add(c.Phase == domain.PhaseInStep, domain.Blocker, "phase", "wait until the crossing is in step",
		"the crossing is %s",
		c.Phase)
	reason := c.Reason
	if reason != "" {
		reason = ": " + reason
	}
	l.add(c.Condition == domain.ConditionRunning, domain.Blocker, "condition", "resume the crossing",
		"the crossing is %s%s",
		c.Condition, reason)
}

// capture says whether changes are followed, and how far behind.
func (l *list) capture(st *domain.Stand, limit float64) {
	live := st != nil && st.Live
	l.add(live, domain.Blocker, "capture", "see why capture does not run: dustyferry journal --crossing "+l.of.Name,
		"capture %s", yesNo(live, "runs", "does not run"))
	if st != nil {
		l.add(st.Lag.Seconds() <= limit, domain.Blocker, "lag", "wait until capture has caught up",
			"the lag is %.1f s, the threshold %.1f s", st.Lag.Seconds(), limit)
	}
}

// vouching says what a cutover that compares what was touched compares inside the pause.
func (r *Readiness) vouching(ctx context.Context, l *list, tables []domain.CrossingTable) error {
	v, err := r.records.Vouching(ctx, l.of.ID)
	if err != nil {
		return err
	}
	whole, err := r.records.ComparedWhole(ctx, l.of.ID)
	if err != nil {
		return err
	}
	missing := 0
	for i := range tables {
		if !whole[tables[i].ID] {
			missing++
		}
	}
	const remedy = "compare all before: dustyferry reconcile "
	switch {
	case v.From.IsZero():
		l.add(false, domain.Notice, topicVouching, "set vouch_every when a crossing is created",
			"it is not kept which rows changes touch, so all rows are "+
				"compared inside the pause")
	case missing > 0:
		l.add(false, domain.Notice, topicVouching, remedy+l.of.Name, "%d of %s not compared whole since it is known what "+
			"changes touch, and will be inside the pause", missing, domain.Counted(len(tables), "table was", "tables were"))
	default:
		l.add(true, domain.Notice, topicVouching, "",
			"every table was compared whole; inside the pause it is only compared what "+
				"changes have touched since the last round%s",
			map[bool]string{false: ", and how many rows there are"}[l.of.Settings.
				GuardTarget == domain.GuardRefuse])
	}
	return nil
}

// wayBack is what stands in the way of the crossing's return path; for somebody who only looks, as it
// was found lately.
func (r *Readiness) wayBack(ctx context.Context, c *domain.Crossing, patience time.Duration) ([]domain.Entry, error) {
	r.mu.Lock()
	was := r.ways[c.ID]
	r.mu.Unlock()
	if patience <= Glances && time.Since(was.at) < lately {
		return was.found, nil
	}
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	found, err := r.returns.Survey(ctx, c)
	if err == nil {
		r.mu.Lock()
		r.ways[c.ID] = way{time.Now(), found}
		r.mu.Unlock()
	}
	return found, err
}

// lately is how old a survey of a return path may be for somebody who only looks.
const lately = 30 * time.Second

// way is what was found of a return path, and when.
type way struct {
	at    time.Time
	found []domain.Entry
}

// returns says whether the return path can be made that the cutover is to open.
func (l *list) returns(found []domain.Entry, err error) {
	switch {
	case err != nil:
		l.add(false, domain.Blocker, turned.Topic, "see to both databases, or do without (return_path: none)",
			"whether a return path can be made is not known: %s", err)
	case len(found) == 0:
		l.add(true, domain.Blocker, turned.Topic, "", "what is written to %s after the cutover can be brought back to %s",
			l.of.Target, l.of.Source)
	}
	l.out = append(l.out, found...)
}

// topicVouching is of what is known of rows that changes touched.
const topicVouching = "vouching"

// rehearsal holds the newest rehearsal's write pause against the budget.
func (l *list) rehearsal(cuts []domain.Cutover, set domain.Settings, verdict domain.Verdict, why string) {
	for _, k := range cuts {
		if k.Rehearsal && k.State == domain.CutoverDone && k.PausedAt != nil && k.ReleasedAt != nil {
			pause := k.ReleasedAt.Sub(*k.PausedAt)
			l.add(pause <= set.PauseBudget, verdict, topicPause, "raise the pause budget, or reconcile less inside the pause",
				"the last rehearsal paused writes for %s; the budget is %s", pause.Round(time.Millisecond), set.PauseBudget)
			return
		}
	}
	l.add(false, verdict, topicPause, "dustyferry cutover rehearse "+l.of.Name,
		"the cutover has not been rehearsed, so its write pause is not known%s", why)
}

// wanted is how grave it is that a check was not made, and why.
func wanted(policy domain.Policy, check domain.Check) (domain.Verdict, string) {
	if policy.Requires(check) {
		return domain.Blocker, "; this service's policy wants a " + string(check) + " first"
	}
	return domain.Notice, ""
}

// ProvedInside takes what a cutover by hashes finds by itself for no reason against it.
func ProvedInside(list []domain.Entry, depth domain.Depth) []domain.Entry {
	for i := range list {
		if list[i].Topic == planning.TopicRewritten && depth == domain.DepthHashes {
			list[i].Verdict = domain.Notice
		}
	}
	return list
}

// noticed is what the source's catalog says of the tables now, or where it cannot be asked
// what it said last.
func (r *Readiness) noticed(ctx context.Context, c *domain.Crossing, st *domain.Stand, tables []domain.CrossingTable,
	depth domain.Depth, patience time.Duration) []domain.Entry {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	cat, err := r.databases.CatalogOf(ctx, c.Source, 3*time.Second)
	if err != nil {
		return append(st.Noticed, domain.Entry{Verdict: domain.Blocker, Topic: "tables", Subject: c.Source,
			Measured: "the source cannot be asked whether its tables are as they were: " + err.Error(),
			Remedy:   "see to the source: dustyferry database check " + c.Source})
	}
	if depth != domain.DepthHashes { // which would prove it inside the pause
		r.Prove(ctx, c, cat, tables)
	}
	return planning.CheckTables(c, cat, tables)
}

// Unended says which two-phase transactions could still be committed on the source when its
// writes have been stopped: they need no session, and some no lock.
func (r *Readiness) Unended(ctx context.Context, c *domain.Crossing, plans []domain.TablePlan,
	patience time.Duration) []domain.Entry {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	src, err := r.databases.Open(ctx, c.Source)
	var list []string
	if err == nil && src.Captures != nil {
		list, err = src.PreparedTransactions(ctx, plans)
	}
	e := domain.Entry{Verdict: domain.OK, Topic: "two-phase transactions", Subject: c.Source,
		Measured: "none is prepared on the source and waits for its end"}
	switch {
	case err != nil:
		e.Verdict, e.Measured, e.Remedy = domain.Blocker, "the source cannot be asked for prepared transactions: "+
			err.Error(), "see to the source: dustyferry database check "+c.Source
	case len(list) > 0:
		e.Verdict, e.Measured = domain.Blocker, fmt.Sprintf("%s prepared on the source and could still be committed when "+
			"its writes have stopped", domain.Counted(len(list), "transaction is", "transactions are"))
		e.Remedy = "let them end, or end them by hand, with ROLLBACK in the place of COMMIT where that is right: " +
			strings.Join(list[:min(len(list), 5)], "; ") + domain.More(len(list)-5)
	}
	return []domain.Entry{e}
}

// bound says what stopping the source's writes keeps the target from, where one server has both.
func (r *Readiness) bound(ctx context.Context, c *domain.Crossing, method domain.StopMethod,
	patience time.Duration) []domain.Entry {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	var found []domain.Entry
	src, err := r.databases.Open(ctx, c.Source)
	if err != nil || src.Binds == nil {
		return nil // a source that is away is told of by what else it is asked
	}
	dst, err := r.databases.Open(ctx, c.Target)
	if err == nil {
		found, err = src.BindsTarget(ctx, method, dst.Database)
	}
	if err != nil {
		return []domain.Entry{{Verdict: domain.Blocker, Topic: "stopping writes", Subject: c.Target,
			Measured: "whether changes can be applied while writes are stopped is not known: " + err.Error(),
			Remedy:   "see to the target: dustyferry database check " + c.Target}}
	}
	return found
}

// ForRehearsal is a readiness list for a rehearsal, which needs none before it.
func ForRehearsal(list []domain.Entry, rehearsal bool) []domain.Entry {
	for i := range list {
		if rehearsal && list[i].Topic == topicPause && list[i].Verdict == domain.Blocker {
			list[i].Verdict = domain.Notice
		}
	}
	return list
}

// topicPause is of what is known of the write pause.
const topicPause = "write pause"

// Compared is, by table, what the comparison that counts says of it.
func (r *Readiness) Compared(ctx context.Context, crossing int64) (map[string]proof.Compared, error) {
	list, err := r.records.Compared(ctx, crossing)
	if err != nil {
		return nil, err
	}
	byTable := map[string][]proof.Compared{}
	for _, t := range list {
		byTable[t.Table] = append(byTable[t.Table], t)
	}
	out := map[string]proof.Compared{}
	for name, all := range byTable {
		if best, ok := proof.Best(all); ok {
			out[name] = best
		}
	}
	return out, nil
}

func yesNo(b bool, yes, no string) string {
	if b {
		return yes
	}
	return no
}

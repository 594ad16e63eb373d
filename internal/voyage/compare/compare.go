package compare

import (
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/core/narrow"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

// Args are a reconcile task's arguments.
type Args struct {
	Reconciliation int64   `json:"reconciliation"`
	Share          float64 `json:"share,omitempty"` // of the time for which both sides are read; 0: all of it
}

// maxFindings is how many findings of one table are kept with their rows; what
// is beyond is counted.
const maxFindings = 10_000

// Start adds a reconciliation of the tables the patterns choose, which reads for a share of the time; 0
// is all of it.
func (k *Comparer) Start(ctx context.Context, c *domain.Crossing, depth domain.Depth, patterns []string, share float64,
	actor string) (int64, error) {
	if err := lifecycle.AllowOn(lifecycle.Reconcile, c); err != nil {
		return 0, err
	}
	if depth != domain.DepthCounts && depth != domain.DepthHashes {
		return 0, domain.Invalid("depth is %q; choose counts or hashes", depth)
	}
	if share < 0 || share > 1 {
		return 0, domain.Invalid("share is %g; give the part of the time for which both sides are read, above 0 and at "+
			"most 1", share)
	}
	if c.ReturnBy != "" && c.Phase == domain.PhaseCutOver {
		return 0, domain.Conflict("%s was cut over, and both sides are at one position only for its return path: "+
			"dustyferry reconcile %s", c.Name, c.ReturnBy)
	}
	if c.Condition == domain.ConditionPaused && c.Kind != domain.KindLoad && !c.KeepCapture {
		return 0, domain.Conflict("crossing %s is paused, and both sides can only be compared while capture runs; "+
			"resume it first", c.Name)
	}
	id, err := k.tasks.AddReconciliation(ctx, c, depth, patterns, share, actor)
	if err == nil {
		k.journal.Recordf(ctx, "info", actor, c.Name, "", "reconcile", "%s started reconciliation %d (%s)", actor, id, depth)
	}
	return id, err
}

// Run compares source and target at one shared position and keeps what it
// finds.
func (k *Comparer) Run(ctx context.Context, c *domain.Crossing, id int64, quiet bool, note func(string)) error {
	return k.RunAt(ctx, c, Args{Reconciliation: id}, quiet, note)
}

// RunAt does so at the pace that the arguments say. A table that a process before had done is not read
// again.
func (k *Comparer) RunAt(ctx context.Context, c *domain.Crossing, a Args, quiet bool, note func(string)) error {
	id := a.Reconciliation
	r, err := k.records.Reconciliation(ctx, c.ID, id)
	if err != nil {
		return err
	}
	findings, err := k.compare(ctx, c, &r, quiet, a.Share, note)
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	if err != nil {
		if ctx.Err() == nil {
			_ = k.records.EndReconciliation(end, id, domain.ComparisonFailed, err.Error())
		}
		return err
	}
	state, severity := domain.ComparisonClean, "info"
	if findings > 0 {
		state, severity = domain.ComparisonDiffering, "warning"
		k.journal.Notify(ctx, c, journal.EventDiffers, "a comparison found rows that differ; 'dustyferry findings "+c.Name+
			"' lists them")
	}
	k.journal.Recordf(end, severity, journal.System, c.Name, "", "reconcile", "reconciliation %d (%s) ended: %s", id,
		r.Depth,
		domain.Many(findings, "finding"))
	return k.records.EndReconciliation(end, id, state, "")
}

func (k *Comparer) compare(ctx context.Context, c *domain.Crossing, r *domain.Reconciliation, quiet bool,
	share float64, note func(string)) (int64, error) {
	tables, err := k.records.Tables(ctx, c.ID)
	if err != nil {
		return 0, err
	}
	if len(r.Patterns) > 0 {
		var names []domain.TableName
		for _, t := range tables {
			names = append(names, t.Plan.Source)
		}
		chosen := domain.MatchTables(r.Patterns, names)
		tables = slices.DeleteFunc(tables, func(t domain.CrossingTable) bool {
			return !slices.Contains(chosen, t.Plan.Source)
		})
		if len(tables) == 0 {
			return 0, domain.Invalid("no table of crossing %s matches %v", c.Name, r.Patterns)
		}
	}
	var ids []int64
	for _, t := range tables {
		ids = append(ids, t.ID)
	}
	var total int64
	beside := share > 0 && share < 1 && !quiet
	for {
		if beside {
			if err := k.awaitLoud(ctx, c, note); err != nil {
				return 0, err
			}
		}
		total, err = k.compareTables(ctx, c, r, quiet, share, note, tables, ids)
		if !errors.Is(err, errQuiet) {
			return total, err
		}
	}
}

// errQuiet ends a look at both sides as quiet hours have begun.
var errQuiet = errors.New("quiet hours have begun")

// awaitLoud waits until no quiet hours of the crossing are, as they are set by then.
func (k *Comparer) awaitLoud(ctx context.Context, c *domain.Crossing, note func(string)) error {
	for c.Settings.Quiet(time.Now()) {
		if note != nil {
			note("rests in the crossing's quiet hours (setting quiet_hours)")
		}
		if !waits.Sleep(ctx, 5*time.Second) {
			return ctx.Err()
		}
		now, err := k.records.CrossingByID(ctx, c.ID)
		if err != nil {
			return err
		}
		c.Settings = now.Settings
	}
	return nil
}

// compareTables brings both sides to one position and compares tables there, all that are not done yet. One
// that takes a share of the time begins no table in quiet hours, but for the first: it ends with errQuiet,
// since a view that rests for hours would keep servers from cleaning up.
func (k *Comparer) compareTables(ctx context.Context, c *domain.Crossing, r *domain.Reconciliation, quiet bool,
	share float64, note func(string), tables []domain.CrossingTable, ids []int64) (total int64, _ error) {
	err := k.align(ctx, c, alignment{quiet: quiet, sake: fmt.Sprintf("reconciliation %d", r.ID), note: note},
		func(a *aligned) error {
			done, err := k.records.BeginReconciliation(ctx, r.ID, a.at, ids)
			if err != nil {
				return err
			}
			begun := false
			if r.Depth == domain.DepthVouched {
				total, err = k.compareVouched(ctx, c, a, r, tables)
				return err
			}
			for i := range tables {
				if n, is := done[tables[i].ID]; is { // by a process before this one
					total += n
					continue
				}
				if begun && share > 0 && share < 1 && c.Settings.Quiet(time.Now()) {
					return errQuiet
				}
				begun = true
				n, err := k.compareTable(ctx, a, r, &tables[i], share)
				if err != nil {
					return fmt.Errorf("comparing %s: %w", tables[i].SourceName, err)
				}
				total += n
			}
			return nil
		})
	return total, err
}

// partOf says how a table is cut for comparing: along its chunks where both
// servers surely order keys alike, else by a hash of the key.
func (k *Comparer) partOf(ctx context.Context, a *aligned, t *domain.CrossingTable) (engine.Part, error) {
	p := &t.Plan
	_, from := a.source.(engine.Unordered)
	_, to := a.target.(engine.Unordered)
	if !keyorder.Alike(p) || p.ReadByDisk() || from || to { // whose chunks are no ranges of keys
		n := min(max(t.EstRows/20_000, 16), 4096)
		return engine.Part{Buckets: int(n)}, nil
	}
	chunks, err := k.records.Chunks(ctx, t.ID)
	if err != nil {
		return engine.Part{}, err
	}
	bounds := []domain.KeyValue{}
	for _, c := range chunks {
		if c.Ordinal > 0 {
			bounds = append(bounds, c.Lower)
		}
	}
	return engine.Part{Bounds: bounds}, nil
}

// both runs f for the two sides at once and returns the first error.
func both(f func(side int) error) error {
	var errs [2]error
	var wg sync.WaitGroup
	for side := range errs {
		wg.Go(func() { errs[side] = domain.Guarded("comparing", func() error { return f(side) }) })
	}
	wg.Wait()
	if errs[0] != nil && errs[1] != nil && errs[0].Error() != errs[1].Error() {
		return fmt.Errorf("%w; and on the other side: %w", errs[0], errs[1])
	}
	return cmp.Or(errs[0], errs[1])
}

func (k *Comparer) compareTable(ctx context.Context, a *aligned, r *domain.Reconciliation,
	t *domain.CrossingTable, share float64) (int64, error) {
	began := time.Now()
	res := domain.ReconciledTable{ReconciliationID: r.ID, TableID: t.ID, State: "running"}
	if err := k.records.SaveReconciledTable(ctx, res); err != nil {
		return 0, err
	}
	found, err := k.look(ctx, a, &res, r.Depth, t, share)
	if err == nil && res.Findings > 0 && a.anew != nil {
		found, err = k.secondLook(ctx, a, &res, r.Depth, t, share, found)
	}
	if err != nil {
		return 0, err
	}
	if len(found) > 0 {
		if err := k.records.AddFindings(ctx, r.ID, t.ID, found[:min(len(found), maxFindings)]); err != nil {
			return 0, err
		}
	}
	res.State, res.Seconds = "done", time.Since(began).Seconds()
	return res.Findings, k.records.SaveReconciledTable(ctx, res)
}

// look compares a table in the views, and says in the result what came of it.
func (k *Comparer) look(ctx context.Context, a *aligned, res *domain.ReconciledTable, depth domain.Depth,
	t *domain.CrossingTable, share float64) (found []domain.Finding, err error) {
	defer func() { err = a.releaseLocks(ctx, err) }()
	views, plans := a.sides(t)
	if depth == domain.DepthCounts {
		var n [2]int64
		err := both(func(i int) (err error) { n[i], err = views[i].Count(ctx, plans[i]); return err })
		res.SourceRows, res.TargetRows, res.Findings = n[0], n[1], max(n[0]-n[1], n[1]-n[0])
		return nil, err
	}
	part, err := k.partOf(ctx, a, t)
	if err != nil {
		return nil, err
	}
	var read [2]atomic.Int64
	tell, quiet := context.WithCancel(ctx)
	var telling sync.WaitGroup
	telling.Go(func() {
		waits.Every(tell, time.Second, func() {
			_ = k.records.ReconcileProgress(tell, res.ReconciliationID, t.ID, read[0].Load(), read[1].Load())
		})
	})
	s, found, err := k.hashed(ctx, a, &table{views: views, plans: plans, part: part, share: share, rows: t.EstRows,
		read: [2]func(int64){paced(ctx, share, &read[0]), paced(ctx, share, &read[1])}})
	quiet()
	telling.Wait()
	if err != nil {
		return nil, err
	}
	res.Parts, res.DifferingParts = s.parts, len(s.differing)
	res.SourceRows, res.TargetRows = s.total[0].Rows, s.total[1].Rows
	res.SourceHash, res.TargetHash = fmt.Sprintf("%016x", s.total[0].Hash), fmt.Sprintf("%016x", s.total[1].Hash)
	res.Findings = int64(len(found))
	return found, nil
}

// secondLook compares at another position what seemed to differ, as a round of vouching does: a table that
// is emptied after a view was opened is empty in the view too. Rows that differ again are
// findings; where none does, or there are too many to be looked at one by one, all of the table is compared
// again. What the first look found stands where both sides cannot be brought to a position any more.
func (k *Comparer) secondLook(ctx context.Context, a *aligned, res *domain.ReconciledTable, depth domain.Depth,
	t *domain.CrossingTable, share float64, found []domain.Finding) ([]domain.Finding, error) {
	second, again := *res, found
	err := a.anew(func(now *aligned) (err error) {
		if len(found) > 0 && len(found) <= maxFindings && len(t.Plan.Key) > 0 {
			keys := make([]string, len(found))
			for i, f := range found {
				keys[i] = narrow.JoinKey(f.Key)
			}
			if again, err = k.compareKeys(ctx, now, t, keys, share); err != nil || len(again) > 0 {
				second.Findings = int64(len(again))
				return err
			}
		}
		again, err = k.look(ctx, now, &second, depth, t, share)
		return err
	})
	switch {
	case err == nil:
		*res = second
		return again, nil
	case ctx.Err() != nil:
		return nil, err
	}
	return found, nil
}

// longestRest is for how long nothing is read at most: a server that waits to give more rows ends the
// session after a while.
const longestRest = 10 * time.Second

// paced counts rows that were read, and rests for as long as the share of the time wants.
func paced(ctx context.Context, share float64, read *atomic.Int64) func(int64) {
	last := time.Now()
	return func(n int64) {
		read.Add(n)
		if share <= 0 || share >= 1 {
			return
		}
		took := time.Since(last)
		waits.Sleep(ctx, min(time.Duration(float64(took)*(1/share-1)), longestRest))
		last = time.Now()
	}
}

// summed is what the sums of a table's parts say.
type summed struct {
	parts     int
	differing []int
	total     [2]rowhash.Sum
}

// sums reads every row of both sides once.
func (k *Comparer) sums(ctx context.Context, views [2]engine.View, plans [2]*domain.TablePlan, part engine.Part,
	progress [2]func(int64)) (out summed, _ error) {
	var sums [2][]rowhash.Sum
	err := both(func(i int) (err error) {
		sums[i], err = views[i].Sums(ctx, plans[i], part, progress[i])
		return err
	})
	if err != nil {
		return out, err
	}
	for i := range sums {
		for _, s := range sums[i] {
			out.total[i].Merge(s)
		}
	}
	out.parts, out.differing = len(sums[0]), narrow.Parts(sums[0], sums[1])
	return out, nil
}

// differences are what rows of differing parts come to; that none of them differs is an error.
func (k *Comparer) differences(ctx context.Context, views [2]engine.View, plans [2]*domain.TablePlan, part engine.Part,
	differing []int) ([]domain.Finding, error) {
	found, err := k.narrowDown(ctx, views, plans, part, differing)
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("%d parts of %s differ by their sums, but no row of them does when rows are compared one by "+
			"one: the two sides' forms of a value are not alike, and whether the tables are equal is not known; please "+
			"report this", len(differing), plans[0].Source)
	}
	return found, err
}

// narrowDown pairs the rows of differing parts, fetches those that stay
// unpaired and compares them column by column. Only what differs there is a
// finding.
func (k *Comparer) narrowDown(ctx context.Context, views [2]engine.View, plans [2]*domain.TablePlan, part engine.Part,
	differing []int) ([]domain.Finding, error) {
	pairs := narrow.NewPairs()
	give := [2]func([]byte, uint64){pairs.Source, pairs.Target}
	for i := range views { // one after the other: the pairing is not for two at once
		if err := views[i].Rows(ctx, plans[i], part, differing, give[i]); err != nil {
			return nil, err
		}
	}
	cands := pairs.Candidates()
	keys := make([]string, len(cands))
	for i, c := range cands {
		keys[i] = c.Key
	}
	var out []domain.Finding
	err := fetch(ctx, views, plans, part, keys, func(from int, piece []string, rows [2]map[string][]domain.Row,
		_ time.Duration) error {
		for _, c := range cands[from : from+len(piece)] {
			if f, ok := confirm(plans[0], c, rows[0][c.Key], rows[1][c.Key]); ok {
				out = append(out, f)
			}
		}
		return nil
	})
	return out, err
}

// confirm makes a finding of a candidate by comparing the fetched rows.
func confirm(p *domain.TablePlan, c narrow.Candidate, source, target []domain.Row) (domain.Finding, bool) {
	f := domain.Finding{Kind: c.Kind, Key: narrow.SplitKey(c.Key, len(p.Key))}
	cols := p.ComparedColumns()
	if len(p.Key) > 0 && len(source) > 0 && len(target) > 0 && alike(cols, source[0], target[0]) {
		return f, false
	}
	names := make([]string, len(cols))
	for i, col := range cols {
		names[i] = col.Name
	}
	if len(p.Key) == 0 {
		f.Place = hex.EncodeToString([]byte(c.Key))
		f.Copies = max(len(source)-len(target), len(target)-len(source))
		if f.Copies == 0 {
			return f, false
		}
	}
	if len(source) > 0 {
		f.Source = textOf(names, source[0])
	}
	if len(target) > 0 {
		f.Target = textOf(names, target[0])
	}
	switch {
	case len(source) == 0 && len(target) == 0:
		return f, false
	case len(source) == 0:
		f.Kind = domain.ExtraOnTarget
	case len(target) == 0:
		f.Kind = domain.MissingOnTarget
	case len(p.Key) > 0:
		f.Kind = domain.Differing
		f.Columns = narrow.Columns(names, f.Source, f.Target)
		return f, len(f.Columns) > 0
	}
	return f, true
}

// alike reports whether two rows are, in columns that are compared.
func alike(cols []domain.Column, a, b domain.Row) bool {
	for i := range cols {
		if (a[i].Kind == domain.Present) != (b[i].Kind == domain.Present) || !bytes.Equal(a[i].Data, b[i].Data) {
			return false
		}
	}
	return true
}

func textOf(names []string, r domain.Row) map[string]*string {
	out := map[string]*string{}
	for i, n := range names {
		if r[i].Kind == domain.Present {
			s := string(r[i].Data)
			out[n] = &s
		} else {
			out[n] = nil
		}
	}
	return out
}

package compare

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"dustyferry/internal/core/narrow"
	"dustyferry/internal/core/touched"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

// What a comparison of everything costs grows with the size of the database; what can have gone
// wrong since the last one is in the rows that changes have touched since. The target keeps their
// keys, each in the transaction of its change (following), and a round of vouching compares exactly
// these rows on both sides at one shared position, and forgets them. A comparison of everything at a
// place, and rounds for all that came after it, are a comparison of everything.

const (
	// touchedAtOnce is how many of a target's notes of touched rows are read at once, and keysAtOnce
	// how many of their rows are compared then, about.
	touchedAtOnce = 100
	keysAtOnce    = 100_000
	// smallTable is up to how many rows a table is compared whole while the crossing goes on, where
	// it is not known which of its rows were touched. Others wait for the cutover.
	smallTable = 200_000
	// roundLimit is how long the source may take to give a snapshot for a round, while the applier
	// stands still; a writing transaction that is open for longer puts the round off.
	roundLimit = 2 * time.Second
)

// Vouch compares the rows that changes have touched since the last round. Share is for how much of the
// time it may ask the servers for rows.
func (k *Comparer) Vouch(ctx context.Context, c *domain.Crossing, share float64,
	note func(string)) (domain.Vouched, error) {
	_, dst, err := k.databases.OpenPair(ctx, c)
	if err != nil || dst.Vouches == nil {
		return domain.Vouched{}, err
	}
	if some, err := dst.Touched(ctx, c.UID, domain.FarAway, 0, 1); err != nil || len(some) == 0 {
		return domain.Vouched{}, err // nothing to align both sides for
	}
	tables, err := k.records.Tables(ctx, c.ID)
	if err != nil {
		return domain.Vouched{}, err
	}
	t := newTouch(k, c, dst, tables)
	t.most, t.share, t.keeps = smallTable, share, true
	how := alignment{sake: "vouching", note: note, limit: roundLimit}
	var at domain.Position
	err = k.align(ctx, c, how, func(a *aligned) error {
		at = a.at
		if err := t.all(ctx, a); err != nil || len(t.suspects) > 0 {
			return err
		}
		return t.keep(ctx, a.at)
	})
	if err == nil && len(t.suspects) > 0 {
		err = k.align(ctx, c, how, func(a *aligned) error { return t.lookAgain(ctx, a, at) })
	}
	if t.findings > 0 {
		k.journal.Recordf(ctx, "warning", journal.System, c.Name, "", "reconcile", "vouching found %s among the rows that "+
			"changes touched (reconciliation %d)", domain.Many(t.findings, "difference"), t.kept)
		k.journal.Notify(ctx, c, journal.EventDiffers, "rows that changes touched differ; 'dustyferry findings "+c.Name+
			"' lists them")
	}
	return domain.Vouched{Rows: t.rows, Findings: t.findings, Left: t.left}, err
}

// keep keeps what was compared since the last time, and then has the target forget it: a round whose
// process dies, or whose time is over, is gone on with by the next.
func (t *touch) keep(ctx context.Context, at domain.Position) error {
	if t.left > 0 || t.over {
		at = domain.Position{} // not all that was touched is compared
	}
	n := int64(0)
	for _, list := range t.found {
		n += int64(len(list))
	}
	id, err := t.of.records.KeepVouched(ctx, t.c.ID, at, t.rows-t.before, t.found)
	if err != nil {
		return err
	}
	if n > 0 {
		t.findings, t.kept = t.findings+n, id
	}
	if !t.over { // what could not be kept of them is found again by the next round
		if err := t.dst.ForgetTouched(ctx, t.c.UID, t.done); err != nil {
			return err
		}
	}
	t.before, t.done, t.over = t.rows, nil, false
	clear(t.found)
	return nil
}

// lookAgain compares once more, at another position, what seemed to differ: a table that is emptied
// after a view was opened is empty in the view too, as that is no row's change. What differs
// again is a finding. at is up to where all was compared.
func (t *touch) lookAgain(ctx context.Context, a *aligned, at domain.Position) error {
	for of, keys := range t.suspects {
		var found []domain.Finding
		var err error
		if keys == nil {
			found, _, err = t.of.wholeTable(ctx, a, of)
		} else {
			found, err = t.of.compareKeys(ctx, a, of, slices.Collect(maps.Keys(keys)), t.share)
		}
		if err != nil {
			return fmt.Errorf("vouching for %s: %w", of.SourceName, err)
		}
		t.add(of, found, 0) // they were counted when they were first compared
	}
	t.done, t.over = append(t.done, t.held...), t.over || t.heldOver
	return t.keep(ctx, at)
}

// suspect holds what was compared since the last time, for a second look at what seemed to differ.
func (t *touch) suspect() {
	for id, list := range t.found {
		for _, of := range t.tables {
			if of.ID != id {
				continue
			}
			if len(of.Plan.Key) == 0 || t.whole[of] != nil {
				t.suspects[of] = nil
				continue
			}
			if keys, known := t.suspects[of]; !known || keys != nil {
				if keys == nil {
					keys = map[string]bool{}
				}
				for _, f := range list {
					keys[narrow.JoinKey(f.Key)] = true
				}
				t.suspects[of] = keys
			}
		}
	}
	t.heldOver = t.heldOver || t.over
	t.held, t.done, t.over = append(t.held, t.done...), nil, false
	clear(t.found)
}

// touch is one pass over what a target notes of touched rows.
type touch struct {
	of     *Comparer
	c      *domain.Crossing
	dst    *engine.Opened
	tables map[string]*domain.CrossingTable // by their names on the target
	most   int64                            // rows of a table that is compared whole

	keys  map[*domain.CrossingTable]map[string]bool
	whole map[*domain.CrossingTable][]int64 // notes that any of its rows may have been touched
	n     int
	wait  []int64 // notes whose rows are not compared yet

	done  []int64 // notes whose rows are
	left  int
	rows  int64
	found map[int64][]domain.Finding
	over  bool // there are more of them than are kept

	share    float64                                   // of the time for which rows are fetched; 0: all of it
	keeps    bool                                      // what is compared is kept as it goes
	before   int64                                     // rows that are kept
	findings int64                                     // that are
	kept     int64                                     // the comparison with which
	suspects map[*domain.CrossingTable]map[string]bool // what seemed to differ; nil: any row of the table
	held     []int64                                   // notes of which something did
	heldOver bool                                      // more seemed to differ than is kept

	compared map[int64]int64 // rows, by table
}

func newTouch(k *Comparer, c *domain.Crossing, dst *engine.Opened, tables []domain.CrossingTable) *touch {
	t := &touch{of: k, c: c, dst: dst, tables: map[string]*domain.CrossingTable{}, found: map[int64][]domain.Finding{},
		compared: map[int64]int64{}, suspects: map[*domain.CrossingTable]map[string]bool{},
		keys: map[*domain.CrossingTable]map[string]bool{}, whole: map[*domain.CrossingTable][]int64{}}
	for i := range tables {
		t.tables[tables[i].TargetName] = &tables[i]
	}
	return t
}

// each reads the target's notes up to a place, and calls full when many keys were read and at the end.
func (t *touch) each(ctx context.Context, to domain.Position, full func() error) error {
	behind := int64(0)
	for {
		list, err := t.dst.Touched(ctx, t.c.UID, to, behind, touchedAtOnce)
		if err != nil {
			return err
		}
		for i := range list {
			if err := t.take(&list[i]); err != nil {
				return err
			}
			behind = list[i].ID
			if t.n >= keysAtOnce {
				if err := full(); err != nil {
					return err
				}
			}
		}
		if len(list) < touchedAtOnce {
			return full()
		}
	}
}

func (t *touch) take(k *engine.Touched) error {
	of := t.tables[k.Target]
	switch {
	case of == nil: // left out since
		t.done = append(t.done, k.ID)
		return nil
	case k.Rows == 0:
		t.whole[of] = append(t.whole[of], k.ID)
		return nil
	case t.keys[of] == nil:
		t.keys[of] = map[string]bool{}
	}
	t.wait = append(t.wait, k.ID)
	before := len(t.keys[of])
	err := touched.Unpack(k.Keys, len(of.Plan.Key), func(key string) { t.keys[of][key] = true })
	t.n += len(t.keys[of]) - before
	if err != nil {
		return fmt.Errorf("%s: %w", of.SourceName, err)
	}
	return nil
}

// all compares everything that was touched up to the views' place.
func (t *touch) all(ctx context.Context, a *aligned) error {
	if err := t.each(ctx, a.at, func() error { return t.flush(ctx, a) }); err != nil {
		return err
	}
	for of, notes := range t.whole {
		if of.EstRows > t.most || of.RowsLanded > t.most {
			t.left += len(notes)
			continue
		}
		found, rows, err := t.of.wholeTable(ctx, a, of)
		if err != nil {
			return fmt.Errorf("vouching for %s: %w", of.SourceName, err)
		}
		t.add(of, found, rows)
		t.done = append(t.done, notes...)
	}
	return t.settle(ctx)
}

// flush compares the rows of the keys that were read.
func (t *touch) flush(ctx context.Context, a *aligned) error {
	for of, keys := range t.keys {
		found, err := t.of.compareKeys(ctx, a, of, slices.Collect(maps.Keys(keys)), t.share)
		if err != nil {
			return fmt.Errorf("vouching for %s: %w", of.SourceName, err)
		}
		t.add(of, found, int64(len(keys)))
	}
	t.done, t.wait, t.n = append(t.done, t.wait...), nil, 0
	clear(t.keys)
	return t.settle(ctx)
}

// settle keeps what was compared and is equal; up to where, is known when all is compared.
func (t *touch) settle(ctx context.Context) error {
	switch {
	case !t.keeps || len(t.done) == 0:
		return nil
	case len(t.found) > 0:
		t.suspect()
		return nil
	}
	return t.keep(ctx, domain.Position{})
}

func (t *touch) add(of *domain.CrossingTable, found []domain.Finding, rows int64) {
	t.rows += rows
	t.compared[of.ID] += rows
	if len(found) > 0 {
		list := append(t.found[of.ID], found...)
		t.over = t.over || len(list) > maxFindings
		t.found[of.ID] = list[:min(len(list), maxFindings)]
	}
}

// compareKeys compares the rows at keys column by column, in a share of the time; 0: all of it.
func (k *Comparer) compareKeys(ctx context.Context, a *aligned, of *domain.CrossingTable, keys []string,
	share float64) (out []domain.Finding, err error) {
	defer func() { err = a.releaseLocks(ctx, err) }()
	views, plans := a.sides(of)
	slices.Sort(keys) // rows that lie beside each other are read one after the other
	err = fetch(ctx, views, plans, engine.Part{}, keys, func(_ int, _ []string, rows [2]map[string][]domain.Row,
		took time.Duration) error {
		// By what was found and not by what was sought: a key may be written otherwise on a side.
		for side := range rows {
			for key := range rows[side] {
				if side == 1 && rows[0][key] != nil {
					continue
				}
				if f, ok := confirm(plans[0], narrow.Candidate{Kind: domain.Differing, Key: key}, rows[0][key],
					rows[1][key]); ok {
					out = append(out, f)
				}
			}
		}
		if share > 0 && share < 1 {
			took := took.Seconds()
			if !waits.Sleep(ctx, time.Duration((took/share-took)*float64(time.Second))) {
				return ctx.Err()
			}
		}
		return nil
	})
	return out, err
}

// wholeTable compares all rows of a table.
func (k *Comparer) wholeTable(ctx context.Context, a *aligned, t *domain.CrossingTable) (found []domain.Finding,
	rows int64, err error) {
	defer func() { err = a.releaseLocks(ctx, err) }()
	views, plans := a.sides(t)
	part, err := k.partOf(ctx, a, t)
	if err != nil {
		return nil, 0, err
	}
	s, found, err := k.hashed(ctx, a, &table{views: views, plans: plans, part: part, rows: t.EstRows,
		read: [2]func(int64){func(int64) {}, func(int64) {}}})
	return found, s.total[0].Rows, err
}

// sides are the views, and the plan of a table for each of them.
func (a *aligned) sides(t *domain.CrossingTable) ([2]engine.View, [2]*domain.TablePlan) {
	there := t.Plan.TargetPlan()
	return [2]engine.View{a.source, a.target}, [2]*domain.TablePlan{&t.Plan, &there}
}

// compareVouched compares, where nothing changes any more, what is not known to be equal: the rows that
// were touched since they were compared, and tables that were not compared whole since they were
// loaded; and of tables that take writes of others on the target how many rows there are, since such
// writes are in no log.
func (k *Comparer) compareVouched(ctx context.Context, c *domain.Crossing, a *aligned, r *domain.Reconciliation,
	tables []domain.CrossingTable) (total int64, _ error) {
	_, dst, err := k.databases.OpenPair(ctx, c)
	if err != nil {
		return 0, err
	}
	known := map[int64]bool{}
	if dst.Vouches != nil {
		if known, err = k.records.ComparedWhole(ctx, c.ID); err != nil {
			return 0, err
		}
	}
	guarded, err := k.guarded(ctx, c, dst, tables)
	if err != nil {
		return 0, err
	}
	t := newTouch(k, c, dst, tables)
	if len(known) > 0 {
		if err := t.each(ctx, domain.FarAway, func() error { return t.flush(ctx, a) }); err != nil {
			return 0, err
		}
	}
	for i := range tables {
		of := &tables[i]
		n := int64(0)
		if _, whole := t.whole[t.tables[of.TargetName]]; whole || !known[of.ID] {
			hashes := *r
			hashes.Depth = domain.DepthHashes
			n, err = k.compareTable(ctx, a, &hashes, of, 0)
		} else {
			n, err = k.keepVouched(ctx, a, r, of, t, guarded[of.Plan.TargetPlan().Target])
		}
		if err != nil {
			return 0, fmt.Errorf("comparing %s: %w", of.SourceName, err)
		}
		total += n
	}
	if total == 0 && len(known) > 0 {
		_, err = k.records.KeepVouched(ctx, c.ID, a.at, t.rows, nil)
	}
	return total, err
}

// guarded are the tables of the target that nobody else can have written to: they are guarded, or the
// cutover that this crossing takes back closed them.
func (k *Comparer) guarded(ctx context.Context, c *domain.Crossing, dst *engine.Opened,
	tables []domain.CrossingTable) (map[domain.TableName]bool, error) {
	if dst.Guards == nil || c.ReturnOf == nil && c.Settings.GuardTarget != domain.GuardRefuse {
		return nil, nil
	}
	plans := make([]domain.TablePlan, len(tables))
	for i := range tables {
		plans[i] = tables[i].Plan.TargetPlan()
	}
	if c.ReturnOf == nil {
		return dst.Guarded(ctx, c.UID, plans)
	}
	of, err := k.records.CrossingByID(ctx, *c.ReturnOf)
	if err != nil {
		return nil, err
	}
	return dst.Closed(ctx, of.ObjectName(), plans)
}

// keepVouched keeps what was found of a table's rows that were touched, and where others could have
// written on the target counts its rows.
func (k *Comparer) keepVouched(ctx context.Context, a *aligned, r *domain.Reconciliation, of *domain.CrossingTable,
	t *touch, guarded bool) (int64, error) {
	found := t.found[of.ID]
	if len(found) == 0 && !guarded {
		counts := *r
		counts.Depth = domain.DepthCounts
		return k.compareTable(ctx, a, &counts, of, 0)
	}
	if err := k.records.AddFindings(ctx, r.ID, of.ID, found); err != nil {
		return 0, err
	}
	n := t.compared[of.ID]
	return int64(len(found)), k.records.SaveReconciledTable(ctx, domain.ReconciledTable{ReconciliationID: r.ID,
		TableID: of.ID, State: "done", Findings: int64(len(found)), SourceRows: n, TargetRows: n})
}

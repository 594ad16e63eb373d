package voyage

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"dustyferry/internal/core/chunkplan"
	"dustyferry/internal/core/follow"
	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/waits"
)

// prepare surveys, makes the target's tables, makes capture durable and cuts
// the tables into chunks; then the load begins. Every part can be repeated.
func (v *Voyage) prepare(ctx context.Context, c *domain.Crossing, note begunNote) error {
	return v.prepareAs(ctx, c, false, note)
}

// prepareAs prepares; with anew, what was made on the target before is made again.
func (v *Voyage) prepareAs(ctx context.Context, c *domain.Crossing, anew bool, begin begunNote) error {
	note := begin.say
	note("surveying both sides")
	s, err := v.Planning.Survey(ctx, c, false)
	if err != nil {
		return err
	}
	if err := v.Store.SaveSurvey(ctx, c, s.Entries); err != nil {
		return err
	}
	if c.Phase == domain.PhaseDraft {
		c.Phase = domain.PhaseSurveyed // saving the survey moved it on
	}
	if block := domain.Blocking(s.Entries, "dustyferry survey "+c.Name); block != "" {
		return domain.Conflict("the survey found what blocks: %s", block)
	}
	for i := range s.Plans {
		s.Plans[i].ReplaceRange = c.Settings.ExistingRows == engine.ReplaceRange
	}
	if err := v.Store.SavePlans(ctx, c, s.Plans); err != nil {
		return err
	}
	note("making the tables on the target")
	list, err := v.Planning.Objects(ctx, c, s)
	if err != nil {
		return err
	}
	if err := v.Store.SaveObjects(ctx, c.ID, list, domain.Listing{Anew: anew}); err != nil {
		return err
	}
	if err := v.makeTables(ctx, c, s, s.Plans); err != nil {
		return err
	}
	if list, err = v.Store.Objects(ctx, c.ID); err != nil {
		return err
	}
	if err := v.Builder.Statements(ctx, c, s.Target, list, domain.StageBefore, note); err != nil {
		return err
	}
	start := domain.Position(0)
	if c.Kind != domain.KindLoad {
		note("making capture durable on the source")
		waiting, begun := context.WithCancel(ctx)
		go waits.Every(waiting, 2*time.Second, func() { // says what it waits for, if it does
			if list, err := s.Source.OpenTransactions(waiting, time.Second); err == nil && len(list) > 0 &&
				waiting.Err() == nil {
				note("capture can begin when what is open on the source now has ended: " + list[0] + domain.More(len(list)-1))
			}
		})
		start, err = v.captureFrom(ctx, c, s)
		begun()
		if err != nil {
			return err
		}
	}
	if err := v.Store.SaveStart(ctx, c.ID, start, c.Undo, s.Catalog); err != nil {
		return err
	}
	if err := v.advance(ctx, c, c.Phase, domain.PhasePrepared); err != nil {
		return err
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	chunks := 0
	if c.Kind == domain.KindCapture {
		if err := v.Store.NothingToLoad(ctx, c.ID); err != nil {
			return err
		}
	}
	began := time.Now()
	for i := range tables {
		if c.Kind == domain.KindCapture {
			break
		}
		note("cutting " + tables[i].SourceName + " into chunks")
		n, err := v.cut(ctx, c, &tables[i])
		if err != nil {
			return err
		}
		chunks += n
	}
	cut := time.Since(began)
	if err := begin.begun(); err != nil {
		return err
	}
	if err := v.advance(ctx, c, domain.PhasePrepared, domain.PhaseLoading); err != nil {
		return err
	}
	if err := v.enqueueLanes(ctx); err != nil { // lanes at once, not at the keeper's next round
		return err
	}
	from := ""
	if start != 0 {
		from = "; changes are captured from log position " + v.Position(ctx, c.Source, start)
	}
	if c.Kind == domain.KindCapture {
		v.Say(ctx, "info", System, c.Name, "", "capture", "changes of %s are followed from log position %s",
			domain.Counted(len(tables), "table", "tables"), v.Position(ctx, c.Source, start))
		return nil
	}
	v.Say(ctx, "info", System, c.Name, "", "load", "the load begins: %s in %s, cut in %s%s", domain.Counted(len(tables),
		"table", "tables"), domain.Counted(chunks, "chunk", "chunks"), cut.Round(time.Millisecond), from)
	return nil
}

// makeCapture makes capture durable on the source. What it will change there is kept
// first, so that closing can restore it.
func (v *Voyage) makeCapture(ctx context.Context, c *domain.Crossing, src *engine.Opened,
	plans []domain.TablePlan) (domain.Position, error) {
	for _, u := range src.CaptureUndo(plans) {
		if !slices.Contains(c.Undo, u) {
			c.Undo = append(c.Undo, u)
		}
	}
	if err := v.Store.SaveUndo(ctx, c.ID, c.Undo); err != nil {
		return 0, err
	}
	return src.PrepareCapture(ctx, c.ObjectName(), plans)
}

// makeTables makes the target's tables of the plans and keeps what came of each.
func (v *Voyage) makeTables(ctx context.Context, c *domain.Crossing, s *planning.Surveyed,
	plans []domain.TablePlan) error {
	var told []records.Told
	err := s.Target.PrepareTarget(ctx, c.UID, planning.CatalogOnTarget(s.Catalog, plans), planning.OnTarget(plans),
		c.Settings, func(o engine.Object, failure error) {
			told = append(told, records.Told{Kind: o.Kind, Table: o.Table.String(), Statement: o.SQL, Failure: failure})
		})
	return cmp.Or(err, v.Store.TellTables(ctx, c.ID, told))
}

// advance moves the phase on, or says that somebody else did meanwhile.
func (v *Voyage) advance(ctx context.Context, c *domain.Crossing, from, to domain.Phase) error {
	moved, err := v.Store.SetPhase(ctx, c.ID, from, to)
	if err == nil && !moved {
		return domain.Conflict("crossing %s is not %s any more; look at it again", c.Name, from)
	}
	return err
}

// cut plans a table's chunks. One that is loaded in place is cut only where a range of keys
// is the same on both sides, and where no other unique value can move from one to another.
func (v *Voyage) cut(ctx context.Context, c *domain.Crossing, t *domain.CrossingTable) (int, error) {
	p := &t.Plan
	n := 1
	if p.Splittable() && (!p.ReplaceRange || keyorder.Alike(p) && !follow.Replaces(p)) {
		n = chunkplan.Count(p.Table.Bytes, planning.ChunkAim(c.Settings))
	}
	var bounds []domain.KeyValue
	if n > 1 {
		src, err := v.Open(ctx, c.Source)
		if err != nil {
			return 0, err
		}
		sample, err := src.Sample(ctx, p, min(n*200, 100_000))
		if err != nil {
			return 0, fmt.Errorf("finding chunk bounds of %s: %w", p.Source, err)
		}
		bounds = chunkplan.Bounds(sample, n)
	}
	if p.Watermark != "" {
		// Noted before the first row is read: what is written while they are is past it.
		src, err := v.Open(ctx, c.Source)
		if err != nil {
			return 0, err
		}
		mark, err := src.Greatest(ctx, p, p.Watermark)
		if err == nil {
			err = v.Store.SetWatermark(ctx, t.ID, mark)
		}
		if err != nil {
			return 0, fmt.Errorf("reading the watermark of %s: %w", p.Source, err)
		}
	}
	chunks := chunkplan.Chunks(bounds)
	return len(chunks), v.Store.SaveChunks(ctx, t, chunks)
}

// inTheWay is what has to go for a load in place: foreign keys, where they would act.
func inTheWay(ctx context.Context, dst *engine.Opened, deferred []engine.Object) []engine.Object {
	quiet := dst.AppliesQuietly(ctx)
	return slices.DeleteFunc(deferred, func(o engine.Object) bool { return quiet || o.Kind != "foreign" })
}

// restart begins again from nothing: chunks, marks, capture and the target's
// rows are dropped, and the crossing prepares anew.
func (v *Voyage) restart(ctx context.Context, c *domain.Crossing, begin begunNote) error {
	note := begin.say
	src, dst, err := v.OpenPair(ctx, c)
	if err != nil {
		return err
	}
	note("stopping what is under way")
	if err := v.EndWork(ctx, c, lifecycle.All(TaskRestart, TaskCutover, TaskClose, TaskSurvey, TaskFit),
		"the crossing was restarted"); err != nil {
		return err
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	// From here on no lane can claim: the phase says so. Old holders are fenced.
	if err := v.Store.ResetAll(ctx, c.ID); err != nil {
		return err
	}
	for _, t := range tables {
		if err := v.fenceTable(ctx, dst, c, t.ID); err != nil {
			return err
		}
	}
	if src.Captures != nil {
		if err := src.DropCapture(ctx, c.ObjectName(), c.Undo); err != nil {
			return err
		}
	}
	inPlace := planning.RepeatsInPlace(c)
	deferred := dst.Deferred(nil, planning.OnTarget(planning.PlansOf(tables)))
	if inPlace {
		deferred = inTheWay(ctx, dst, deferred)
	}
	if err := dst.Unbuild(ctx, deferred); err != nil {
		return err
	}
	if dst.Applies != nil {
		if err := dst.ForgetStream(ctx, c.UID); err != nil {
			return err
		}
	}
	fresh := *c
	fresh.Phase = domain.PhasePrepared
	fresh.Settings.ExistingRows = "empty" // the rows there are our own
	if inPlace {
		fresh.Settings.ExistingRows = engine.ReplaceRange
	}
	fresh.Rules = slices.Clone(fresh.Rules)
	for i := range fresh.Rules {
		fresh.Rules[i].ExistingRows, fresh.Rules[i].OldStanding = "", ""
	}
	return v.prepareAs(ctx, &fresh, true, begin)
}

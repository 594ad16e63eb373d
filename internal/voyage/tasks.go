package voyage

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
)

// The kinds of task.
const (
	TaskPrepare   = "prepare"
	TaskRestart   = "restart"
	TaskBuild     = "build"
	TaskReconcile = "reconcile"
	TaskRepair    = "repair"
	TaskRecheck   = "compare again"
	TaskCutover   = "cutover"
	TaskClose     = "close"
	TaskFit       = "fit check"
	TaskAdd       = "add a table"
	TaskRefresh   = "refresh"
)

// noteBegun is the note of a prepare or restart whose load has begun: whoever
// takes such a task over must not begin again.
const noteBegun = "the load has begun"

// AddTask adds a task and its job in one transaction.
func (v *Voyage) AddTask(ctx context.Context, c *records.Crossing, kind string, args any, actor string) (int64, error) {
	var id int64
	err := v.Queue.In(ctx, func(tx pgx.Tx) error {
		var err error
		if id, err = records.AddTaskTx(ctx, tx, c.ID, kind, args, actor); err != nil {
			return err
		}
		return v.Queue.AddTask(ctx, tx, id)
	})
	return id, err
}

// RunTask carries out a task if nobody else does.
func (v *Voyage) RunTask(ctx context.Context, id int64) error {
	t, err := v.Store.ClaimTask(ctx, id, v.Worker)
	if err != nil || t == nil {
		return err
	}
	c, err := v.Store.CrossingByID(ctx, t.CrossingID)
	if err != nil {
		return err
	}
	run, cancel := context.WithCancelCause(ctx)
	var keep sync.WaitGroup
	keep.Go(func() {
		every(run, records.Renew, func() {
			if ok, err := v.Store.RenewTask(run, t.ID, t.Epoch); err == nil && !ok {
				cancel(domain.ErrTakenOver)
			}
		})
	})
	err = domain.Guarded(t.Kind, func() error { return v.doTask(run, &c, t) })
	if v.logFault(err) {
		v.Hold(ctx, &c, "", fmt.Sprintf("%s stopped: %s", t.Kind, err))
	}
	cause := context.Cause(run)
	cancel(nil)
	keep.Wait()
	end, done := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer done()
	switch {
	case errors.Is(cause, domain.ErrTakenOver):
		return nil
	case ctx.Err() != nil && err != nil: // this process stops: another one goes on
		return v.Store.ReleaseTask(end, t.ID, t.Epoch)
	case err != nil:
		if !errors.As(err, new(undone)) {
			v.Say(end, "error", System, c.Name, "", t.Kind, "%s failed: %s", t.Kind, err)
			v.tell(end, &c, EventFailed, fmt.Sprintf("%s failed: %s", t.Kind, err))
		}
		return v.Store.EndTask(end, t.ID, t.Epoch, "failed", err.Error())
	}
	return v.Store.EndTask(end, t.ID, t.Epoch, "done", "")
}

func (v *Voyage) doTask(ctx context.Context, c *records.Crossing, t *records.Task) error {
	note := func(s string) {
		if err := v.Store.NoteTask(ctx, t.ID, s); err != nil {
			v.Log.Debug("a task's note was not kept", "error", err)
		}
	}
	switch t.Kind {
	case TaskPrepare, TaskRestart:
		if t.Note == noteBegun {
			// The process before us had done it, but for saying so.
			if _, err := v.Store.SetPhase(ctx, c.ID, domain.PhasePrepared, domain.PhaseLoading); err != nil {
				return err
			}
			return v.Store.SetCondition(ctx, c.ID, domain.ConditionRunning, "", false)
		}
		if err := v.Store.BeginRun(ctx, c.ID, t.Actor, t.Kind == TaskRestart && t.Epoch == 1); err != nil {
			return err
		}
		f := v.prepare
		if t.Kind == TaskRestart {
			f = v.restart
		}
		if err := f(ctx, c, note); err != nil {
			if ctx.Err() == nil {
				v.Hold(ctx, c, "", fmt.Sprintf("%s could not be done: %s. Mend the cause and resume", t.Kind, err))
			}
			return err
		}
		return v.Store.SetCondition(ctx, c.ID, domain.ConditionRunning, "", false)
	case TaskBuild:
		if err := v.build(ctx, c, note, false); err != nil {
			if ctx.Err() == nil {
				v.Hold(ctx, c, "", fmt.Sprintf("%s. Mend the cause and resume", err))
			}
			return err
		}
		if err := v.Store.SetBuilt(ctx, c.ID); err != nil {
			return err
		}
		_, err := v.Store.Alone(ctx, keeperLock, func() error { return v.movePhases(ctx) })
		return err
	case TaskRefresh:
		return v.refresh(ctx, c, t, note)
	case TaskReconcile:
		var a ReconcileArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.reconcile(ctx, c, a.Reconciliation, false)
	case TaskRepair:
		var a RepairArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.repair(ctx, c, a, t.Actor)
	case TaskRecheck:
		var a RepairArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.recheck(ctx, c, a, t.Actor)
	case TaskFit:
		var a FitArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.fit(ctx, c, a, note)
	case TaskAdd:
		var a AddArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.addTable(ctx, c, a, note)
	case TaskCutover:
		return v.cutover(ctx, c, t)
	case TaskClose:
		var a CloseArgs
		if err := json.Unmarshal(t.Args, &a); err != nil {
			return err
		}
		return v.close(ctx, c, a, t.Actor)
	}
	return fmt.Errorf("there is no task kind %q", t.Kind)
}

// StartCrossing begins the journey: prepare, then load and capture.
//
// Where rows on the target will be removed, confirm must be the target's name.
func (v *Voyage) StartCrossing(ctx context.Context, c *records.Crossing, confirm, actor string) error {
	if err := allow(lifecycle.Start, c); err != nil {
		return err
	}
	if removes(c) && confirm != c.Target {
		look, err := v.LastLook(ctx, c)
		if err != nil {
			return err
		}
		if look.RowsLost > 0 {
			return domain.Invalid("starting %s removes %s from %d tables of %s (%s first); confirm it by giving the target's name, %s",
				c.Name, domain.Many(look.RowsLost, "row"), len(look.Losses), c.Target, look.Losses[0].Table, c.Target)
		}
	}
	if err := v.CheckCaptureSettings(ctx, c.Source, c.Kind, c.Settings.V); err != nil {
		return err
	}
	if err := v.Store.SetCondition(ctx, c.ID, domain.ConditionRunning, "", false); err != nil {
		return err
	}
	if _, err := v.AddTask(ctx, c, TaskPrepare, struct{}{}, actor); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "start", "%s started %s", actor, c.Name)
	return nil
}

// removes reports whether starting the crossing may remove rows from the target.
func removes(c *records.Crossing) bool {
	goes := func(way string) bool { return way == "empty" || way == "replace" }
	return goes(c.Settings.V.NonEmptyTarget) || slices.ContainsFunc(c.Rules.V, func(r domain.Rule) bool { return goes(r.Standing) })
}

// keeps names a table of the plans that holds rows of its own beside ours, which
// starting it anew would remove with them.
func keeps(c *records.Crossing, tables []records.Table, name string) error {
	for i := range tables {
		t := &tables[i]
		if there := t.Plan.V.OnTarget(); (name == "" || t.SourceName == name) && there.WhatStands(c.Settings.V) == "keep" {
			return domain.Conflict("table %s was planned to keep the rows that its target had: starting anew would remove them together with ours; remove ours by hand and make a new crossing for it", t.SourceName)
		}
	}
	return nil
}

// PauseCrossing stops the load, and capture too unless it is to go on.
func (v *Voyage) PauseCrossing(ctx context.Context, c *records.Crossing, keepCapture bool, actor string) error {
	if err := allow(lifecycle.Pause, c); err != nil {
		return err
	}
	reason := "paused by " + actor + "; the source keeps its log until capture goes on"
	if keepCapture {
		reason = "paused by " + actor + "; capture goes on"
	}
	if err := v.Store.SetCondition(ctx, c.ID, domain.ConditionPaused, reason, keepCapture); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "pause", "%s", reason)
	return nil
}

// ResumeCrossing lets a paused or held crossing go on.
func (v *Voyage) ResumeCrossing(ctx context.Context, c *records.Crossing, actor string) error {
	if err := allow(lifecycle.Resume, c); err != nil {
		return err
	}
	if c.Condition == domain.ConditionRunning {
		return domain.Conflict("crossing %s is running; there is nothing to resume", c.Name)
	}
	if err := v.Store.ResumeTables(ctx, c.ID); err != nil {
		return err
	}
	if err := v.Store.SetCondition(ctx, c.ID, domain.ConditionRunning, "", false); err != nil {
		return err
	}
	if c.Phase == domain.PhaseDraft || c.Phase == domain.PhaseSurveyed || c.Phase == domain.PhasePrepared {
		if _, err := v.AddTask(ctx, c, TaskPrepare, struct{}{}, actor); err != nil && !domain.IsKind(err, domain.ProblemConflict) {
			return err
		}
	}
	v.Say(ctx, "info", actor, c.Name, "", "resume", "%s resumed %s", actor, c.Name)
	return nil
}

// RestartCrossing begins again from nothing, or one table of it.
func (v *Voyage) RestartCrossing(ctx context.Context, c *records.Crossing, table, actor string) error {
	if err := allow(lifecycle.Restart, c); err != nil {
		return err
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if c.Kind == domain.KindCapture {
		return domain.Conflict("crossing %s only follows changes; there is no load to restart. If its log is lost, close it and make one of kind load+capture", c.Name)
	}
	if err := keeps(c, tables, table); err != nil {
		return err
	}
	if table == "" {
		if err := v.Store.SetCondition(ctx, c.ID, domain.ConditionRunning, "", false); err != nil {
			return err
		}
		if _, err := v.AddTask(ctx, c, TaskRestart, struct{}{}, actor); err != nil {
			return err
		}
		v.Say(ctx, "warning", actor, c.Name, "", "restart", "%s restarts %s from nothing", actor, c.Name)
		return nil
	}
	for _, t := range tables {
		if t.SourceName == table {
			if t.Chunks == 0 {
				return domain.Conflict("table %s has not begun to load; there is nothing to restart", table)
			}
			again := withDependents(tables, table)
			for _, d := range again {
				if err := keeps(c, tables, d.SourceName); err != nil {
					return err
				}
			}
			v.Say(ctx, "warning", actor, c.Name, table, "restart", "%s restarts table %s", actor, table)
			if _, err := v.kick(ctx, c); err != nil {
				return err
			}
			if err := v.replan(ctx, c, tables, &t); err != nil {
				return err
			}
			for _, d := range again {
				if d.ID != t.ID {
					v.Say(ctx, "warning", System, c.Name, d.SourceName, "restart", "%s begins again with %s, whose foreign keys lead to it", d.SourceName, table)
				}
				if repeatsInPlace(c) && c.Phase == domain.PhaseInStep { // before that, keys may be lacking
					if err := v.Store.LoadInPlace(ctx, d.ID); err != nil {
						return err
					}
				}
				if err := v.Store.ResetTable(ctx, d.ID); err != nil {
					return err
				}
			}
			// Somebody may have taken the stream up in between, with what had landed then.
			if _, err := v.kick(ctx, c); err != nil {
				return err
			}
			if c.Condition == domain.ConditionHeld {
				return v.Store.SetCondition(ctx, c.ID, domain.ConditionRunning, "", false)
			}
			return nil
		}
	}
	return domain.NotFound("crossing %s has no table %s; 'dustyferry crossing show %s' lists its tables", c.Name, table, c.Name)
}

// kick makes whoever follows the crossing start anew: an applier remembers
// which chunks have landed, and must not do so across a restart of a table.
//
// It returns the epoch that whoever follows next is above.
func (v *Voyage) kick(ctx context.Context, c *records.Crossing) (int64, error) {
	epoch, err := v.Store.KickStream(ctx, c.ID)
	if err != nil || epoch == 0 || c.Kind == domain.KindLoad {
		return epoch, err
	}
	dst, err := v.Open(ctx, c.Target)
	if err != nil {
		return epoch, err
	}
	_, err = dst.TakeStream(ctx, c.UID, epoch, domain.Position(c.StartAt))
	if errors.Is(err, domain.ErrTakenOver) {
		err = nil // somebody follows under a newer epoch already
	}
	return epoch, err
}

// HoldToHouse returns an error when settings or patterns of a crossing are otherwise
// than the house lets them be.
func (v *Voyage) HoldToHouse(ctx context.Context, house domain.House, s domain.Settings, patterns []string) error {
	base, err := v.Store.Defaults(ctx)
	if err != nil {
		return err
	}
	return house.Hold(base, s, patterns)
}

// ChangeSettings changes lanes and speed limit at any time, the rest before the
// start.
func (v *Voyage) ChangeSettings(ctx context.Context, c *records.Crossing, s domain.Settings, actor string) error {
	s = s.WithDefaults()
	if err := s.Validate(); err != nil {
		return err
	}
	if err := v.CheckStopMethod(ctx, c.Source, s.StopMethod); err != nil {
		return err
	}
	if err := v.CheckCaptureSettings(ctx, c.Source, c.Kind, s); err != nil {
		return err
	}
	house, err := v.Store.House(ctx)
	if err != nil {
		return err
	}
	if err := v.HoldToHouse(ctx, house, s, c.Patterns.V); err != nil {
		return err
	}
	live := c.Settings.V
	live.Lanes, live.SpeedLimit = s.Lanes, s.SpeedLimit
	live.HandoverURL, live.HandoverCommand = s.HandoverURL, s.HandoverCommand
	live.PauseBudget, live.StopMethod, live.CutoverDepth = s.PauseBudget, s.StopMethod, s.CutoverDepth
	live.InStepLag, live.InStepDwell = s.InStepLag, s.InStepDwell
	live.HoldPoints = s.HoldPoints
	live.LeastLanes, live.RowLimit, live.SourceShare = s.LeastLanes, s.RowLimit, s.SourceShare
	live.QuietHours, live.QuietZone, live.QuietSpeed = s.QuietHours, s.QuietZone, s.QuietSpeed
	live.BadRows, live.BadRowsLimit, live.BuildLanes, live.WorkerLabel, live.LagLimit = s.BadRows, s.BadRowsLimit, s.BuildLanes, s.WorkerLabel, s.LagLimit
	live.ColumnChanges, live.RetainedLimit, live.RetainedOver, live.StopAt = s.ColumnChanges, s.RetainedLimit, s.RetainedOver, s.StopAt
	if !reflect.DeepEqual(live, s) {
		if err := allow(lifecycle.Change, c); err != nil {
			return err
		}
	}
	if c.Phase == domain.PhaseCuttingOver {
		return domain.Conflict("crossing %s is cutting over; its settings stand until that has ended", c.Name)
	}
	if err := v.Store.SaveSettings(ctx, c.ID, s); err != nil {
		return err
	}
	v.recordSettings(ctx, actor, c.Name, "settings of "+c.Name, c.Settings.V.Changes(s))
	return nil
}

// recordSettings writes into the journal which settings somebody changed, and to what.
func (v *Voyage) recordSettings(ctx context.Context, actor, crossing, what string, list []domain.SettingChange) {
	if len(list) == 0 {
		return
	}
	public, detail := domain.ChangesText(list)
	v.Record(ctx, records.Entry{Actor: actor, Crossing: crossing, Act: "change", Severity: "info",
		Message: fmt.Sprintf("%s changed %s: %s", actor, what, public), Detail: detail})
}

// ChangeDefaults changes what new crossings begin with.
func (v *Voyage) ChangeDefaults(ctx context.Context, set domain.Settings, actor string) error {
	before, err := v.Store.Defaults(ctx)
	if err != nil {
		return err
	}
	if err := set.Validate(); err != nil {
		return err
	}
	if err := v.Store.SaveDefaults(ctx, set); err != nil {
		return err
	}
	v.recordSettings(ctx, actor, "", "the defaults for new crossings", before.Changes(set))
	return nil
}

// tablesText says which tables are chosen.
func tablesText(patterns []string, p domain.Planning) string {
	switch {
	case len(patterns) > 0:
		return strings.Join(patterns, ", ")
	case len(p.Queries) > 0:
		return "none"
	}
	return "every one"
}

func counted(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}

// ChooseTables replaces what is planned for a crossing that has not started; a
// survey or fit check made before no longer counts.
func (v *Voyage) ChooseTables(ctx context.Context, c *records.Crossing, patterns []string, rules []domain.Rule, planning domain.Planning, actor string) error {
	if err := allow(lifecycle.Change, c); err != nil {
		return err
	}
	if err := domain.ValidPatterns(patterns); err != nil {
		return err
	}
	if err := domain.ValidRules(rules); err != nil {
		return err
	}
	if err := planning.Validate(); err != nil {
		return err
	}
	house, err := v.Store.House(ctx)
	if err != nil {
		return err
	}
	if err := v.HoldToHouse(ctx, house, c.Settings.V, patterns); err != nil {
		return err
	}
	if slices.Contains(house.Locked, "rules") {
		rules = house.Lay(rules)
	}
	if err := v.Store.SavePlanning(ctx, c.ID, patterns, rules, planning); err != nil {
		return err
	}
	v.Record(ctx, records.Entry{Actor: actor, Crossing: c.Name, Act: "change", Severity: "info", Message: fmt.Sprintf("%s planned %s anew: tables %s; %s, %s", actor, c.Name,
		tablesText(patterns, planning), domain.Many(int64(len(rules)), "rule"), counted(len(planning.Queries), "query", "queries")),
		Detail: planChanges(plan{c.Patterns.V, c.Rules.V, c.Planning.V}, plan{patterns, rules, planning})})
	return nil
}

// plan is what a person plans for a crossing.
type plan struct {
	Tables   []string        `json:"tables"`
	Rules    []domain.Rule   `json:"rules"`
	Planning domain.Planning `json:"planning"`
}

// planChanges says what of a plan is another, word for word.
func planChanges(before, after plan) string {
	var out []string
	diff := func(name string, a, b any) {
		x, err := json.Marshal(a)
		y, err2 := json.Marshal(b)
		if err == nil && err2 == nil && string(x) != string(y) {
			out = append(out, fmt.Sprintf("%s: %s → %s", name, x, y))
		}
	}
	diff("tables", before.Tables, after.Tables)
	diff("rules", before.Rules, after.Rules)
	diff("queries", before.Planning.Queries, after.Planning.Queries)
	diff("parameters", before.Planning.Parameters, after.Planning.Parameters)
	diff("before", before.Planning.Before, after.Planning.Before)
	diff("after", before.Planning.After, after.Planning.After)
	diff("carry", before.Planning.Carry, after.Planning.Carry)
	return strings.Join(out, "\n")
}

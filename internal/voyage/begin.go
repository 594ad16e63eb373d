package voyage

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/planning"
	"dustyferry/internal/voyage/refresh"
)

// BeginArgs are the arguments of tasks that begin a load.
type BeginArgs struct {
	Run int64 `json:"run,omitempty"` // the due run that a schedule asked for
}

// begin carries out a prepare or a restart.
func (v *Voyage) begin(ctx context.Context, c *domain.Crossing, t *domain.Task, note func(string)) error {
	var a BeginArgs
	if err := json.Unmarshal(t.Args, &a); err != nil {
		return err
	}
	if t.Begun {
		// The process before us had done it, but for saying so.
		_, err := v.Store.SetPhase(ctx, c.ID, domain.PhasePrepared, domain.PhaseLoading)
		return err
	}
	if err := v.Store.BeginRun(ctx, c.ID, a.Run, t.Actor, t.Kind == TaskRestart && t.Epoch == 1); err != nil {
		return err
	}
	f := v.prepare
	if t.Kind == TaskRestart {
		f = v.restart
	}
	err := f(ctx, c, begunNote{note, func() error {
		err := v.Store.Begun(ctx, t.ID, t.Epoch)
		t.Begun = t.Begun || err == nil // for whoever repeats it in this process
		return err
	}})
	if err != nil && ctx.Err() == nil && !engine.Away(err) { // that is waited for, see patiently
		v.Hold(ctx, c, "", fmt.Sprintf("%s could not be done: %s. Fix the cause, then resume", t.Kind, err))
	}
	return err
}

// begunNote tells how a beginning goes: in words for people, and once the load has begun for
// whoever takes the task over, who must not begin again then.
type begunNote struct {
	say   func(string)
	begun func() error
}

// StartCrossing begins the journey: prepare, then load and capture.
//
// Where rows on the target will be removed, confirm must be the target's name.
func (v *Voyage) StartCrossing(ctx context.Context, c *domain.Crossing, confirm, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Start, c); err != nil {
		return err
	}
	if removes(c) && confirm != c.Target {
		look, err := v.Planning.Review(ctx, c)
		if err != nil {
			return err
		}
		if look.RowsLost > 0 {
			return domain.Invalid("starting %s removes %s from %d tables of %s (%s first); confirm it by giving the "+
				"target's name, %s",
				c.Name, domain.Many(look.RowsLost, "row"), len(look.Losses), c.Target, look.Losses[0].Table, c.Target)
		}
	}
	if err := v.CheckCaptureSettings(ctx, c.Source, c.Kind, c.Settings); err != nil {
		return err
	}
	return v.startAs(ctx, c, 0, actor)
}

// startAs begins the first load, by the plan that was read; run is the due run that asked for
// it, or 0.
func (v *Voyage) startAs(ctx context.Context, c *domain.Crossing, run int64, actor string) error {
	if c.Condition == domain.ConditionPaused {
		return domain.Conflict("crossing %s is paused (%s); resume it first", c.Name, c.Reason)
	}
	if _, err := v.addTask(ctx, c, TaskPrepare, BeginArgs{run}, actor, func(tx pgx.Tx) error {
		if err := records.SamePlanTx(ctx, tx, c); err != nil {
			return err
		}
		return goOn(ctx, tx, c, run)
	}); err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "start", "%s started %s", actor, c.Name)
	return nil
}

// goOn lets a crossing go on, unless it is paused, and says that a due run was asked for, if
// one was.
func goOn(ctx context.Context, tx pgx.Tx, c *domain.Crossing, run int64) error {
	if err := records.GoOnTx(ctx, tx, c.ID); err != nil || run == 0 {
		return err
	}
	mine, err := records.AskRunTx(ctx, tx, run)
	if err == nil && !mine {
		err = domain.Conflict("another process has begun this run of %s", c.Name)
	}
	return err
}

// removes reports whether starting the crossing may remove rows from the target.
func removes(c *domain.Crossing) bool {
	goes := func(way string) bool { return way == "empty" || way == "replace" }
	return goes(c.Settings.ExistingRows) || slices.ContainsFunc(c.Rules, func(r domain.Rule) bool {
		return goes(r.Existing())
	})
}

// PauseCrossing stops the load, and capture too unless it is to go on.
func (v *Voyage) PauseCrossing(ctx context.Context, c *domain.Crossing, keepCapture bool, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Pause, c); err != nil {
		return err
	}
	reason := "paused by " + actor + "; the source keeps its log until capture goes on"
	if keepCapture {
		reason = "paused by " + actor + "; capture goes on"
	}
	paused, err := v.Store.SetCondition(ctx, c.ID, []domain.Condition{c.Condition}, domain.ConditionPaused, reason,
		keepCapture)
	if err != nil {
		return err
	}
	if !paused {
		return domain.ChangedMeanwhile(c)
	}
	v.Say(ctx, "info", actor, c.Name, "", "pause", "%s", reason)
	return nil
}

// ResumeCrossing lets a paused or held crossing go on.
func (v *Voyage) ResumeCrossing(ctx context.Context, c *domain.Crossing, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Resume, c); err != nil {
		return err
	}
	if c.Condition == domain.ConditionRunning {
		return domain.Conflict("crossing %s is running; there is nothing to resume", c.Name)
	}
	begin, err := v.Store.LastBegun(ctx, c.ID)
	if err != nil {
		return err
	}
	resumed, err := v.Store.Resume(ctx, c.ID, c.Condition)
	if err != nil {
		return err
	}
	if !resumed {
		return domain.ChangedMeanwhile(c)
	}
	v.Say(ctx, "info", actor, c.Name, "", "resume", "%s resumed %s", actor, c.Name)
	if c.Phase != domain.PhaseDraft && c.Phase != domain.PhaseSurveyed && c.Phase != domain.PhasePrepared {
		return nil
	}
	// What has not come to its end begins again as it had begun: a restart would find the
	// rows of the load before it.
	if begin != TaskRestart {
		begin = TaskPrepare
	}
	if _, err := v.AddTask(ctx, c, begin, BeginArgs{}, actor); err != nil && !domain.IsKind(err, domain.ProblemConflict) {
		return err
	}
	return nil
}

// RestartCrossing begins again from nothing, or one table of it.
func (v *Voyage) RestartCrossing(ctx context.Context, c *domain.Crossing, table, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Restart, c); err != nil {
		return err
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if c.Kind == domain.KindCapture {
		return domain.Conflict("crossing %s only follows changes; there is no load to restart. If its log is lost, close "+
			"it and make one that copies the rows too", c.Name)
	}
	if err := planning.CheckKeptRows(c, tables, table); err != nil {
		return err
	}
	if table == "" {
		return v.restartAs(ctx, c, 0, actor)
	}
	if err := v.Store.NotBusy(ctx, c.ID, c.Name, TaskPrepare, TaskRestart, TaskRefresh, TaskCutover,
		TaskClose); err != nil {
		return err
	}
	return v.restartTable(ctx, c, tables, table, actor)
}

// restartTable begins one table of a crossing again, and those that have to go with it.
func (v *Voyage) restartTable(ctx context.Context, c *domain.Crossing, tables []domain.CrossingTable, table,
	actor string) error {
	at := slices.IndexFunc(tables, func(t domain.CrossingTable) bool { return t.SourceName == table })
	if at < 0 {
		return domain.NotFound("crossing %s has no table %s; 'dustyferry crossing show %s' lists its tables", c.Name, table,
			c.Name)
	}
	t := &tables[at]
	if t.Chunks == 0 {
		return domain.Conflict("table %s has not begun to load; there is nothing to restart", table)
	}
	again := planning.WithDependents(tables, t.Plan.Source)
	for _, d := range again {
		if err := planning.CheckKeptRows(c, tables, d.SourceName); err != nil {
			return err
		}
	}
	v.Say(ctx, "warning", actor, c.Name, table, "restart", "%s restarts table %s", actor, table)
	if _, err := v.restartStream(ctx, c); err != nil {
		return err
	}
	if err := v.replan(ctx, c, tables, t); err != nil {
		return err
	}
	for _, d := range again {
		if d.ID != t.ID {
			v.Say(ctx, "warning", System, c.Name, d.SourceName, "restart",
				"%s begins again with %s, whose foreign keys lead to it", d.SourceName, table)
		}
		if planning.RepeatsInPlace(c) && c.Phase == domain.PhaseInStep { // before that, keys may be lacking
			if err := v.Store.LoadInPlace(ctx, d.ID); err != nil {
				return err
			}
		}
		if err := v.Store.ResetTable(ctx, d.ID); err != nil {
			return err
		}
	}
	// Somebody may have taken the stream up in between, with what had landed then.
	if _, err := v.restartStream(ctx, c); err != nil {
		return err
	}
	_, err := v.Store.SetCondition(ctx, c.ID, []domain.Condition{domain.ConditionHeld}, domain.ConditionRunning, "", false)
	return err
}

// restartAs begins the whole crossing again; run is the due run that asked for it, or 0. A
// crossing that is paused is restarted and stays paused.
func (v *Voyage) restartAs(ctx context.Context, c *domain.Crossing, run int64, actor string) error {
	again, err := v.Store.RunAgain(ctx, c.ID)
	if err != nil {
		return err
	}
	if _, err := v.addTask(ctx, c, TaskRestart, BeginArgs{run}, actor, func(tx pgx.Tx) error {
		return goOn(ctx, tx, c, run)
	}); err != nil {
		return err
	}
	text := fmt.Sprintf("%s restarts %s from nothing", actor, c.Name)
	if len(again) > 0 {
		var names []string
		for _, o := range again {
			names = append(names, o.Name)
		}
		text += "; statements that run again: " + strings.Join(names, ", ")
	}
	if c.Condition == domain.ConditionPaused {
		text += "; it stays paused: what is loaded begins when it is resumed"
	}
	v.Say(ctx, "warning", actor, c.Name, "", "restart", "%s", text)
	return nil
}

// restartStream makes whoever follows the crossing start anew: an applier remembers
// which chunks have landed, and must not do so across a restart of a table.
//
// It returns the epoch that whoever follows next is above.
func (v *Voyage) restartStream(ctx context.Context, c *domain.Crossing) (int64, error) {
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

// StartRefresh begins a refresh: of all tables that have a watermark; others are loaded
// anew.
func (v *Voyage) StartRefresh(ctx context.Context, c *domain.Crossing, confirm, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Refresh, c); err != nil {
		return err
	}
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(tables, func(t domain.CrossingTable) bool { return t.Plan.Watermark != "" }) {
		return domain.Conflict("no table of %s has a watermark: name one in its rules before it starts, or use 'dustyferry "+
			"crossing restart' to load it anew", c.Name)
	}
	if slices.ContainsFunc(tables, func(t domain.CrossingTable) bool { return t.Plan.Watermark == "" }) &&
		confirm != c.Target {
		if planning.RepeatsInPlace(c) {
			return domain.Invalid("a refresh of %s replaces all rows of those of its tables on %s that have no watermark; "+
				"confirm it by giving the target's name, %s", c.Name, c.Target, c.Target)
		}
		return domain.Invalid("a refresh of %s empties those of its tables on %s that have no watermark, and loads them "+
			"again; confirm it by giving the target's name, %s", c.Name, c.Target, c.Target)
	}
	return v.refreshAs(ctx, c, 0, actor)
}

// refreshAs begins a refresh; run is the due run that asked for it, or 0.
func (v *Voyage) refreshAs(ctx context.Context, c *domain.Crossing, run int64, actor string) error {
	tables, err := v.Store.Tables(ctx, c.ID)
	if err != nil {
		return err
	}
	if err := refresh.Check(c, tables); err != nil {
		return err
	}
	_, err = v.addTask(ctx, c, TaskRefresh, BeginArgs{run}, actor, func(tx pgx.Tx) error {
		if run == 0 {
			return nil
		}
		return goOn(ctx, tx, c, run)
	})
	if err != nil {
		return err
	}
	v.Say(ctx, "info", actor, c.Name, "", "refresh", "%s began a refresh of %s", actor, c.Name)
	return nil
}

package cutover

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/readiness"
)

// What people ask of cutovers.

// Start begins a cutover, or a rehearsal of one.
func (x *Cutovers) Start(ctx context.Context, c *domain.Crossing, rehearsal bool, set domain.Settings,
	actor string) (int64, error) {
	if err := lifecycle.AllowOn(lifecycle.Cutover, c); err != nil {
		return 0, err
	}
	if err := set.Validate(); err != nil {
		return 0, err
	}
	if c.Kind == domain.KindLoad {
		return 0, domain.Conflict("crossing %s only loads; without capture its target cannot be cut over to without losing "+
			"what was written since", c.Name)
	}
	if err := x.databases.CheckStopMethod(ctx, c.Source, set.StopMethod); err != nil {
		return 0, err
	}
	other := c.Settings.Changes(set)
	if err := x.checkSettings(ctx, c, other, set); err != nil {
		return 0, err
	}
	ready, err := x.readiness.List(ctx, c, set, readiness.Asks)
	if err != nil {
		return 0, err
	}
	if block := domain.Blocking(readiness.ForRehearsal(ready, rehearsal), "dustyferry cutover ready "+
		c.Name); block != "" {
		return 0, domain.Conflict("crossing %s is not ready to cut over: %s", c.Name, block)
	}
	route, err := x.gateways.Leads(ctx, *c)
	if err != nil {
		return 0, err
	}
	id, err := x.begin(ctx, c, rehearsal, set, stepsOf(c, rehearsal, set, route != nil), actor)
	if err == nil {
		e := domain.JournalEntry{Actor: actor, Crossing: c.Name, Act: "cutover", Severity: "info",
			Message: fmt.Sprintf("%s started a %s", actor, Label(rehearsal))}
		if len(other) > 0 {
			var public string
			public, e.Detail = domain.ChangesText(other)
			e.Message += ", with other settings than the crossing's: " + public
			e.Severity = "warning"
		}
		x.journal.Record(ctx, e)
	}
	return id, err
}

// stepsOf are the steps of a cutover of the crossing.
func stepsOf(c *domain.Crossing, rehearsal bool, set domain.Settings, gateways bool) []domain.StepName {
	return slices.DeleteFunc(cutoverSteps.Names(rehearsal), func(n domain.StepName) bool {
		switch n {
		case domain.StepPrepareReturn, domain.StepMarkReturn, domain.StepStartReturn:
			return set.ReturnPath != domain.ReturnOpen
		case domain.StepOpenTarget:
			return c.ReturnOf == nil
		case domain.StepGateways:
			return !gateways
		default:
			return false
		}
	})
}

// checkSettings refuses settings given with a cutover that are none of its own, or that
// the policy locks to something else.
func (x *Cutovers) checkSettings(ctx context.Context, c *domain.Crossing, given []domain.SettingChange,
	set domain.Settings) error {
	for _, g := range given {
		if !g.Setting.Cutover {
			return domain.Invalid("%s is no setting of a cutover; change the crossing's own ('dustyferry crossing set %s'). "+
				"With a cutover go %s", g.Setting.Key, c.Name, withACutover())
		}
	}
	policy, err := x.records.Policy(ctx)
	if err != nil {
		return err
	}
	base, err := x.records.Defaults(ctx)
	if err != nil {
		return err
	}
	for _, g := range base.Changes(set) {
		if !policy.Locks(g.Setting) || !g.Setting.Cutover {
			continue
		}
		if g.Setting.Key == "stop_method" && x.databases.CheckStopMethod(ctx, c.Source, base.StopMethod) != nil {
			continue // the policy's way is not there for this source
		}
		return domain.Conflict("%s is %s, and this service's policy locks it to %s; set it to that ('dustyferry "+
			"crossing set %s'), or have an admin change the policy ('dustyferry policy')",
			g.Setting.Key, g.New, g.Old, c.Name)
	}
	return nil
}

// withACutover lists the settings that can be given with a cutover.
func withACutover() string {
	var keys []string
	for _, d := range domain.SettingsList() {
		if d.Cutover {
			keys = append(keys, d.Key)
		}
	}
	return strings.Join(keys, ", ")
}

// Label is what people call it.
func Label(rehearsal bool) string {
	if rehearsal {
		return "rehearsal of the cutover"
	}
	return "cutover"
}

// Abort asks the running cutover to undo itself.
func (x *Cutovers) Abort(ctx context.Context, c *domain.Crossing, actor string) error {
	k, err := x.records.RunningCutover(ctx, c.ID)
	if err != nil {
		return err
	}
	if k == nil {
		return domain.Conflict("no cutover of %s is under way; there is nothing to abort", c.Name)
	}
	x.journal.Recordf(ctx, "warning", actor, c.Name, "", "cutover", "%s asked to abort the %s", actor, Label(k.Rehearsal))
	return x.records.AskAbort(ctx, k.ID, actor)
}

// Confirm gives a person's word that writes have stopped.
func (x *Cutovers) Confirm(ctx context.Context, c *domain.Crossing, actor string) error {
	k, err := x.records.RunningCutover(ctx, c.ID)
	if err != nil {
		return err
	}
	if k == nil {
		return domain.Conflict("no cutover of %s is under way; nothing waits for a person's word", c.Name)
	}
	stand, err := x.records.Steps(ctx, k.ID)
	if err != nil {
		return err
	}
	for _, s := range stand {
		if s.State == domain.StepRunning && s.Awaits == domain.AwaitsOutcome {
			x.journal.Recordf(ctx, "warning", actor, c.Name, "", "cutover",
				"%s says that the hand-over took effect, whose webhook gave no answer", actor)
			return x.records.GoOn(ctx, k.ID, s.Name, actor)
		}
		if s.State == domain.StepRunning && s.Awaits == domain.AwaitsGoOn {
			if agrees(k) && actor == k.Actor {
				return domain.Conflict("%s started this cutover, and another person has to let it go on (second_person): ask a "+
					"colleague to look at it and to run 'dustyferry cutover confirm %s'", actor, c.Name)
			}
			x.journal.Recordf(ctx, "info", actor, c.Name, "", "cutover",
				"%s lets the %s go on past the hold point before \"%s\"",
				actor,
				Label(k.Rehearsal), s.Name)
			return x.records.GoOn(ctx, k.ID, s.Name, actor)
		}
	}
	if k.Settings.StopMethod != domain.StopWord {
		return domain.Conflict("the cutover of %s waits for nobody's word at the moment", c.Name)
	}
	x.journal.Recordf(ctx, "info", actor, c.Name, "", "cutover", "%s says that writes to the source have stopped", actor)
	return x.records.GiveWord(ctx, k.ID, actor)
}

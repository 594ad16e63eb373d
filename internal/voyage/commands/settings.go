package commands

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
)

// ChangeSettings changes settings: those that are live at any time, the others before the
// start.
func (k *Commands) ChangeSettings(ctx context.Context, c *domain.Crossing, s domain.Settings, actor string) error {
	if err := s.Validate(); err != nil {
		return err
	}
	if err := k.databases.CheckStopMethod(ctx, c.Source, s.StopMethod); err != nil {
		return err
	}
	if err := k.rules.CheckCaptureSettings(ctx, c.Source, c.Kind, s); err != nil {
		return err
	}
	policy, err := k.records.Policy(ctx)
	if err != nil {
		return err
	}
	if err := k.rules.CheckPolicy(ctx, policy, s, c.Patterns); err != nil {
		return err
	}
	changes := c.Settings.Changes(s)
	at := slices.IndexFunc(changes, func(x domain.SettingChange) bool { return !x.Setting.Live })
	planned := at >= 0
	if planned && lifecycle.AllowOn(lifecycle.Change, c) != nil {
		return domain.Conflict("%s can be changed until the start, and crossing %s is %s: its plan is in use. "+
			"docs/settings.md lists what can be changed while it runs", changes[at].Setting.Key, c.Name,
			c.Kind.PhaseLabel(c.Phase))
	}
	if c.Phase == domain.PhaseCuttingOver {
		return domain.Conflict("crossing %s is cutting over; its settings stand until that has ended", c.Name)
	}
	if err := k.records.SaveSettings(ctx, c, s, planned); err != nil {
		return err
	}
	k.recordSettings(ctx, actor, c.Name, "settings of "+c.Name, changes)
	return nil
}

// recordSettings writes into the journal which settings somebody changed, and to what.
func (k *Commands) recordSettings(ctx context.Context, actor, crossing, what string, list []domain.SettingChange) {
	if len(list) == 0 {
		return
	}
	public, detail := domain.ChangesText(list)
	k.journal.Record(ctx, domain.JournalEntry{Actor: actor, Crossing: crossing, Act: "change", Severity: "info",
		Message: fmt.Sprintf("%s changed %s: %s", actor, what, public), Detail: detail})
}

// ChangeDefaults changes what new crossings begin with.
func (k *Commands) ChangeDefaults(ctx context.Context, set domain.Settings, actor string) error {
	before, err := k.records.Defaults(ctx)
	if err != nil {
		return err
	}
	if err := set.Validate(); err != nil {
		return err
	}
	if err := k.records.SaveDefaults(ctx, set); err != nil {
		return err
	}
	k.recordSettings(ctx, actor, "", "the defaults for new crossings", before.Changes(set))
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

// ChooseTables replaces what is planned for a crossing that has not started; a
// survey or fit check made before no longer counts.
func (k *Commands) ChooseTables(ctx context.Context, c *domain.Crossing, patterns []string, rules []domain.Rule,
	planning domain.Planning, actor string) error {
	if err := lifecycle.AllowOn(lifecycle.Change, c); err != nil {
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
	policy, err := k.records.Policy(ctx)
	if err != nil {
		return err
	}
	if err := k.rules.CheckPolicy(ctx, policy, c.Settings, patterns); err != nil {
		return err
	}
	if slices.Contains(policy.Locked, "rules") {
		rules = policy.MergeRules(rules)
	}
	if err := k.records.SavePlanning(ctx, c, patterns, rules, planning); err != nil {
		return err
	}
	k.journal.Record(ctx, domain.JournalEntry{Actor: actor, Crossing: c.Name, Act: "change", Severity: "info",
		Message: fmt.Sprintf("%s planned %s anew: tables %s; %s, %s", actor, c.Name,
			tablesText(patterns, planning), domain.Many(int64(len(rules)), "rule"), domain.Counted(len(planning.Queries),
				"query",
				"queries")),
		Detail: planChanges(plan{c.Patterns, c.Rules, c.Planning}, plan{patterns, rules, planning})})
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

package domain

import (
	"encoding/json"
	"reflect"
	"slices"
)

// Check is something that must have been done before a crossing goes on.
type Check string

// What a policy can require.
const (
	CheckFit       Check = "fit check"  // of all tables, before the start, with every value fitting
	CheckCompare   Check = "comparison" // by hashes and clean, before a cutover
	CheckRehearsal Check = "rehearsal"  // within the pause budget, before a cutover
)

// Policy is what an organisation says once for all its crossings.
type Policy struct {
	Tables []string `json:"tables,omitempty" yaml:"tables,omitempty"` // patterns that new crossings begin with
	// for every crossing, before its own; locked: behind them
	Rules  []Rule  `json:"rules,omitempty" yaml:"rules,omitempty"`
	Checks []Check `json:"checks,omitempty" yaml:"checks,omitempty"`
	// Locked names what crossings cannot have otherwise: settings by their keys, and tables
	// and rules.
	Locked []string `json:"locked,omitempty" yaml:"locked,omitempty"`
	// How many days the records keep what is over: the journal; and runs, tasks,
	// comparisons with their findings, and cutovers. 0: for ever.
	JournalDays int `json:"journal_days,omitempty" yaml:"journal_days,omitempty"`
	HistoryDays int `json:"history_days,omitempty" yaml:"history_days,omitempty"`
}

// UnmarshalJSON reads the policy's wishes, of which some may be from before a setting had its
// present name.
func (h *Policy) UnmarshalJSON(text []byte) error {
	type plain Policy
	if err := json.Unmarshal(text, (*plain)(h)); err != nil {
		return err
	}
	for i, l := range h.Locked {
		if d, ok := SettingFor(l); ok {
			h.Locked[i] = d.Key
		}
	}
	return nil
}

// leastDays is the shortest time for which the records keep what is over: a mistake must not
// empty them before somebody has looked.
const leastDays = 7

// Validate says what is wrong with a policy, or nil.
func (h Policy) Validate() error {
	if err := ValidPatterns(h.Tables); err != nil {
		return err
	}
	if err := ValidRules(h.Rules); err != nil {
		return err
	}
	for _, c := range h.Checks {
		if c != CheckFit && c != CheckCompare && c != CheckRehearsal {
			return Invalid("checks names %q; choose from %q, %q and %q", c, CheckFit, CheckCompare, CheckRehearsal)
		}
	}
	for _, keep := range []struct {
		name string
		days int
	}{{"journal_days", h.JournalDays}, {"history_days", h.HistoryDays}} {
		if keep.days != 0 && (keep.days < leastDays || keep.days > 36_500) {
			return Invalid("%s is %d; give from %d to 36500 days, or 0 to keep everything", keep.name, keep.days, leastDays)
		}
	}
	var names []string
	for _, d := range SettingsList() {
		names = append(names, d.Key)
	}
	names = append(names, "rules", "tables")
	for _, l := range h.Locked {
		if _, known := SettingFor(l); !known && !slices.Contains(names, l) {
			return Invalid("locked names %q; choose from %q", l, names)
		}
	}
	return nil
}

// Locks reports whether crossings cannot have a setting otherwise.
func (h Policy) Locks(d Setting) bool {
	return slices.ContainsFunc(h.Locked, func(l string) bool { return l == d.Key || slices.Contains(d.Was, l) })
}

// MergeRules puts the policy's rules with a crossing's own: in front, where the crossing's
// win, or behind them where rules are locked.
func (h Policy) MergeRules(rules []Rule) []Rule {
	own := slices.DeleteFunc(slices.Clone(rules), func(r Rule) bool {
		return slices.ContainsFunc(h.Rules, func(x Rule) bool { return reflect.DeepEqual(x, r) })
	})
	if slices.Contains(h.Locked, "rules") {
		return append(own, h.Rules...)
	}
	return append(slices.Clone(h.Rules), own...)
}

// Hold returns an error when settings or patterns are otherwise than the policy
// lets them be. Base is what the policy's settings are.
func (h Policy) Hold(base, s Settings, patterns []string) error {
	if slices.Contains(h.Locked, "tables") && !slices.Equal(patterns, h.Tables) {
		return Invalid("the tables of crossings are locked to %q by this service's policy; an admin can change it "+
			"('dustyferry policy')", h.Tables)
	}
	for _, c := range base.Changes(s) {
		if h.Locks(c.Setting) {
			return Invalid("%s is locked by this service's policy; leave it at what new crossings begin with, or have an "+
				"admin change it ('dustyferry policy')", c.Setting.Key)
		}
	}
	return nil
}

// Requires reports whether the policy wants a check.
func (h Policy) Requires(c Check) bool { return slices.Contains(h.Checks, c) }

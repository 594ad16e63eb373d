package domain

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"
)

// Check is something that must have been done before a crossing goes on.
type Check string

// What a house can require.
const (
	CheckFit       Check = "fit check"  // of all tables, before the start, with every value fitting
	CheckCompare   Check = "comparison" // by hashes and clean, before a cutover
	CheckRehearsal Check = "rehearsal"  // within the pause budget, before a cutover
)

// House is what an organisation says once for all its crossings.
type House struct {
	Tables []string `json:"tables,omitempty" yaml:"tables,omitempty"` // patterns that new crossings begin with
	Rules  []Rule   `json:"rules,omitempty" yaml:"rules,omitempty"`   // for every crossing, before its own; locked: behind them
	Checks []Check  `json:"checks,omitempty" yaml:"checks,omitempty"`
	// Locked names what crossings cannot have otherwise: settings, as the API calls
	// them without a unit, and tables and rules.
	Locked []string `json:"locked,omitempty" yaml:"locked,omitempty"`
	// How many days the records keep what is over: the journal; and runs, tasks,
	// comparisons with their findings, and cutovers. 0: for ever.
	JournalDays int `json:"journal_days,omitempty" yaml:"journal_days,omitempty"`
	HistoryDays int `json:"history_days,omitempty" yaml:"history_days,omitempty"`
}

// leastDays is the shortest time for which the records keep what is over: a mistake must not
// empty them before somebody has looked.
const leastDays = 7

// lockable are the settings by the names that people know, with those of their
// record.
func lockable() map[string]any {
	text, _ := json.Marshal(DefaultSettings())
	out := map[string]any{}
	_ = json.Unmarshal(text, &out)
	return out
}

// Validate says what is wrong with a house's wishes, or nil.
func (h House) Validate() error {
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
	names := append(slices.Sorted(maps.Keys(lockable())), "rules", "tables")
	for _, l := range h.Locked {
		if !slices.Contains(names, l) {
			return Invalid("locked names %q; choose from %q", l, names)
		}
	}
	return nil
}

// Lay puts the house's rules with a crossing's own: in front, where the crossing's
// win, or behind them where rules are locked.
func (h House) Lay(rules []Rule) []Rule {
	own := slices.DeleteFunc(slices.Clone(rules), func(r Rule) bool {
		return slices.ContainsFunc(h.Rules, func(x Rule) bool { return reflect.DeepEqual(x, r) })
	})
	if slices.Contains(h.Locked, "rules") {
		return append(own, h.Rules...)
	}
	return append(slices.Clone(h.Rules), own...)
}

// Hold returns an error when settings or patterns are otherwise than the house
// lets them be. Base is what the house's settings are.
func (h House) Hold(base, s Settings, patterns []string) error {
	as := func(s Settings) map[string]any {
		text, _ := json.Marshal(s)
		out := map[string]any{}
		_ = json.Unmarshal(text, &out)
		return out
	}
	house, here := as(base), as(s)
	for _, l := range h.Locked {
		switch {
		case l == "rules":
		case l == "tables":
			if !slices.Equal(patterns, h.Tables) {
				return Invalid("the tables of crossings are locked to %q by this service's house rules; an admin can change those ('dustyferry house')", h.Tables)
			}
		case !reflect.DeepEqual(house[l], here[l]):
			return Invalid("%s is locked by this service's house rules; leave it at what new crossings begin with, or have an admin change those ('dustyferry house')", l)
		}
	}
	return nil
}

// Requires reports whether the house wants a check.
func (h House) Requires(c Check) bool { return slices.Contains(h.Checks, c) }

// Over fills what settings leave unsaid with those of a base.
func (s Settings) Over(base Settings) Settings {
	v, b := reflect.ValueOf(&s).Elem(), reflect.ValueOf(base)
	for i := range v.NumField() {
		if v.Field(i).IsZero() {
			v.Field(i).Set(b.Field(i))
		}
	}
	return s
}

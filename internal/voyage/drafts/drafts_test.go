package drafts

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// kept is the records and the journal in memory; a source of its engine stops writes by a
// person's word alone.
type kept struct {
	policy domain.Policy
	added  []domain.Crossing
	said   []string
}

func (k *kept) Policy(context.Context) (domain.Policy, error) { return k.policy, nil }
func (k *kept) Defaults(context.Context) (domain.Settings, error) {
	return domain.DefaultSettings(), nil
}
func (k *kept) Driver(string) (engine.Driver, error) { return word{}, nil }

func (k *kept) Database(_ context.Context, name string) (domain.Database, error) {
	id := int64(slices.Index([]string{"", "old", "new"}, name))
	if id < 1 {
		return domain.Database{}, domain.NotFound("no database named %s", name)
	}
	return domain.Database{ID: id, Name: name}, nil
}

func (k *kept) AddCrossing(_ context.Context, c domain.Crossing) (int64, error) {
	k.added = append(k.added, c)
	return 1, nil
}

func (k *kept) CheckStopMethod(_ context.Context, _ string, m domain.StopMethod) error {
	if m != domain.StopWord {
		return domain.Invalid("the stop method %s is not there", m)
	}
	return nil
}

func (k *kept) Recordf(_ context.Context, _, _, _, _, _, format string, args ...any) {
	k.said = append(k.said, fmt.Sprintf(format, args...))
}

// word is an engine whose sources stop writes by a person's word alone.
type word struct{ engine.Driver }

func (word) StopMethods() []domain.StopMethod { return []domain.StopMethod{domain.StopWord} }

func (word) ParsePosition(text string) (domain.Position, error) {
	n, err := strconv.ParseUint(text, 10, 64)
	return domain.PositionAt(n), err
}

func (word) FormatPosition(p domain.Position) string { return fmt.Sprint(p.Number()) }

func (word) CheckPlace(text string) error {
	if text == "nowhere" {
		return domain.Invalid("there is no such place")
	}
	return nil
}

func create(t *testing.T, k *kept, stopChosen bool, change func(*domain.Crossing)) error {
	t.Helper()
	c := domain.Crossing{Name: "spring", Source: "old", Target: "new", Settings: domain.DefaultSettings()}
	change(&c)
	d := New(k, k, k)
	return d.Create(t.Context(), c, "0123456789ab", stopChosen, "ann")
}

func TestADraftIsComplete(t *testing.T) {
	k := &kept{policy: domain.Policy{Tables: []string{"shop.*"}, Rules: []domain.Rule{{Tables: "shop.*",
		Schema: "honey"}}}}
	if err := create(t, k, false, func(*domain.Crossing) {}); err != nil {
		t.Fatal(err)
	}
	c := k.added[0]
	if c.Kind != domain.KindLoadCapture || c.UID != "0123456789ab" || c.SourceID != 1 || c.TargetID != 2 ||
		!slices.Equal(c.Patterns, []string{"shop.*"}) ||
		len(c.Rules) != 1 || c.Settings.Lanes == 0 || c.Settings.StopMethod != domain.StopWord {
		t.Errorf("%+v", c)
	}
	if len(k.said) != 1 || k.said[0] != "ann created spring: load+capture from old to new" {
		t.Errorf("said %q", k.said)
	}
	k = &kept{}
	if err := create(t, k, false, func(c *domain.Crossing) { c.Kind = domain.KindCapture }); err != nil ||
		k.added[0].Settings.ExistingRows != "keep" || k.added[0].Patterns == nil || k.added[0].Rules == nil {
		t.Errorf("%v, %+v", err, k.added)
	}
}

func TestWhatIsNoDraft(t *testing.T) {
	for _, x := range []struct {
		word   string
		chosen bool
		change func(*domain.Crossing)
	}{
		{"name", false, func(c *domain.Crossing) { c.Name = "a b" }},
		{"kind", false, func(c *domain.Crossing) { c.Kind = "dance" }},
		{"choose two databases", false, func(c *domain.Crossing) { c.Target = "old" }},
		{"no database named lost", false, func(c *domain.Crossing) { c.Source = "lost" }},
		{"no database named lost", false, func(c *domain.Crossing) { c.Target = "lost" }},
		{"lanes", false, func(c *domain.Crossing) { c.Settings.Lanes = 100000 }},
		{"no such place", false, func(c *domain.Crossing) { c.Kind, c.Settings.StartFrom = domain.KindCapture, "nowhere" }},
		{"stop method lock", true, func(c *domain.Crossing) { c.Settings.StopMethod = domain.StopLock }},
		{"rule", false, func(c *domain.Crossing) { c.Rules = []domain.Rule{{}} }},
	} {
		k := &kept{}
		if err := create(t, k, x.chosen, x.change); err == nil || !strings.Contains(err.Error(), x.word) {
			t.Errorf("%s: %v", x.word, err)
		}
		if len(k.added)+len(k.said) > 0 {
			t.Errorf("%s: it was kept", x.word)
		}
	}
	k := &kept{policy: domain.Policy{Tables: []string{"shop.*"}, Locked: []string{"tables", "lanes"}}}
	for _, change := range []func(*domain.Crossing){
		func(c *domain.Crossing) { c.Patterns = []string{"mine.*"} },
		func(c *domain.Crossing) { c.Settings.Lanes = 7 },
	} {
		if err := create(t, k, false, change); err == nil || len(k.added) > 0 {
			t.Errorf("what the policy locks was taken: %v", err)
		}
	}
}

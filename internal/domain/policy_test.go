package domain

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
)

func TestHouse(t *testing.T) {
	names := Rule{Tables: "*.*", Schema: "honey"}
	h := Policy{Tables: []string{"shop.*"}, Rules: []Rule{names}, Locked: []string{"lanes", "tables"}}
	own := Rule{Tables: "shop.a", Schema: "other"}
	if got := h.MergeRules([]Rule{own}); !reflect.DeepEqual(got, []Rule{names, own}) ||
		RuleFor(got, TableName{"shop", "a"}).Schema != "other" {
		t.Errorf("the crossing's own rule should win: %+v", got)
	}
	h.Locked = append(h.Locked, "rules")
	if got := h.MergeRules(h.MergeRules([]Rule{own})); !reflect.DeepEqual(got, []Rule{own, names}) ||
		RuleFor(got, TableName{"shop", "a"}).Schema != "honey" {
		t.Errorf("the policy's rule should win: %+v", got)
	}
	base := DefaultSettings()
	base.Lanes = 4
	other := base
	other.ChunkBytes = 1 << 20
	if err := h.Hold(base, other, []string{"shop.*"}); err != nil {
		t.Error(err)
	}
	other.Lanes = 8
	if err := h.Hold(base, other, []string{"shop.*"}); err == nil || !strings.Contains(err.Error(), "lanes is locked") {
		t.Errorf("%v", err)
	}
	if err := h.Hold(base, base, nil); err == nil || !strings.Contains(err.Error(), "tables of crossings are locked") {
		t.Errorf("%v", err)
	}
	for say, bad := range map[string]Policy{
		"locked names":    {Locked: []string{"lane"}},
		"checks names":    {Checks: []Check{"luck"}},
		"changes nothing": {Rules: []Rule{{Tables: "a.b"}}},
	} {
		if err := bad.Validate(); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	var old Policy
	if err := json.Unmarshal([]byte(`{"locked": ["chunk_bytes", "tables"]}`), &old); err != nil ||
		!reflect.DeepEqual(old.Locked, []string{"chunk_size", "tables"}) {
		t.Errorf("%+v (%v)", old, err)
	}
	if err := old.Hold(base, other, nil); err == nil || !strings.Contains(err.Error(), "chunk_size is locked") {
		t.Errorf("%v", err)
	}
}

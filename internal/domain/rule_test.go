package domain

import (
	"encoding/json"
	"testing"
)

// TestRulesOfBefore: what was kept under the former name is read as what it is called now.
func TestRulesOfBefore(t *testing.T) {
	for text, want := range map[string]string{`{"tables": "*", "standing": "keep"}`: "keep",
		`{"tables": "*", "existing_rows": "empty", "standing": "keep"}`: "empty", `{"tables": "*"}`: ""} {
		var r Rule
		if err := json.Unmarshal([]byte(text), &r); err != nil || r.ExistingRows != want || r.OldStanding != "" {
			t.Errorf("%s is %+v, %v", text, r, err)
		}
	}
	if r := RuleFor([]Rule{{Tables: "*", OldStanding: "replace"}}, TableName{Schema: "s",
		Name: "t"}); r.ExistingRows != "replace" {
		t.Errorf("of a manifest of before: %+v", r)
	}
}

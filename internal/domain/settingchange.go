package domain

import (
	"fmt"
	"reflect"
	"strings"
	"time"
)

// SettingChange is one setting that is another now.
type SettingChange struct {
	Name     string // as the API calls it, without a unit
	Old, New string
}

func (c SettingChange) String() string { return fmt.Sprintf("%s: %s → %s", c.Name, c.Old, c.New) }

// secretSettings may hold passwords: they are named where they change, and what they are
// stands where only those see it who may.
var secretSettings = map[string]bool{"handover_command": true, "handover_url": true}

// Changes lists the settings that differ, in the order of the record.
func (s Settings) Changes(to Settings) []SettingChange {
	var out []SettingChange
	a, b := reflect.ValueOf(s), reflect.ValueOf(to)
	for i := range a.NumField() {
		x, y := settingText(a.Field(i).Interface()), settingText(b.Field(i).Interface())
		if x != y {
			name, _, _ := strings.Cut(a.Type().Field(i).Tag.Get("json"), ",")
			out = append(out, SettingChange{name, x, y})
		}
	}
	return out
}

func settingText(v any) string {
	switch x := v.(type) {
	case time.Duration:
		return x.String()
	case []StepName:
		words := make([]string, len(x))
		for i, w := range x {
			words[i] = string(w)
		}
		return listText(words)
	case []string:
		return listText(x)
	}
	if text := fmt.Sprint(v); text != "" {
		return text
	}
	return "none"
}

func listText(words []string) string {
	if len(words) == 0 {
		return "none"
	}
	return strings.Join(words, ", ")
}

// ChangesText says what changed twice: for everybody, where settings that may hold secrets
// are only named, and word for word.
func ChangesText(list []SettingChange) (public, detail string) {
	var p, d []string
	for _, c := range list {
		d = append(d, c.String())
		if secretSettings[c.Name] {
			p = append(p, c.Name+" is another")
			continue
		}
		p = append(p, c.String())
	}
	return strings.Join(p, "; "), strings.Join(d, "\n")
}

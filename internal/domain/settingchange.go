package domain

import (
	"fmt"
	"strings"
)

// SettingChange is one setting that is another now.
type SettingChange struct {
	Setting  Setting
	Old, New string
}

func (c SettingChange) String() string {
	return fmt.Sprintf("%s: %s → %s", c.Setting.Key, c.Old, c.New)
}

// Changes lists the settings that differ.
func (s Settings) Changes(to Settings) []SettingChange {
	var out []SettingChange
	for _, d := range SettingsList() {
		if x, y := d.Text(d.Value(s)), d.Text(d.Value(to)); x != y {
			out = append(out, SettingChange{d, x, y})
		}
	}
	return out
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
		if c.Setting.Secret {
			p = append(p, c.Setting.Key+" is another")
			continue
		}
		p = append(p, c.String())
	}
	return strings.Join(p, "; "), strings.Join(d, "\n")
}

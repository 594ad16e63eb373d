package engine

import (
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/domain"
)

// QuotedNames tells of names of planned tables and columns that people and
// applications have to quote on a target of another engine. We quote all.
func QuotedNames(plans []domain.TablePlan, quotes func(name string) bool, why string) []domain.Entry {
	var names []string
	add := func(name string) {
		if quotes(name) && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for i := range plans {
		p := &plans[i]
		if !p.CrossEngine {
			continue
		}
		add(p.Target.Name)
		for _, c := range p.TargetTableColumns() {
			add(c.Name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	text := strings.Join(names[:min(len(names), 12)], ", ")
	if len(names) > 12 {
		text += fmt.Sprintf(" and %d more", len(names)-12)
	}
	return []domain.Entry{{Verdict: domain.Notice, Topic: "names", Subject: "target",
		Remedy: "rename them by a rule, or quote them in the applications",
		Measured: fmt.Sprintf("%s must be quoted there, as %s: %s", domain.Counted(len(names),
			"name of a table or column", "names of tables and columns"), why, text)}}
}

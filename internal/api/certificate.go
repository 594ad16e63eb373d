package api

import (
	"context"
	"dustyferry/internal/domain"
	"fmt"
	"strings"
)

// certificateText is the readable form of a certificate: fixed width, to be
// read, printed and filed.
func certificateText(c map[string]any) string {
	var b strings.Builder
	line := func(k string, v any) {
		if v != nil && v != "" {
			fmt.Fprintf(&b, "  %-18s %v\n", k, v)
		}
	}
	side := func(v any) string {
		m, _ := v.(map[string]any)
		return fmt.Sprintf("%v (%v at %v:%v/%v as %v)", m["name"], m["engine"], m["host"], m["port"], m["database"], m["user"])
	}
	fmt.Fprintf(&b, "CERTIFICATE OF THE CROSSING %v\n\n", c["crossing"])
	line("kind", c["kind"])
	line("from", side(c["source"]))
	line("to", side(c["target"]))
	line("phase at closing", c["phase"])
	for _, k := range []string{"created_at", "started_at", "landed_at", "in_step_at", "cut_over_at", "closed_at"} {
		line(strings.ReplaceAll(k, "_", " "), c[k])
	}
	line("captured from", c["start_position"])
	line("closed by", c["closed_by"])
	if r, ok := c["reconciliation"].(map[string]any); ok {
		b.WriteString("\nRECONCILIATION\n")
		line("result", fmt.Sprintf("%v (%v), %s findings", r["state"], r["depth"], whole(r["findings"])))
		line("rows", fmt.Sprintf("%s on the source, %s on the target, in %v tables", whole(r["source_rows"]), whole(r["target_rows"]), r["tables"]))
		line("at", r["position"])
		line("ended", r["ended_at"])
	} else {
		b.WriteString("\nNo reconciliation was made.\n")
	}
	if n := num(c["tables_not_compared"]); n > 0 {
		fmt.Fprintf(&b, "\nNot compared since they were loaded last: %s of the tables below.\n", whole(n))
	}
	if k, ok := c["cutover"].(map[string]any); ok {
		b.WriteString("\nCUTOVER\n")
		line("decided by", k["decided_by"])
		line("at", k["at"])
		line("end position", k["end_position"])
		if s, ok := k["write_pause_seconds"].(float64); ok {
			line("writes paused for", fmt.Sprintf("%.3f s", s))
		}
		steps, _ := k["steps"].([]any)
		for _, s := range steps {
			if m, ok := s.(map[string]any); ok {
				sec, _ := m["seconds"].(float64)
				fmt.Fprintf(&b, "    %-18s %-8v %8.3f s  %v\n", m["step"], m["state"], sec, m["note"])
			}
		}
	}
	named := func(title, what, count, list string) {
		n := num(c[count])
		if n == 0 {
			return
		}
		fmt.Fprintf(&b, "\n%s\n  %s %s\n", title, whole(n), what)
		rows, _ := c[list].([]any)
		for _, a := range rows {
			if m, ok := a.(map[string]any); ok {
				key, _ := m["key"].([]any)
				fmt.Fprintf(&b, "    %v key (%s): %v\n", m["table"], strings.Trim(fmt.Sprint(key), "[]"), m["error"])
			}
		}
		if len(rows) < int(n) {
			fmt.Fprintf(&b, "    and %d more\n", int(n)-len(rows))
		}
	}
	named("SET ASIDE BY THE LOAD", "rows that the target could not take; where later changes or repairs did not bring them, they are not there", "rows_set_aside", "set_aside")
	named("CUT BY THE LOAD", "notes of values longer than the rules allow, which landed cut; cut values of the changes that followed are in the journal", "rows_cut", "cut")
	tables, _ := c["tables"].([]any)
	width := len("table")
	for _, t := range tables {
		if m, ok := t.(map[string]any); ok {
			width = max(width, len(fmt.Sprint(m["table"])))
		}
	}
	fmt.Fprintf(&b, "\nTABLES\n  %-*s %14s %14s %14s %10s %9s  %-20s  %s\n", width, "table", "rows loaded", "source rows", "target rows", "changes", "findings", "compared", "hash on both sides")
	for _, t := range tables {
		m, ok := t.(map[string]any)
		if !ok {
			continue
		}
		n := num(m["inserts"]) + num(m["updates"]) + num(m["deletes"])
		hash, when := m["source_hash"], m["compared_at"]
		switch {
		case when == nil:
			hash, when = "not compared since it was loaded", "-"
		case hash == nil:
			hash = "compared by counts only"
		case hash != m["target_hash"]:
			hash = fmt.Sprintf("%v / %v", hash, m["target_hash"])
		}
		fmt.Fprintf(&b, "  %-*v %14s %14s %14s %10s %9s  %-20v  %v\n", width, m["table"], whole(m["rows_loaded"]), whole(m["source_rows"]), whole(m["target_rows"]), domain.Grouped(int64(n)), whole(m["findings"]), when, hash)
	}
	return b.String()
}

// hideKeys takes values of rows out of an account that is shown to who may not see them.
func hideKeys(ctx context.Context, account map[string]any) {
	if who(ctx).MaySeeRows() {
		return
	}
	for _, list := range []string{"set_aside", "cut"} {
		rows, _ := account[list].([]any)
		for _, r := range rows {
			if m, ok := r.(map[string]any); ok {
				m["key"] = []any{"(hidden)"}
				m["error"] = hidden(ctx, fmt.Sprint(m["error"]))
			}
		}
	}
}

func num(v any) float64 {
	f, _ := v.(float64)
	return f
}

func whole(v any) string {
	if f, ok := v.(float64); ok {
		return domain.Grouped(int64(f))
	}
	return "-"
}

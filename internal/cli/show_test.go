package cli

import (
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"dustyferry/internal/contract"
)

func TestNumbersForPeople(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1\u2009000", 1234567: "1\u2009234\u2009567",
		-12345: "-12\u2009345"} {
		if got := num(n); got != want {
			t.Errorf("%d is %q, want %q", n, got, want)
		}
	}
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1500: "1.5 kB", 64_000_000: "64.0 MB",
		7_000_000_000_000_000: "7000.0 TB"} {
		if got := size(n); got != want {
			t.Errorf("%d is %q, want %q", n, got, want)
		}
	}
	for s, want := range map[float64]string{0: "0 ms", 0.00002: "under 0.1 ms", 0.0004: "0.4 ms", 0.95: "950 ms",
		1.25: "1.2 s", 61: "1 min 1 s", 7325: "2 h 2 min"} {
		if got := took(s); got != want {
			t.Errorf("%v is %q, want %q", s, got, want)
		}
	}
}

func TestTablesLineUp(t *testing.T) {
	w := &table{}
	w.row("NAME", right+"ROWS", "KEY")
	w.row("Łódź", right+"1 000", "id")
	w.row("a", right+"7", "")
	want := "NAME   ROWS  KEY\nŁódź  1 000  id\na         7\n"
	if got := w.String(); got != want {
		t.Errorf("got\n%swant\n%s", got, want)
	}
}

// TestNoValueSteersTheTerminal: what rows hold is shown, and does nothing.
func TestNoValueSteersTheTerminal(t *testing.T) {
	w := &table{}
	w.row("a", right+"7", "{\"a\":\n1}\t\x1b[2J")
	w.line("key %s:\n%s", "\x1b]0;x\a", "'it''s'")
	want := "a  7  {\"a\":\\n1}\\t\\x1b[2J\nkey \\x1b]0;x\\a:\n'it''s'\n"
	if got := w.String(); got != want {
		t.Errorf("got\n%q, want\n%q", got, want)
	}
	if got := clip("a\r\nb\x9bx\u202e", 20); got != `a\r\nb\x9bx\u202e` {
		t.Errorf("%q", got)
	}
}

func TestFindingsShowWhatCannotBeSeen(t *testing.T) {
	w := &table{}
	a, b := "oak ", "oak\u00a0"
	r := contract.Reconciliation{Id: 3, Depth: "hashes", State: "differing", Findings: 902}
	showFindings(w, "spring", r, contract.FindingPage{Total: 900, Matched: 900, Findings: []contract.Finding{
		{Id: 1, Table: "s.t", Kind: "differing", Key: []string{"7"}, Columns: []string{"tree"}, Order: []string{"id", "tree"},
			Source: map[string]*string{"tree": &a}, Target: map[string]*string{"tree": &b}, State: "open"},
		{Id: 2, Table: "s.bag", Kind: "missing on target", Copies: 2, Order: []string{"v"},
			Source: map[string]*string{"v": nil}, State: "open"},
	}}, 100)
	for _, want := range []string{`Reconciliation 3 (hashes, all tables`, `Findings 101 to 102 of 900.`,
		`2 more were counted and not kept`, `798 more: dustyferry findings spring --offset 102`, `#1 s.t key (7): differing`,
		`"oak "`, `"oak\u00a0"`, `2 copies`, `NULL`, `(no row)`} {
		if !strings.Contains(w.String(), want) {
			t.Errorf("%q is missing in\n%s", want, w)
		}
	}
}

func TestTheWatchFitsItsTerminal(t *testing.T) {
	var tables []contract.Table
	for i := range 200 {
		tables = append(tables, contract.Table{Name: strings.Repeat("a very long name ", 5) + string(rune('a'+i%26)),
			State: "loading", Chunks: 10, ChunksLanded: i % 10, Rows: 1_234_567_890,
			RowsPerSecond: 1_234_567, BytesEstimated: 10, Bytes: 4, RemainingSeconds: ptr(7200.0)})
	}
	tables[0].State, tables[0].Reason = "held", strings.Repeat("a long reason with many words ", 12)
	c := contract.Crossing{Name: "spring", Source: strings.Repeat("old", 30), Target: "new", Phase: "loading",
		Condition: "running", Progress: contract.Progress{Chunks: 2000, ChunksLanded: 700,
			Bytes: 35, BytesEstimated: 100, Rows: 9_876_543_210, RowsEstimated: 20_000_000_000, RemainingSeconds: ptr(75.0),
			Capture: "w", LagSeconds: 1.5}}
	w := newWindow(t.Context(), nil, "spring")
	w.Update(sight{crossing: c, tables: contract.TablePage{Tables: tables, Total: 200,
		States: map[string]int{"loading": 199, "held": 1}}, at: time.Now(),
		history: contract.History{LagSeconds: []float64{0, 1, 4, 2, 1}, From: time.Now().Add(-time.Minute), To: time.Now()},
		lanes:   contract.Lanes{Wanted: 4, Carrying: []contract.Lane{{Table: tables[0].Name, Worker: "w"}}}})
	for _, size := range [][2]int{{80, 24}, {120, 40}, {200, 60}, {40, 12}} {
		w.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		lines := w.draw()
		if len(lines) > size[1] {
			t.Errorf("%d lines on a terminal of %d", len(lines), size[1])
		}
		for _, l := range lines {
			if n := lipgloss.Width(l); n > size[0] {
				t.Errorf("%d columns on a terminal of %d: %s", n, size[0], l)
			}
		}
		if size[1] < 24 {
			continue
		}
		text := strings.Join(lines, "\n")
		for _, want := range []string{"35 %", "stuck", "1 held", "more tables", "q leave"} {
			if !strings.Contains(text, want) {
				t.Errorf("%d by %d lacks %q:\n%s", size[0], size[1], want, text)
			}
		}
	}
	// A key that acts asks first, and anything but yes does nothing.
	press := func(k rune) tea.Cmd { _, cmd := w.Update(tea.KeyPressMsg{Code: k, Text: string(k)}); return cmd }
	if cmd := press('p'); cmd != nil || !strings.Contains(strings.Join(w.draw(), "\n"), "y/n") {
		t.Error("pause is not asked about")
	}
	if cmd := press('n'); cmd != nil || !strings.Contains(strings.Join(w.draw(), "\n"), "nothing was done") {
		t.Error("no means something else than no")
	}
	w.Update(lostMsg{})
	if !strings.Contains(strings.Join(w.draw(), "\n"), "Not live") {
		t.Error("a lost stream is not said")
	}
	if line := plainLine(c); !strings.Contains(line, "35 % loaded") || !strings.Contains(line, "1 min 15 s left") ||
		!strings.Contains(line, "lag 1.5 s") {
		t.Errorf("plain line: %s", line)
	}
	c.Progress.ChunksLanded, c.Progress.Chunks = 1999, 2000
	c.Progress.Bytes = 500
	if percent(c.Progress) != "99 %" {
		t.Errorf("a load with a chunk missing shows %s", percent(c.Progress))
	}
}

func ptr[T any](v T) *T { return &v }

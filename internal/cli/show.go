package cli

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/goccy/go-yaml"

	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
)

var dashes = strings.NewReplacer("-", "_")

// shortLag is the lag, or that nobody measures it.
func shortLag(p contract.Progress) string {
	switch {
	case p.LagAgeSeconds != nil && *p.LagAgeSeconds < 5: // it has only just begun
		return "not measured yet"
	case p.LagAgeSeconds != nil:
		return "not measured for " + took(*p.LagAgeSeconds)
	}
	return took(p.LagSeconds)
}

// lagText is how far the target is behind, and until when it will be.
func lagText(p contract.Progress) string {
	out := shortLag(p)
	if p.LagP99Seconds != nil && p.LagAgeSeconds == nil {
		out += fmt.Sprintf(" (99 of 100 transactions of the last minute within %s)", took(*p.LagP99Seconds))
	}
	out += ", " + size(p.LagBytes)
	if n := deref(p.LagTransactions); n > 0 {
		about := map[bool]string{true: "about "}[deref(p.LagGuessed)]
		out += ", " + about + counted(n, "transaction")
	}
	switch {
	case p.CatchUpSeconds != nil && *p.CatchUpSeconds > 0 && p.LagSeconds > 1:
		out += ", gone in about " + took(*p.CatchUpSeconds)
	case p.CatchUpSeconds == nil && p.LagSeconds > 5 && p.Capture != "waiting":
		out += ", not shrinking"
	}
	return out
}

// keptText is how much log the source keeps, and how old it is.
func keptText(p contract.Progress) string {
	out := size(p.RetainedBytes) + " on the source"
	if p.RetainedSeconds != nil && *p.RetainedSeconds >= 60 {
		out += ", the oldest " + took(*p.RetainedSeconds) + " old"
	}
	return out
}

// vouchedText is how far the rows that changes touched are compared; empty where they are not.
func vouchedText(p contract.Progress) string {
	switch {
	case p.VouchedRows == nil:
		return ""
	case (p.VouchedAt == nil || p.VouchedPosition == nil) && *p.VouchedRows > 0:
		return num(*p.VouchedRows) + " rows that changes touched compared; others wait for the next round, or the cutover"
	case p.VouchedAt == nil || p.VouchedPosition == nil:
		return "no row that changes touched is compared yet"
	}
	return fmt.Sprintf("%s rows that changes touched compared, up to %s (%s ago)", num(*p.VouchedRows), *p.VouchedPosition,
		took(time.Since(*p.VouchedAt).Round(time.Second).Seconds()))
}

// show prints a value as asked: for people as tables, for scripts as JSON or
// YAML with the contract's names.
func (a *app) show(v any, people func(w *table)) error {
	switch a.conf.GetString("output") {
	case "json":
		e := json.NewEncoder(a.out)
		e.SetIndent("", "  ")
		return e.Encode(v)
	case "yaml":
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		y, err := yaml.JSONToYAML(b)
		if err != nil {
			return err
		}
		_, err = a.out.Write(y)
		return err
	}
	t := &table{}
	people(t)
	_, err := fmt.Fprint(a.out, t.String())
	return err
}

// table lines up cells. A cell that starts with a tab is set to the right.
type table struct {
	b    strings.Builder
	rows [][]string
}

const right = "\t"

func (t *table) row(cells ...string) {
	for i, c := range cells {
		text, toRight := strings.CutPrefix(c, right)
		if text = harmless(text, ""); toRight {
			text = right + text
		}
		cells[i] = text
	}
	t.rows = append(t.rows, cells)
}

// harmless writes signs that would steer a terminal, which values of rows can have in them, as they are
// written in programs; but for those that stay.
func harmless(text, stay string) string {
	var out strings.Builder
	for i, r := range text {
		switch {
		case strings.ContainsRune(stay, r):
			out.WriteRune(r)
		case unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r):
			out.WriteString(strings.Trim(strconv.QuoteRune(r), "'"))
		case r == utf8.RuneError && !strings.HasPrefix(text[i:], string(utf8.RuneError)): // no UTF-8
			fmt.Fprintf(&out, "\\x%02x", text[i])
		default:
			out.WriteRune(r)
		}
	}
	return out.String()
}

// pairs prints names and values below each other.
func (t *table) pairs(kv ...string) {
	for i := 0; i+1 < len(kv); i += 2 {
		if kv[i+1] != "" {
			t.row(kv[i], kv[i+1])
		}
	}
	t.flush()
}

// line prints text, in its lines.
func (t *table) line(format string, args ...any) {
	t.flush()
	t.b.WriteString(harmless(fmt.Sprintf(format, args...), "\n\t") + "\n")
}

func (t *table) flush() {
	var width []int
	for _, r := range t.rows {
		for i, c := range r {
			if i == len(width) {
				width = append(width, 0)
			}
			width[i] = max(width[i], utf8.RuneCountInString(strings.TrimPrefix(c, right)))
		}
	}
	for _, r := range t.rows {
		var line strings.Builder
		for i, c := range r {
			text, toRight := strings.CutPrefix(c, right)
			pad := strings.Repeat(" ", width[i]-utf8.RuneCountInString(text))
			if i > 0 {
				line.WriteString("  ")
			}
			if toRight {
				line.WriteString(pad + text)
			} else {
				line.WriteString(text + pad)
			}
		}
		t.b.WriteString(strings.TrimRight(line.String(), " ") + "\n")
	}
	t.rows = nil
}

func (t *table) String() string {
	t.flush()
	return t.b.String()
}

// grouping is whether numbers are written for people's eyes; a program that reads the
// output gets them plain.
var grouping = true

// num writes a whole number, in groups of three with thin spaces: 1 234 567.
func num(n int64) string {
	if !grouping {
		return strconv.FormatInt(n, 10)
	}
	return domain.Grouped(n)
}

// size writes bytes with a decimal unit.
func size(n int64) string {
	f := float64(n)
	for _, u := range []string{"B", "kB", "MB", "GB", "TB"} {
		if f < 1000 || u == "TB" {
			if u == "B" {
				return fmt.Sprintf("%d B", n)
			}
			return fmt.Sprintf("%.1f %s", f, u)
		}
		f /= 1000
	}
	return ""
}

// took writes a duration in seconds for people.
func took(s float64) string {
	d := time.Duration(s * float64(time.Second))
	switch {
	case d > 0 && d < 50*time.Microsecond:
		return "under 0.1 ms"
	case d > 0 && d < 9950*time.Microsecond:
		return fmt.Sprintf("%.1f ms", float64(d)/1e6)
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute && d%time.Second == 0:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

func stampText(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04:05")
}

func deref[T any](p *T) T {
	var zero T
	if p == nil {
		return zero
	}
	return *p
}

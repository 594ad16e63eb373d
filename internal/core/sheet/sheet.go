// Package sheet understands what stands in the cells of a workbook's sheets: moments that are numbers in a
// format of days, texts with signs written by their codes, and which row names the columns. It is given
// values, and reads nothing itself. Source: ECMA-376 part 1, "SpreadsheetML".
package sheet

import (
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"dustyferry/internal/core/textrows"
	"dustyferry/internal/domain"
)

// Timely is what a cell's format makes of a number.
type Timely int

// Formats.
const (
	Number Timely = iota
	Moment        // a day, or a day and a time
	OfDay         // a time of day alone
)

// builtIn are the formats that are not written in a workbook.
var builtIn = map[int]Timely{14: Moment, 15: Moment, 16: Moment, 17: Moment, 18: OfDay, 19: OfDay, 20: OfDay,
	21: OfDay, 22: Moment, 27: Moment, 28: Moment, 29: Moment, 30: Moment, 31: Moment, 34: OfDay, 35: OfDay, 36: Moment,
	45: OfDay, 47: OfDay, 50: Moment, 51: Moment, 52: Moment, 53: Moment, 54: Moment, 57: Moment, 58: Moment}

// quoted is what stands in a format for itself: texts, single signs, fills, colours and conditions, but for
// counted hours, minutes and seconds.
var quoted = regexp.MustCompile(`"[^"]*"|\\.|_.|\*.|\[[^\]]*\]`)

// FormatOf is what a format makes of a number, by its number and, where it is a workbook's own, its code.
func FormatOf(id int, code string) Timely {
	if code == "" {
		return builtIn[id]
	}
	code, _, _ = strings.Cut(code, ";") // that of positive numbers
	if strings.Contains(strings.ToLower(code), "general") {
		return Number
	}
	lower := strings.ToLower(quoted.ReplaceAllStringFunc(code, func(s string) string {
		switch strings.ToLower(strings.Trim(s, "[]")) {
		case "h", "hh", "m", "mm", "s", "ss": // a length of time, which can be more than a day
			if s[0] == '[' {
				return "#"
			}
		}
		return ""
	}))
	lower = strings.NewReplacer("e+", "", "e-", "").Replace(lower)
	switch {
	case strings.Contains(lower, "#"):
		return Number
	case strings.ContainsAny(lower, "ydeg") || strings.Contains(lower, "m") && !strings.ContainsAny(lower, "hs"):
		return Moment
	case strings.ContainsAny(lower, "hs"):
		return OfDay
	}
	return Number
}

// days of a calendar's day 0, and of the day after the one that never was.
var (
	from1900 = time.Date(1899, 12, 31, 0, 0, 0, 0, time.UTC)
	from1904 = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
)

// Time is the moment that a number stands for in a format, in the calendar that begins in 1900, in which 1900
// was a leap year, or in 1904.
func Time(number string, as Timely, in1904 bool) (string, error) {
	f, err := strconv.ParseFloat(number, 64)
	if err != nil || math.IsNaN(f) || f < 0 || f >= 2_958_466 {
		return number, fmt.Errorf("the number %.40s is no day", number)
	}
	ms := int64(math.Round(f * 86_400_000))
	day, rest := ms/86_400_000, ms%86_400_000
	const clock = "15:04:05.999"
	if as == OfDay && day == 0 {
		return time.UnixMilli(rest).UTC().Format(clock), nil
	}
	t := from1904
	if !in1904 {
		t = from1900
		switch {
		case day == 0:
			return number, fmt.Errorf("the number %.40s is no day: the calendar begins at 1", number)
		case day == 60:
			return number, fmt.Errorf("the number %.40s is February 29, 1900, which never was", number)
		case day > 60:
			day--
		}
	}
	t = t.AddDate(0, 0, int(day)).Add(time.Duration(rest) * time.Millisecond)
	if rest == 0 {
		return t.Format(time.DateOnly), nil
	}
	return t.Format(time.DateOnly + " " + clock), nil
}

// Plain writes a number with all of its digits, and no more than it has: files have up to 17, of which the
// last ones say nothing.
func Plain(number string) string {
	f, err := strconv.ParseFloat(number, 64)
	if err != nil || math.IsInf(f, 0) || math.IsNaN(f) {
		return number
	}
	if _, err := strconv.ParseInt(number, 10, 64); err == nil {
		return number
	}
	return strconv.FormatFloat(f, 'f', -1, 64)
}

var coded = regexp.MustCompile(`_x[0-9A-Fa-f]{4}_`)

// Text is a text whose signs may be written by their codes, as _x000D_.
func Text(s string) string {
	if !strings.Contains(s, "_x") {
		return s
	}
	return coded.ReplaceAllStringFunc(s, func(c string) string {
		n, err := strconv.ParseUint(c[2:6], 16, 16)
		if err != nil || n >= 0xd800 && n < 0xe000 {
			return c
		}
		return string(rune(n))
	})
}

// Column is the number of a column, from 0 on, of a cell's name as C7; -1 where it has none.
func Column(cell string) int {
	n := 0
	for i := range len(cell) {
		c := cell[i]
		switch {
		case c >= 'A' && c <= 'Z' && n < 20_000:
			n = n*26 + int(c-'A') + 1
		case c >= '0' && c <= '9' && i > 0:
			return n - 1
		default:
			return -1
		}
	}
	return n - 1
}

// Letters are those of a column.
func Letters(column int) string {
	out := ""
	for n := column + 1; n > 0; n = (n - 1) / 26 {
		out = string(rune('A'+(n-1)%26)) + out
	}
	return out
}

// Row is one with something in it.
type Row struct {
	Number int // from 1 on
	Cells  []Cell
}

// Cell is one with something in it.
type Cell struct {
	Column int
	Value  textrows.Value
	Why    string // it has no value that can be read
}

// Shape is where the table of a sheet is.
type Shape struct {
	First   int // its first column
	Columns []string
	Header  bool
	Begin   int   // the number of its first row, the names or one with values
	Above   []int // rows above it, which are none of it
}

// Tried is how many rows decide.
const Tried = 50

// ShapeOf finds the table in the first rows of a sheet: it begins with the first row that fills at least half of
// as many columns as any does. That row names the columns if it has only texts, all different.
func ShapeOf(rows []Row) (Shape, error) {
	widest := 0
	for _, r := range rows {
		widest = max(widest, len(r.Cells))
	}
	if widest == 0 {
		return Shape{}, domain.Invalid("there are no rows in the sheet")
	}
	var s Shape
	at := 0
	for at = range rows {
		if 2*len(rows[at].Cells) >= widest {
			break
		}
		s.Above = append(s.Above, rows[at].Number)
	}
	s.Begin, s.Header = rows[at].Number, names(rows[at].Cells)
	last := 0
	s.First = rows[at].Cells[0].Column
	for _, r := range rows[at:] {
		s.First, last = min(s.First, r.Cells[0].Column), max(last, r.Cells[len(r.Cells)-1].Column)
	}
	s.Columns = make([]string, last-s.First+1)
	for i := range s.Columns {
		s.Columns[i] = Letters(s.First + i)
	}
	if s.Header {
		for _, c := range rows[at].Cells {
			s.Columns[c.Column-s.First] = strings.TrimSpace(c.Value.Text)
		}
	}
	return s, nil
}

// names reports whether cells name columns.
func names(cells []Cell) bool {
	seen := map[string]bool{}
	for _, c := range cells {
		name := strings.ToLower(strings.TrimSpace(c.Value.Text))
		if c.Why != "" || c.Value.As != textrows.Quoted || name == "" || seen[name] {
			return false
		}
		seen[name] = true
	}
	return true
}

func (s Shape) String() string {
	out := fmt.Sprintf("%s from %s%d on", domain.Counted(len(s.Columns), "column", "columns"), Letters(s.First), s.Begin)
	if !s.Header {
		out += ", no names in the first row"
	}
	if len(s.Above) > 0 {
		out += fmt.Sprintf("; %s left out", domain.Counted(len(s.Above), "row above is", "rows above are"))
	}
	return out
}

// Values puts a row's cells in their columns, and says why one cannot be taken.
func (s Shape) Values(r *Row, out []textrows.Value) error {
	for i := range out {
		out[i] = textrows.Value{As: textrows.Null}
	}
	var refused error
	for _, c := range r.Cells {
		i := c.Column - s.First
		switch {
		case i < 0 || i >= len(out):
			if refused == nil {
				refused = domain.Conflict("row %d has a value in column %s, beside the table's columns (%s to %s); plan the "+
					"table anew", r.Number, Letters(c.Column), Letters(s.First), Letters(s.First+len(out)-1))
			}
		case c.Why != "":
			if refused == nil {
				refused = domain.Conflict("row %d, column %s (%s): %s", r.Number, Letters(c.Column), s.Columns[i], c.Why)
			}
			out[i] = c.Value
		default:
			out[i] = c.Value
		}
	}
	return refused
}

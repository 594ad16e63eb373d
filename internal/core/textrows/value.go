package textrows

import (
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"dustyferry/internal/core/isotime"
)

// As is how a value stands in a file.
type As int

// Ways in which a value stands.
const (
	Bare     As = iota // as a text that may be anything
	Null               // as nothing
	Number             // as a number of JSON
	Truth              // as true or false
	Quoted             // as a text that is one
	Document           // as an object or a list
	Exact              // in the neutral form of its column's type
)

// Value is a value as it stands.
type Value struct {
	Text string
	As   As
}

// kind is what a value can be read as.
type kind int

const (
	empty kind = iota
	whole
	decimal
	truth
	day
	moment
	zoned
	ofTheDay
	document
	text
)

// kind is the narrowest kind of a value. A number with zeros before it is a text: they mean something.
func (v Value) kind() kind {
	switch v.As {
	case Null:
		return empty
	case Truth:
		return truth
	case Document:
		return document
	case Number:
		return number(v.Text)
	case Quoted:
		return timeOf(v.Text)
	case Exact:
		return text
	}
	if v.Text == "" {
		return empty
	}
	if k := number(v.Text); k != text {
		return k
	}
	if v.Text == "true" || v.Text == "false" {
		return truth
	}
	return timeOf(v.Text)
}

// number is what a text is as a number: whole, of up to 18 digits, or decimal, of up to 301 before the point and 300
// behind it; or neither.
func number(v string) kind {
	i := 0
	if i < len(v) && v[i] == '-' {
		i++
	}
	first := i
	for i < len(v) && v[i] >= '0' && v[i] <= '9' {
		i++
	}
	digits := i - first
	switch {
	case digits == 0, v[first] == '0' && digits > 1, digits > 301:
		return text
	case i == len(v):
		if digits <= 18 {
			return whole
		}
		return decimal
	case v[i] != '.':
		return text
	}
	i++
	first = i
	for i < len(v) && v[i] >= '0' && v[i] <= '9' {
		i++
	}
	if behind := i - first; i < len(v) || behind == 0 || behind > 300 {
		return text
	}
	return decimal
}

func timeOf(v string) kind {
	switch {
	case len(v) > 35 || len(v) < 5 || v[4] != '-' && v[2] != ':': // as nearly all
	case isotime.IsDate(v):
		return day
	case isotime.IsMoment(v):
		return moment
	case isotime.IsZoned(v):
		return zoned
	case isotime.IsTime(v):
		return ofTheDay
	}
	return text
}

// Held is what a column holds, as far as it was looked at.
type Held struct {
	counts [text + 1]int64
	rows   int64
}

// Look takes a value into account.
func (h *Held) Look(v Value) {
	h.rows++
	h.counts[v.kind()]++
}

// Empty is how many values are nothing.
func (h *Held) Empty() int64 { return h.counts[empty] }

// Type is the neutral type that takes all values.
func (h *Held) Type() string {
	n := h.rows - h.counts[empty]
	only := func(some ...kind) bool {
		sum := int64(0)
		for _, k := range some {
			sum += h.counts[k]
		}
		return n > 0 && sum == n
	}
	switch {
	case only(whole):
		return "bigint"
	case only(whole, decimal):
		return "numeric"
	case only(truth):
		return "boolean"
	case only(day):
		return "date"
	case only(moment), only(day, moment):
		return "timestamp without time zone"
	case only(zoned):
		return "timestamp with time zone"
	case only(ofTheDay):
		return "time without time zone"
	case only(document):
		return "json"
	}
	return "text"
}

// Write appends a value in the neutral form of a type; false is NULL: nothing in a column that holds no
// texts. In one that does, a bare nothing is an empty text.
func Write(dst []byte, typ string, v Value) ([]byte, bool, error) {
	switch v.As {
	case Null:
		return dst, false, nil
	case Exact:
		return append(dst, v.Text...), true, nil
	}
	if typ == "text" {
		if i := strings.IndexByte(v.Text, 0); i >= 0 || !utf8.ValidString(v.Text) {
			return dst, true, errors.New("a text that is not UTF-8, or has a zero byte in it")
		}
		return append(dst, v.Text...), true, nil
	}
	k := v.kind()
	switch {
	case k == empty:
		return dst, false, nil
	case typ == "bigint" && k == whole, typ == "numeric" && (k == whole || k == decimal):
		if strings.Trim(v.Text, "-0.") == "" { // servers have no negative zero among these
			return append(dst, strings.TrimPrefix(v.Text, "-")...), true, nil
		}
		return append(dst, v.Text...), true, nil
	case typ == "boolean" && k == truth, typ == "date" && k == day, typ == "json" && k == document:
		return append(dst, v.Text...), true, nil
	case typ == "timestamp without time zone" && (k == moment || k == day):
		return isotime.AppendMoment(dst, v.Text), true, nil
	case typ == "timestamp with time zone" && k == zoned:
		return isotime.AppendZoned(dst, v.Text), true, nil
	case typ == "time without time zone" && k == ofTheDay:
		return isotime.AppendTime(dst, v.Text), true, nil
	}
	return dst, true, fmt.Errorf("%.40q, which is no %s", v.Text, typ)
}

package textrows

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"dustyferry/internal/domain"
)

// Parser takes lines apart, one after the other.
type Parser struct {
	d    jsontext.Decoder
	line bytes.Reader
}

// Object takes a line apart that is one object of JSON (RFC 8259), and hands on its members in their order.
// What is no object, or has a name twice, is an error.
func (p *Parser) Object(line []byte, member func(name string, v Value)) error {
	p.line.Reset(line)
	p.d.Reset(&p.line)
	if start, err := p.d.ReadToken(); err != nil || start.Kind() != '{' {
		return domain.Conflict("it is no object: %.40q", bytes.TrimSpace(line))
	}
	for {
		token, err := p.d.ReadToken()
		switch {
		case errors.Is(err, jsontext.ErrDuplicateName):
			name := ""
			if e := (*jsontext.SyntacticError)(nil); errors.As(err, &e) {
				name = e.JSONPointer.LastToken()
			}
			return domain.Conflict("the name %q stands twice in it", name)
		case err != nil:
			return notJSON(err)
		case token.Kind() == '}':
			if rest := bytes.TrimSpace(line[p.d.InputOffset():]); len(rest) > 0 {
				return domain.Conflict("behind its object stands %.40q", rest)
			}
			return nil
		}
		name := token.String()
		raw, err := p.d.ReadValue()
		if err != nil {
			return notJSON(err)
		}
		v, err := valueOf(raw)
		if err != nil {
			return notJSON(err)
		}
		member(name, v)
	}
}

func notJSON(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return domain.Conflict("it is no JSON: it ends too soon")
	}
	why := err.Error()
	if e := (*jsontext.SyntacticError)(nil); errors.As(err, &e) {
		why = e.Err.Error()
	}
	return domain.Conflict("it is no JSON: %s", strings.TrimPrefix(why, "jsontext: "))
}

// valueOf is a member's value as it stands.
func valueOf(raw jsontext.Value) (Value, error) {
	switch raw.Kind() {
	case 'n':
		return Value{As: Null}, nil
	case 't', 'f':
		return Value{string(raw), Truth}, nil
	case '{', '[':
		return Value{string(raw), Document}, nil
	case '"':
		text, err := jsontext.AppendUnquote(nil, raw)
		return Value{string(text), Quoted}, err
	}
	return Value{plain(string(raw)), Number}, nil
}

// mostDigits is how many places an exponent may move a point.
const mostDigits = 300

// plain writes a number without an exponent, where that is not too long.
func plain(v string) string {
	at := strings.IndexAny(v, "eE")
	if at < 0 {
		return v
	}
	var shift int
	if _, err := fmt.Sscan(strings.TrimPrefix(v[at+1:], "+"), &shift); err != nil || shift > mostDigits ||
		shift < -mostDigits {
		return v
	}
	digits, negative := strings.CutPrefix(v[:at], "-")
	before, after, _ := strings.Cut(digits, ".")
	all := before + after
	point := len(before) + shift
	if point <= 0 {
		all, point = strings.Repeat("0", 1-point)+all, 1
	}
	if point > len(all) {
		all += strings.Repeat("0", point-len(all))
	}
	head := strings.TrimLeft(all[:point], "0")
	if head == "" {
		head = "0"
	}
	if point < len(all) {
		head += "." + all[point:]
	}
	if negative {
		head = "-" + head
	}
	return head
}

// JSONLines is a file of such lines.
type JSONLines struct{ Names []string }

func (j JSONLines) String() string {
	return "one object of JSON a line, with " + domain.Many(int64(len(j.Names)), "name")
}

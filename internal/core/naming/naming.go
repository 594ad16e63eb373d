// Package naming judges the names that a crossing makes on its target as the target's server
// would: whether they are short enough, and whether two of them are one to it. It knows the
// rules of PostgreSQL ("SQL Syntax", identifiers) and MariaDB ("Identifier Names").
package naming

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"dustyferry/internal/domain"
)

// Server is what a server makes of names.
type Server struct {
	Called string
	Bytes  int // how long a name can be; 0: not counted so
	Chars  int
	Narrow bool // no characters beyond the basic multilingual plane, and no blank at the end
}

// The servers.
var (
	Postgres = Server{Called: "PostgreSQL", Bytes: 63}
	MariaDB  = Server{Called: "MariaDB", Chars: 64, Narrow: true}
)

// Name is one name that is to be made.
type Name struct {
	Kind    string // what it names, for people: table, column, index, ...
	Name    string
	Space   string // names of one space must differ; empty: it is not held against others
	Fold    bool   // large and small letters are one
	Subject string // the table that it belongs to, as it is shown
	Remedy  string // what to do when it cannot be
}

// Judge says which names the server would not take, would cut short, or would take for one.
func (s Server) Judge(names []Name) []domain.Entry {
	var out []domain.Entry
	block := func(n Name, format string, args ...any) {
		out = append(out, domain.Entry{Verdict: domain.Blocker, Topic: "name", Subject: n.Subject, Measured: n.Kind + " " +
			n.Name + ": " + fmt.Sprintf(format, args...), Remedy: n.Remedy})
	}
	first := map[string]Name{}
	for _, n := range names {
		if why := s.wrong(n.Name); why != "" {
			block(n, "%s", why)
			continue
		}
		if n.Space == "" {
			continue
		}
		key := n.Name
		if n.Fold {
			key = strings.ToLower(strings.ToUpper(key))
		}
		key = n.Space + "\x00" + key
		other, taken := first[key]
		switch {
		case !taken:
			first[key] = n
		case other.Subject == n.Subject:
			block(n, "%s takes it and %s %s of the same table for one", s.Called, other.Kind, other.Name)
		default:
			block(n, "%s takes it and %s %s of %s for one", s.Called, other.Kind, other.Name, other.Subject)
		}
	}
	return slices.CompactFunc(out, func(a, b domain.Entry) bool { return a == b })
}

// wrong says why the server does not take a name as it is, or nothing.
func (s Server) wrong(name string) string {
	switch {
	case name == "":
		return "a name must not be empty"
	case s.Bytes > 0 && len(name) > s.Bytes:
		return fmt.Sprintf("it has %d bytes, and %s keeps %d of them", len(name), s.Called, s.Bytes)
	case s.Chars > 0 && utf8.RuneCountInString(name) > s.Chars:
		return fmt.Sprintf("it has %d characters, and %s takes %d", utf8.RuneCountInString(name), s.Called, s.Chars)
	case s.Narrow && strings.HasSuffix(name, " "):
		return fmt.Sprintf("it ends with a blank, which %s does not take", s.Called)
	case s.Narrow && strings.ContainsFunc(name, func(r rune) bool { return r > 0xffff }):
		return fmt.Sprintf("it has a character beyond the basic multilingual plane, which %s does not take", s.Called)
	}
	return ""
}

// Fit shortens a name that we make up until the server takes it whole. What is cut off stays
// told apart by a hash of all of it.
func (s Server) Fit(name string) string {
	if s.wrong(name) == "" {
		return name
	}
	sum := sha256.Sum256([]byte(name))
	tail := "_" + hex.EncodeToString(sum[:4])
	if s.Narrow {
		name = strings.Map(func(r rune) rune {
			if r > 0xffff {
				return '_'
			}
			return r
		}, name)
	}
	for s.wrong(name+tail) != "" && name != "" {
		_, n := utf8.DecodeLastRuneInString(name)
		name = name[:len(name)-n]
	}
	return name + tail
}

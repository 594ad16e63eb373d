// Package statement reads statements as a MariaDB server writes them into its log: what they
// are about, and which tables they name. It knows the whole list of statements that the log
// may hold (MariaDB documentation, "SQL Statements" and "Comment Syntax"); what it does not
// understand it says so of, and never takes for something else.
package statement

import (
	"strings"
	"unicode/utf8"
)

// Kind is what a statement does.
type Kind int

// The kinds of statement.
const (
	Unknown    Kind = iota // it is not understood
	Nothing                // nothing to rows or to definitions of tables
	Begin                  // a transaction begins
	Commit                 // and is committed
	Rollback               // or rolled back
	Savepoint              // a place in it
	RollbackTo             // it is rolled back to that place
	Truncate               // tables are emptied
	Rows                   // rows were changed, and the log holds only the statement
	Alter                  // a table's definition changes
	Replace                // rows come or go with a whole table or partition, or another table has the name
)

// Name is a table's name as a statement has it; Schema is empty where it says none.
type Name struct{ Schema, Table string }

// Statement is what was read of one.
type Statement struct {
	Kind   Kind
	Tables []Name
	Schema string // all tables of the database are meant
	Point  string // the savepoint, in small letters
}

// Mode is how the server read the statement, from its sql_mode.
type Mode struct {
	AnsiQuotes  bool // "…" is a name
	NoBackslash bool // \ in a text is an ordinary character
}

// Read reads a statement. One that is not UTF-8 is Unknown, as its names are not known.
func Read(sql string, mode Mode) Statement {
	if !utf8.ValidString(sql) {
		return Statement{}
	}
	t, ok := tokens(sql, mode)
	if !ok {
		return Statement{}
	}
	p := &parser{t: t}
	return p.statement()
}

// Changes returns the table of a plain INSERT or UPDATE, the first one where there are more; ok is
// false for every other statement, also for one that may do the same.
func Changes(sql string, mode Mode) (of Name, ok bool) {
	t, ok := tokens(sql, mode)
	if !ok || !utf8.ValidString(sql) {
		return Name{}, false
	}
	p := &parser{t: t}
	verb := p.word()
	if verb != "INSERT" && verb != "UPDATE" {
		return Name{}, false
	}
	p.at++
	p.skip("LOW_PRIORITY", "HIGH_PRIORITY", "DELAYED", "IGNORE", "INTO")
	return p.name()
}

// token is a word, a quoted name, a text or a sign.
type token struct {
	kind byte // 'w' word, 'n' quoted name, 's' text, '.' and so on: a sign
	text string
}

// tokens cuts a statement up. Comments are left out; what the server executes of them is not.
func tokens(sql string, mode Mode) ([]token, bool) {
	var out []token
	open := 0 // executable comments
	for i := 0; i < len(sql); {
		c := sql[i]
		rest := sql[i:]
		switch {
		case c == ' ' || c >= '\t' && c <= '\r' || c == 0:
			i++
		case c == '#', strings.HasPrefix(rest, "--") && (len(rest) == 2 || rest[2] <= ' '):
			n := strings.IndexByte(rest, '\n')
			if n < 0 {
				return out, open == 0
			}
			i += n + 1
		case strings.HasPrefix(rest, "/*!"), strings.HasPrefix(rest, "/*M!"):
			i += strings.IndexByte(rest, '!') + 1
			for i < len(sql) && sql[i] >= '0' && sql[i] <= '9' {
				i++
			}
			open++
		case strings.HasPrefix(rest, "/*"):
			n := strings.Index(rest[2:], "*/")
			if n < 0 {
				return nil, false
			}
			i += n + 4
		case open > 0 && strings.HasPrefix(rest, "*/"):
			open--
			i += 2
		case c == '`', c == '"', c == '\'':
			text, n := quoted(rest, c != '`' && !(c == '"' && mode.AnsiQuotes) && !mode.NoBackslash)
			if n == 0 {
				return nil, false
			}
			kind := byte('s')
			if c == '`' || c == '"' && mode.AnsiQuotes {
				kind = 'n'
			}
			out = append(out, token{kind, text})
			i += n
		case wordByte(c):
			n := 1
			for n < len(rest) && wordByte(rest[n]) {
				n++
			}
			out = append(out, token{'w', rest[:n]})
			i += n
		default:
			out = append(out, token{c, rest[:1]})
			i++
		}
	}
	return out, open == 0
}

func wordByte(c byte) bool {
	return c == '_' || c == '$' || c >= 0x80 || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

// quoted reads what stands in quotes, which are doubled inside, and returns its length with
// them; 0 when it does not end.
func quoted(s string, backslash bool) (string, int) {
	var out strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case backslash && s[i] == '\\' && i+1 < len(s):
			i++
			out.WriteByte(s[i])
		case s[i] != s[0]:
			out.WriteByte(s[i])
		case i+1 < len(s) && s[i+1] == s[0]:
			i++
			out.WriteByte(s[i])
		default:
			return out.String(), i + 1
		}
	}
	return "", 0
}

type parser struct {
	t  []token
	at int
}

// word is the word at hand in capitals, empty for anything else.
func (p *parser) word() string { return p.wordAt(0) }

func (p *parser) wordAt(n int) string {
	if p.at+n < len(p.t) && p.t[p.at+n].kind == 'w' {
		return strings.ToUpper(p.t[p.at+n].text)
	}
	return ""
}

func (p *parser) sign() byte {
	if p.at < len(p.t) {
		return p.t[p.at].kind
	}
	return 0
}

func (p *parser) done() bool {
	return p.at >= len(p.t) || p.t[p.at].kind == ';' && p.at == len(p.t)-1
}

// skip takes words that may stand there, in any order and number.
func (p *parser) skip(words ...string) bool {
	any := false
	for {
		found := false
		for _, w := range words {
			if p.word() == w {
				p.at++
				found, any = true, true
			}
		}
		if !found {
			return any
		}
	}
}

// name takes a table's name.
func (p *parser) name() (Name, bool) {
	part := func() (string, bool) {
		if p.at < len(p.t) && (p.t[p.at].kind == 'w' || p.t[p.at].kind == 'n') {
			p.at++
			return p.t[p.at-1].text, true
		}
		return "", false
	}
	a, ok := part()
	if !ok {
		return Name{}, false
	}
	if p.sign() != '.' {
		return Name{Table: a}, true
	}
	p.at++
	b, ok := part()
	return Name{a, b}, ok
}

// exists takes IF EXISTS or IF NOT EXISTS.
func (p *parser) exists() bool {
	if p.word() != "IF" {
		return false
	}
	return p.skip("IF", "NOT", "EXISTS")
}

// waits takes WAIT n or NOWAIT.
func (p *parser) waits() {
	switch p.word() {
	case "WAIT":
		p.at += 2
	case "NOWAIT":
		p.at++
	}
}

// names takes a list of tables.
func (p *parser) names() ([]Name, bool) {
	var out []Name
	for {
		n, ok := p.name()
		if !ok {
			return nil, false
		}
		out = append(out, n)
		if p.sign() != ',' {
			return out, true
		}
		p.at++
	}
}

func (p *parser) statement() Statement {
	if p.done() {
		return Statement{Kind: Nothing} // a remark, or what stands for an event that was left out
	}
	first := p.word()
	p.at++
	switch first {
	case "BEGIN":
		return Statement{Kind: Begin}
	case "START":
		if p.word() == "TRANSACTION" {
			return Statement{Kind: Begin}
		}
	case "COMMIT":
		return Statement{Kind: Commit}
	case "ROLLBACK":
		p.skip("WORK")
		if p.word() != "TO" {
			return Statement{Kind: Rollback}
		}
		p.at++
		if p.word() == "SAVEPOINT" && p.at+1 < len(p.t) {
			p.at++
		}
		return p.point(RollbackTo)
	case "SAVEPOINT":
		return p.point(Savepoint)
	case "XA": // how one ends is another event's to say
		switch p.word() {
		case "START", "BEGIN", "END", "PREPARE":
			return Statement{Kind: Nothing}
		}
	case "SET":
		if p.word() == "STATEMENT" {
			return p.setStatement()
		}
		return Statement{Kind: Nothing}
	case "TRUNCATE":
		p.skip("TABLE")
		return p.tables(Truncate)
	case "INSERT", "REPLACE", "UPDATE", "DELETE", "LOAD", "CALL", "SELECT", "DO", "WITH", "VALUES":
		return Statement{Kind: Rows, Tables: p.mentioned()}
	case "ALTER":
		return p.alter()
	case "DROP":
		return p.drop()
	case "RENAME":
		return p.rename()
	case "CREATE":
		return p.create()
	case "REPAIR":
		p.skip("NO_WRITE_TO_BINLOG", "LOCAL", "TABLE", "TABLES")
		return p.tables(Replace)
	case "GRANT", "REVOKE", "FLUSH", "ANALYZE", "OPTIMIZE", "CHECK", "CHECKSUM", "CACHE", "INSTALL", "UNINSTALL",
		"RELEASE",
		"RESET", "PURGE", "KILL", "USE", "LOCK", "UNLOCK", "EXPLAIN", "SHOW", "CHANGE":
		return Statement{Kind: Nothing}
	}
	return Statement{}
}

func (p *parser) point(k Kind) Statement {
	n, ok := p.name()
	if !ok || !p.done() {
		return Statement{}
	}
	return Statement{Kind: k, Point: strings.ToLower(n.Table)}
}

// tables takes a list of tables that the whole statement is about.
func (p *parser) tables(k Kind) Statement {
	p.exists()
	list, ok := p.names()
	if !ok {
		return Statement{}
	}
	return Statement{Kind: k, Tables: list}
}

// setStatement takes SET STATEMENT variable = value, … FOR statement.
func (p *parser) setStatement() Statement {
	for depth := 0; p.at < len(p.t); p.at++ {
		switch {
		case p.sign() == '(':
			depth++
		case p.sign() == ')':
			depth--
		case depth == 0 && p.word() == "FOR":
			p.at++
			return p.statement()
		}
	}
	return Statement{}
}

// mentioned are all names that may be tables.
func (p *parser) mentioned() []Name {
	var out []Name
	for p.at < len(p.t) {
		if k := p.sign(); k != 'w' && k != 'n' {
			p.at++
			continue
		}
		if n, ok := p.name(); ok {
			out = append(out, n)
		}
	}
	return out
}

func (p *parser) alter() Statement {
	p.skip("ONLINE", "OFFLINE", "IGNORE")
	if p.word() != "TABLE" {
		return p.other()
	}
	p.at++
	p.exists()
	p.waits()
	of, ok := p.name()
	if !ok {
		return Statement{}
	}
	p.waits()
	s := Statement{Kind: Alter, Tables: []Name{of}}
	depth := 0
	for ; p.at < len(p.t); p.at++ {
		switch p.sign() {
		case '(':
			depth++
		case ')':
			depth--
		}
		if depth > 0 {
			continue
		}
		switch next := p.wordAt(1); p.word() {
		case "RENAME":
			if next == "COLUMN" || next == "INDEX" || next == "KEY" {
				continue
			}
			p.at++
			p.skip("TO", "AS")
			if p.sign() == '=' {
				p.at++
			}
			to, ok := p.name()
			if !ok {
				return Statement{}
			}
			s.Kind, s.Tables = Replace, append(s.Tables, to)
			p.at--
		case "TRUNCATE", "DROP", "EXCHANGE", "CONVERT", "IMPORT", "DISCARD", "REBUILD", "REPAIR":
			if next != "PARTITION" && next != "TABLE" && next != "TABLESPACE" {
				continue
			}
			s.Kind = Replace
			for j := 1; p.at+j < len(p.t); j++ { // the table that changes places with a partition
				if p.wordAt(j) == "TABLE" {
					q := parser{t: p.t, at: p.at + j + 1}
					if n, ok := q.name(); ok {
						s.Tables = append(s.Tables, n)
					}
				}
			}
		}
	}
	return s
}

func (p *parser) drop() Statement {
	temporary := p.skip("TEMPORARY")
	switch p.word() {
	case "TABLE", "TABLES":
		p.at++
		if temporary {
			return Statement{Kind: Nothing}
		}
		return p.tables(Replace)
	case "DATABASE", "SCHEMA":
		p.at++
		return p.schema()
	case "INDEX":
		return p.on()
	}
	return p.other()
}

func (p *parser) schema() Statement {
	p.exists()
	n, ok := p.name()
	if !ok {
		return Statement{}
	}
	return Statement{Kind: Replace, Schema: n.Table}
}

// on is what follows of an index: the table whose definition changes.
func (p *parser) on() Statement {
	for ; p.at < len(p.t); p.at++ {
		if p.word() == "ON" {
			p.at++
			n, ok := p.name()
			if !ok {
				break
			}
			return Statement{Kind: Alter, Tables: []Name{n}}
		}
	}
	return Statement{}
}

func (p *parser) rename() Statement {
	if p.word() == "USER" {
		return Statement{Kind: Nothing}
	}
	if !p.skip("TABLE", "TABLES") {
		return Statement{}
	}
	p.exists()
	s := Statement{Kind: Replace}
	for {
		from, ok := p.name()
		p.waits()
		if !ok || p.word() != "TO" {
			return Statement{}
		}
		p.at++
		to, ok := p.name()
		if !ok {
			return Statement{}
		}
		s.Tables = append(s.Tables, from, to)
		if p.sign() != ',' {
			return s
		}
		p.at++
	}
}

func (p *parser) create() Statement {
	replace := p.word() == "OR"
	p.skip("OR", "REPLACE")
	temporary := p.skip("TEMPORARY")
	switch p.word() {
	case "TABLE":
		p.at++
		if kept := p.exists(); kept || temporary {
			return Statement{Kind: Nothing} // one that stands stays as it is
		}
		n, ok := p.name()
		if !ok {
			return Statement{}
		}
		return Statement{Kind: Replace, Tables: []Name{n}}
	case "DATABASE", "SCHEMA":
		p.at++
		if replace {
			return p.schema()
		}
		return Statement{Kind: Nothing}
	case "UNIQUE", "FULLTEXT", "SPATIAL", "VECTOR", "INDEX", "ONLINE", "OFFLINE":
		return p.on()
	}
	return p.other()
}

// other is about objects that hold no rows, after CREATE, ALTER or DROP.
func (p *parser) other() Statement {
	for ; p.at < len(p.t); p.at++ {
		switch p.word() {
		case "VIEW", "USER", "ROLE", "TRIGGER", "PROCEDURE", "FUNCTION", "EVENT", "SERVER", "SEQUENCE", "PACKAGE", "DATABASE",
			"SCHEMA", "PREPARE", "INSTANCE", "CATALOG":
			return Statement{Kind: Nothing}
		case "TABLE", "TABLES", "INDEX", "TABLESPACE":
			return Statement{}
		}
	}
	return Statement{}
}

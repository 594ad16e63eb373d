package postgres

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// exactText are the types, and arrays of them, whose text gives every value back. Floating-point numbers are
// among them from version 12 on, which writes the fewest digits that do.
var exactText = map[string]bool{
	"smallint": true, "integer": true, "bigint": true, "numeric": true, "real": true, "double precision": true,
	"boolean": true, "text": true, "character varying": true, "character": true, "bpchar": true, "name": true,
	"date": true, "timestamp without time zone": true, "timestamp with time zone": true, "interval": true,
	"time without time zone": true, "time with time zone": true, "uuid": true, "json": true, "jsonb": true, "bytea": true,
	"bit": true, "bit varying": true, "inet": true, "cidr": true, "macaddr": true, "macaddr8": true, "oid": true,
	"xml": true, "tsvector": true,
}

// selfEnding are the types whose text never holds the mark between two fields, or says by itself where it
// ends.
var selfEnding = map[string]bool{
	"smallint": true, "integer": true, "bigint": true, "numeric": true, "real": true, "double precision": true,
	"boolean": true, "date": true, "timestamp without time zone": true, "timestamp with time zone": true,
	"interval": true, "time without time zone": true, "time with time zone": true, "uuid": true, "jsonb": true,
	"bit": true, "bit varying": true, "inet": true, "cidr": true, "macaddr": true, "macaddr8": true, "oid": true,
}

// sized are the types whose length is known without making their text.
var sized = map[string]bool{"text": true, "character varying": true, "character": true, "bpchar": true,
	"bytea": true}

// mostArguments is how many arguments a function of PostgreSQL takes.
const mostArguments = 100

// hashedRow is an expression for a row's text from which every value can be told: fields behind marks, and
// where a text may hold the mark its length before it. NULL has none, and no empty text but one of length 0.
// A record's own text would do, and takes the server half as long again.
func hashedRow(p *domain.TablePlan) string {
	var args, groups []string
	for _, c := range p.Columns {
		name := quote(c.Name)
		switch {
		case c.Wire != "local" && selfEnding[c.BaseType]:
			args = append(args, name, "'|'")
		case c.Wire != "local" && sized[c.BaseType]:
			args = append(args, "octet_length("+name+")", "'|'", name, "'|'")
		default:
			args = append(args, "octet_length("+name+"::text)", "'|'", name+"::text", "'|'")
		}
	}
	for group := range slices.Chunk(args, mostArguments) {
		groups = append(groups, "concat("+strings.Join(group, ", ")+")")
	}
	return strings.Join(groups, " || ")
}

// HashForm: [hashedRow] by hashtextextended (PostgreSQL, common/hashfn.c: lookup3 by B. Jenkins, 64 bits of
// it).
func (v *view) HashForm(p *domain.TablePlan) string {
	if p.CrossEngine || v.d.major < 12 || slices.ContainsFunc(p.Columns, func(c domain.Column) bool {
		return c.Mask != "" || c.Expression != "" || c.Longest > 0 ||
			c.Wire != "local" && !exactText[strings.TrimSuffix(c.BaseType, "[]")]
	}) {
		return ""
	}
	var types []string
	for _, c := range p.Columns {
		types = append(types, c.BaseType)
	}
	return "postgres fields by hashtextextended: " + strings.Join(types, ", ")
}

// HashThere has the server hash, with one statement a part, all of them sent at once.
func (v *view) HashThere(ctx context.Context, p *domain.TablePlan, part engine.Part, want []int,
	progress func(int64)) ([]rowhash.Sum, error) {
	sums := "count(*)::text, coalesce(sum(hashtextextended((" + hashedRow(p) + `) COLLATE "C", 0)), 0)::text FROM ` + from(p)
	var sql []string
	for i, where := range part.Wanted(p, want, keyRange) {
		sql = append(sql, fmt.Sprintf("SELECT '%d', %s%s", i, sums, where))
	}
	out := make([]rowhash.Sum, max(len(want), 1))
	// An error would end the transaction, and with it what the view sees.
	results := v.conn.PgConn().Exec(ctx, "SAVEPOINT hashes; "+strings.Join(sql, "; ")+"; RELEASE hashes")
	var odd error
	for results.NextResult() {
		r := results.ResultReader()
		for r.NextRow() {
			n, err := sumIn(out, r.Values())
			if odd = cmp.Or(odd, err); err == nil {
				progress(n)
			}
		}
		if _, err := r.Close(); err != nil {
			break // and is the error of all of it
		}
	}
	if err := results.Close(); err != nil {
		if _, back := v.conn.Exec(ctx, "ROLLBACK TO hashes"); back == nil && ctx.Err() == nil {
			return nil, fmt.Errorf("%w: %w", engine.ErrHashLost, err)
		}
		return nil, v.d.explain(err)
	}
	return out, odd
}

// sumIn keeps the sum of one part, and returns its rows.
func sumIn(out []rowhash.Sum, f [][]byte) (int64, error) {
	i, err := strconv.Atoi(string(f[0]))
	if err != nil || i < 0 || i >= len(out) {
		return 0, fmt.Errorf("the server gives the sum of part %q, of %d", f[0], len(out))
	}
	n, err := strconv.ParseInt(string(f[1]), 10, 64)
	if err != nil {
		return 0, err
	}
	out[i], err = engine.SumThere(n, string(f[2]))
	return n, err
}

// TryHashes reads rows and does nothing with them, and hashes those behind.
func (v *view) TryHashes(ctx context.Context, p *domain.TablePlan, part engine.Part, which, most int) (engine.Tried,
	error) {
	lower, upper := part.Range(which)
	where := keyRange(p, lower, upper)
	behind := *p
	behind.Where, behind.From = "", fmt.Sprintf("SELECT %s FROM %s%s OFFSET %d LIMIT %d",
		quoteAll(columnNames(p.Columns)), from(p), where, most, most)
	return engine.TimeHashes(func() (n int, err error) {
		err = v.copyRows(ctx, fmt.Sprintf("SELECT %s FROM %s%s LIMIT %d", comparedList(p), from(p), where, most),
			func([]byte) error { n++; return nil })
		return n, err
	}, func() error {
		_, err := v.HashThere(ctx, &behind, engine.Part{}, nil, func(int64) {})
		return err
	})
}

// RoundTrip asks for nothing.
func (v *view) RoundTrip(ctx context.Context) (time.Duration, error) {
	began := time.Now()
	err := v.conn.Ping(ctx)
	return time.Since(began), v.d.explain(err)
}

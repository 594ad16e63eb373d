package mariadb

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// hashedAs is an expression for a column's value as bytes that give every value back, and the kind of them;
// both are empty where there is none.
func hashedAs(c domain.Column) (expression, kind string) {
	name := quote(c.Name)
	switch base := strings.TrimSuffix(c.BaseType, " unsigned"); {
	case typemap.IsGeometry(base):
		return "", ""
	case base == "float": // whose own text leaves digits out
		return "CAST(" + name + " AS DOUBLE)", "number"
	case base == "bit":
		return name + " + 0", "number"
	case strings.HasSuffix(base, "blob") || strings.HasSuffix(base, "binary"):
		return name, "bytes"
	case c.Charset != "" || base == "enum" || base == "set" || base == "json":
		return "CAST(CONVERT(" + name + " USING utf8mb4) AS BINARY)", "text"
	case marked[base]:
		return name, "number"
	}
	return "", ""
}

// marked are the types no text of which is empty or holds the mark that stands behind it.
var marked = map[string]bool{"tinyint": true, "smallint": true, "mediumint": true, "int": true, "bigint": true,
	"decimal": true, "double": true, "year": true, "date": true, "time": true, "datetime": true, "timestamp": true,
	"uuid": true, "inet4": true, "inet6": true}

// HashForm: texts and bytes in quotes, NULL without, whatever else before a mark, and of the row's MD5 the
// first 64 bits.
func (v *view) HashForm(p *domain.TablePlan) string {
	var kinds []string
	for i, c := range p.Columns {
		_, kind := hashedAs(c)
		if kind == "" || c.Mask != "" || c.Expression != "" || c.Longest > 0 {
			return ""
		}
		if p.TargetSide != nil && (p.TargetSide.Engine != typemap.MariaDB || p.TargetSide.Columns[i].Type != c.Type) {
			return ""
		}
		kinds = append(kinds, kind)
	}
	return "mariadb quoted " + strings.Join(kinds, " ") + ", MD5"
}

// HashThere has the server hash. What its max_allowed_packet does not let it write together it makes NULL.
func (v *view) HashThere(ctx context.Context, p *domain.TablePlan, part engine.Part, want []int,
	progress func(int64)) ([]rowhash.Sum, error) {
	var fields []string
	for _, c := range p.Columns {
		expression, kind := hashedAs(c)
		if kind == "number" { // no text of one is empty, or holds the mark behind it
			fields = append(fields, "IFNULL("+expression+", ''), '|'")
		} else {
			fields = append(fields, "QUOTE("+expression+")")
		}
	}
	list := "SELECT COUNT(*), COALESCE(SUM(IFNULL(CAST(CONV(LEFT(MD5(CONCAT(" + strings.Join(fields, ", ") +
		")), 16), 16, 10) AS UNSIGNED), " + engine.NotHashed + ")), 0) FROM " + from(p)
	var sql []string
	for _, where := range part.Wanted(p, want, keyRange) {
		sql = append(sql, list+where)
	}
	out := make([]rowhash.Sum, len(sql))
	var lost error
	err := v.c.together(ctx, sql, func(i int, f [][]byte) error {
		n, err := strconv.ParseInt(string(f[0]), 10, 64)
		if err == nil {
			out[i], err = engine.SumThere(n, string(f[1]))
		}
		if errors.Is(err, engine.ErrHashLost) { // the answers behind it are still to be read
			lost, err = err, nil
		}
		if err == nil {
			progress(n)
		}
		return err
	})
	if err == nil {
		err = lost
	}
	return out, v.d.explain(err)
}

// TryHashes reads rows and does nothing with them, and hashes those behind.
func (v *view) TryHashes(ctx context.Context, p *domain.TablePlan, part engine.Part, which, most int) (engine.Tried,
	error) {
	lower, upper := part.Range(which)
	where := keyRange(p, lower, upper)
	names := make([]string, len(p.Columns))
	for i, c := range p.Columns {
		names[i] = quote(c.Name)
	}
	behind := *p
	behind.Where, behind.From = "", fmt.Sprintf("SELECT %s FROM %s%s LIMIT %d OFFSET %d", strings.Join(names, ", "),
		from(p), where, most, most)
	return engine.TimeHashes(func() (n int, err error) {
		err = v.each(ctx, p, where+" LIMIT "+strconv.Itoa(most), func([]byte, [][]byte) error { n++; return nil })
		return n, err
	}, func() error {
		_, err := v.HashThere(ctx, &behind, engine.Part{}, nil, func(int64) {})
		return err
	})
}

// RoundTrip asks for nothing.
func (v *view) RoundTrip(ctx context.Context) (time.Duration, error) {
	began := time.Now()
	err := v.c.rows(ctx, "DO 0", nil)
	return time.Since(began), v.d.explain(err)
}

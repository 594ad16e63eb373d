package mariadb

// How much of a row a statement may hold: a server takes so many bytes at once, and cuts the
// connection at more.

import (
	"context"
	"database/sql"
	"encoding/hex"
	"strings"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

// measure asks how much the server takes at once.
func (a *applier) measure(ctx context.Context) error {
	return a.d.explain(a.conn.QueryRowContext(ctx, "SELECT @@max_allowed_packet").Scan(&a.packet))
}

// values collects what a statement gives of a row: small values stand in its text, large ones
// go beside it, which the driver sends as they are and in parts.
type values struct {
	large int // bytes from which a value is large; 0: none is
	args  []any
}

func (v *values) add(c domain.Column, x domain.Value) string {
	if v.large == 0 || x.Kind != domain.Present || len(x.Data) < v.large {
		return valueOf(c, x)
	}
	switch text := string(x.Data); {
	case typemap.IsBytes(strings.TrimSuffix(c.BaseType, " unsigned")):
		if b, err := hex.DecodeString(strings.TrimPrefix(text, `\x`)); err == nil && strings.HasPrefix(text, `\x`) {
			v.args = append(v.args, b)
			return "?"
		}
	case c.Charset != "":
		v.args = append(v.args, text)
		return "?"
	}
	return valueOf(c, x)
}

// largeIn is from how many bytes on values of a row go beside its statement: 0 where the
// whole row is small.
func (a *applier) largeIn(row domain.Row) int {
	total := 0
	for _, v := range row {
		total += len(v.Data)
	}
	if total < a.packet/8 {
		return 0
	}
	return max(a.packet/1000, 1000)
}

// run carries a statement out. What the server does not take at once it would answer by
// cutting the connection, again and again.
func (a *applier) run(ctx context.Context, p *domain.TablePlan, text string, args ...any) (sql.Result, error) {
	longest := len(text)
	for _, v := range args {
		switch v := v.(type) {
		case string:
			longest = max(longest, len(v))
		case []byte:
			longest = max(longest, len(v))
		}
	}
	const frame = 1024 // of the statement around a value
	if a.packet > 0 && longest > a.packet-frame {
		return nil, domain.Conflict("a row of %s needs %d bytes at once, the target takes %d (max_allowed_packet): SET "+
			"GLOBAL max_allowed_packet = %d there, keep it in its configuration, and resume", p.Target, longest, a.packet,
			roundUp(longest+frame))
	}
	res, err := a.conn.ExecContext(ctx, text, args...)
	return res, a.wrap(p, err)
}

// roundUp is the next multiple of what the setting counts in, with room.
func roundUp(n int) int {
	const mb = 1 << 20
	return (n/mb + 2) * mb
}

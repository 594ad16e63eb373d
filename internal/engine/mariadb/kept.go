package mariadb

import (
	"fmt"
	"slices"

	"dustyferry/internal/core/statement"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/binlog"
)

// kept is what a transaction did to rows, until it is known whether it happened: what was
// prepared, and what came after a savepoint. It is cut into parts at savepoints, which can
// be rolled back one by one.
type kept struct {
	spool  engine.Spool
	part   uint32
	points map[string]uint32 // the part that began at each savepoint
	undone [][2]uint32       // parts that were rolled back, from and to
}

// mostParts is how many parts have a number beside the event's type.
const mostParts = 1<<24 - 2

func (k *kept) keep(kind binlog.Type, body []byte) error {
	return k.spool.Keep(uint32(kind)|k.part<<8, body)
}

// savepoint begins a part.
func (k *kept) savepoint(name string) error {
	if k.part >= mostParts {
		return domain.Conflict("a transaction in the source's log has more than %d savepoints; restart the crossing "+
			"to load again", mostParts)
	}
	if k.points == nil {
		k.points = map[string]uint32{}
	}
	k.part++
	k.points[name] = k.part
	return nil
}

// rollbackTo undoes all parts since a savepoint, which stays.
func (k *kept) rollbackTo(name string) error {
	from, ok := k.points[name]
	if !ok {
		return domain.Conflict("the source's log rolls a transaction back to the savepoint %q, which it did not name "+
			"before; restart the crossing to load again", name)
	}
	for n, part := range k.points {
		if part > from {
			delete(k.points, n)
		}
	}
	k.undone = append(k.undone, [2]uint32{from, k.part})
	return k.savepoint(name)
}

// selecting takes a statement within the transaction.
func (k *kept) statement(s statement.Statement, sql string) error {
	switch s.Kind {
	case statement.Savepoint:
		return k.savepoint(s.Point)
	case statement.RollbackTo:
		return k.rollbackTo(s.Point)
	case statement.Nothing, statement.Begin, statement.Commit:
		return nil
	}
	return k.keep(binlog.TypeQuery, []byte(sql))
}

// each gives the events back that were not rolled back. Which tables were meant is said of
// all: later rows may go by it.
func (k *kept) each(visit func(kind binlog.Type, body []byte) error) error {
	if k == nil {
		return nil
	}
	return k.spool.Each(func(of uint32, body []byte) error {
		kind := binlog.Type(of)
		if kind != binlog.TypeTableMap && k.void(of) {
			return nil
		}
		return visit(kind, body)
	})
}

// void reports whether the part that a message is of was rolled back.
func (k *kept) void(of uint32) bool {
	part := of >> 8
	return slices.ContainsFunc(k.undone, func(u [2]uint32) bool { return part >= u[0] && part <= u[1] })
}

// back gives the events back that were not rolled back, from the last to the first, those of
// rows each with what says which table they are of.
func (k *kept) back(visit func(kind binlog.Type, table, body []byte) error) error {
	tables := map[uint64]int{}
	return k.spool.Back(func(n int, of uint32, body []byte) (int, error) {
		kind := binlog.Type(of)
		if kind != binlog.TypeTableMap && !isRows(kind) {
			return -1, nil
		}
		id, err := binlog.TableID(body)
		if err != nil {
			return -1, err
		}
		if kind == binlog.TypeTableMap {
			tables[id] = n
			return -1, nil
		}
		return tables[id], nil
	}, func(of uint32, table, body []byte) error {
		kind := binlog.Type(of)
		if kind == binlog.TypeTableMap || k.void(of) {
			return nil
		}
		return visit(kind, table, body)
	})
}

// Close gives up what is kept.
func (k *kept) Close() {
	if k != nil {
		k.spool.Close()
	}
}

// understand reads a statement of the log by the modes of the session that sent it.
func understand(q *binlog.Query) statement.Statement {
	return statement.Read(text(q), statement.Mode{AnsiQuotes: q.SQLMode&binlog.ModeAnsiQuotes != 0,
		NoBackslash: q.SQLMode&binlog.ModeNoBackslash != 0})
}

// latin1 are the numbers of collations of latin1.
var latin1 = map[uint16]bool{5: true, 8: true, 15: true, 31: true, 47: true, 48: true, 49: true, 94: true}

// text is a statement in UTF-8. Of other character sets than those that applications send
// in, it stays as it is, and is not understood if it has more than ASCII.
func text(q *binlog.Query) string {
	if !latin1[q.Charset] {
		return q.SQL
	}
	out := make([]rune, 0, len(q.SQL))
	for i := range len(q.SQL) {
		out = append(out, cp1252(q.SQL[i]))
	}
	return string(out)
}

// cp1252 is a byte of the server's latin1.
func cp1252(b byte) rune {
	if b < 0x80 || b >= 0xa0 {
		return rune(b)
	}
	return []rune("\u20ac\u0081\u201a\u0192\u201e\u2026\u2020\u2021\u02c6\u2030\u0160\u2039\u0152\u008d\u017d\u008f" +
		"\u0090\u2018\u2019\u201c\u201d\u2022\u2013\u2014\u02dc\u2122\u0161\u203a\u0153\u009d\u017e\u0178")[b-0x80]
}

// shortened is a statement as it is shown.
func shortened(sql string) string {
	if r := []rune(sql); len(r) > 200 {
		return string(r[:200]) + "…"
	}
	return fmt.Sprint(sql)
}

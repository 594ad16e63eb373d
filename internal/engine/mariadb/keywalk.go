package mariadb

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"strings"

	"dustyferry/internal/core/statement"
	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/binlog"
)

// firstEvent is where the events of a log file begin.
const firstEvent = 4

// errEnough ends a walk.
var errEnough = errors.New("enough was seen")

// walk reads the log from the beginning of an event to a place that it has reached, beside
// any stream, and hands on the events that end there or before, each with where it ends.
func (d *database) walk(ctx context.Context, from, to domain.Position, visit func(h binlog.Header, body []byte,
	end domain.Position) error) error {
	if !from.Before(to) {
		return nil
	}
	file := from.Number() >> fileBits
	name, err := d.logFile(ctx, file)
	if err != nil {
		return err
	}
	var r binlog.Reader
	if err := d.pool.QueryRowContext(ctx, "SELECT @@global.binlog_checksum = 'CRC32'").Scan(&r.Checksums); err != nil {
		return d.explain(err)
	}
	w, err := d.dial(ctx)
	if err != nil {
		return err
	}
	defer w.close()
	if err := w.start(name, uint32(from.Number()&(1<<fileBits-1)), rand.Uint32()|1<<31, false); err != nil {
		return d.explain(err)
	}
	err = w.within(ctx, func() error {
		for {
			b, err := w.event()
			if err != nil {
				return err
			}
			h, body, err := r.Event(b)
			if err != nil {
				return err
			}
			switch h.Type {
			case binlog.TypeFormat:
				if _, err := r.Format(body); err != nil {
					return err
				}
			case binlog.TypeRotate:
				next, err := binlog.DecodeRotate(body)
				if err != nil {
					return err
				}
				if file, err = fileNumber(next.File); err != nil {
					return err
				}
				if !position(file, next.Position).Before(to) {
					return nil
				}
				continue
			}
			end := position(file, uint64(h.Next))
			if h.Next == 0 || h.Artificial() || h.Type == binlog.TypeHeartbeat {
				if h.Next != 0 && !end.Before(to) {
					return nil
				}
				continue
			}
			if end.After(to) {
				return nil
			}
			if err := visit(h, body, end); err != nil {
				return err
			}
			if end == to {
				return nil
			}
		}
	})
	if errors.Is(err, errEnough) {
		return nil
	}
	return d.explain(err)
}

// IsLastDDL reports whether the statement that begins at the place was the last one, up to
// now, that altered the table: then the catalog says how it left the table.
func (d *database) IsLastDDL(ctx context.Context, t domain.TableName, at domain.Position) (bool, error) {
	now, err := d.now(ctx)
	if err != nil {
		return false, err
	}
	statements := 0
	err = d.walk(ctx, at, now, func(h binlog.Header, body []byte, _ domain.Position) error {
		if h.Type != binlog.TypeQuery && h.Type != binlog.TypeQueryCompressed {
			return nil
		}
		q, err := binlog.DecodeQuery(h.Type, body)
		if err != nil {
			return err
		}
		s := understand(&q)
		about := s.Schema == t.Schema || slices.ContainsFunc(s.Tables, func(n statement.Name) bool {
			return (n.Schema == "" && strings.EqualFold(q.Database, t.Schema) || strings.EqualFold(n.Schema, t.Schema)) &&
				strings.EqualFold(n.Table, t.Name)
		})
		if s.Kind == statement.Unknown || about && (s.Kind == statement.Alter || s.Kind == statement.Replace) {
			if statements++; statements > 1 {
				return errEnough
			}
		}
		return nil
	})
	return statements == 1, err
}

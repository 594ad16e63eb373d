package databases

import (
	"context"
	"fmt"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Left is a trace with what the records know of its crossing.
type Left struct {
	engine.Trace
	Name  string // of the crossing; empty: the records know none
	State string
	InUse bool
}

// Traces lists what crossings have left in a database, those of other installations and
// of lost records too.
func (s *Databases) Traces(ctx context.Context, database string) ([]Left, error) {
	db, err := s.Open(ctx, database)
	if err != nil {
		return nil, err
	}
	if db.Tells == nil {
		return nil, nil
	}
	list, err := db.Traces(ctx)
	if err != nil {
		return nil, err
	}
	known, err := s.records.CrossingsByUID(ctx)
	if err != nil {
		return nil, err
	}
	var out []Left
	for _, t := range list {
		l := Left{Trace: t}
		if c, ok := known[t.Crossing]; ok {
			l.Name, l.State = c.Name, fmt.Sprintf("%s, %s", c.Phase, c.Condition)
			l.InUse = c.Phase != domain.PhaseClosed
		}
		out = append(out, l)
	}
	return out, nil
}

// RemoveTraces removes what one crossing has left in a database. One that the records
// know is closed instead, unless it is.
func (s *Databases) RemoveTraces(ctx context.Context, database, uid, actor string) error {
	list, err := s.Traces(ctx, database)
	if err != nil {
		return err
	}
	db, err := s.Open(ctx, database)
	if err != nil {
		return err
	}
	for _, l := range list {
		if l.Crossing == uid && l.Busy && !l.InUse {
			return domain.Conflict("somebody reads the %s %s just now: it belongs to a crossing of another installation that "+
				"is alive; close it there", l.Kind, l.Trace.Name)
		}
	}
	var removed []string
	for _, l := range list {
		if l.Crossing != uid {
			continue
		}
		if l.InUse {
			return domain.Conflict("these belong to crossing %s, which is %s; close it, which removes them", l.Name, l.State)
		}
		switch l.Kind {
		case "bookkeeping":
			err = db.Forget(ctx, uid)
		case "replication slot", "publication", "recording triggers":
			err = db.DropCapture(ctx, (&domain.Crossing{UID: uid}).ObjectName(), nil)
		default:
			err = db.Run(ctx, l.Undo)
		}
		if err != nil {
			return err
		}
		removed = append(removed, l.Kind)
	}
	if len(removed) == 0 {
		return domain.NotFound("no crossing %s has left anything in %s; 'dustyferry database traces %s' lists what there is",
			uid, database, database)
	}
	s.journal.Recordf(ctx, "warning", actor, "", database, "traces", "%s removed what crossing %s had left in %s: %s",
		actor,
		uid,
		database, strings.Join(removed, ", "))
	return nil
}

package postgres

import (
	"context"
	"fmt"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

func createSequence(q domain.Sequence) string {
	return fmt.Sprintf("CREATE SEQUENCE %s AS %s %s", qualified(q.Name), q.Type, sequenceOptions(q))
}

// sequenceOptions are how a sequence counts.
func sequenceOptions(q domain.Sequence) string {
	cycle := "NO CYCLE"
	if q.Cycle {
		cycle = "CYCLE"
	}
	return fmt.Sprintf("START %d INCREMENT %d MINVALUE %d MAXVALUE %d CACHE %d %s", q.Start, q.Increment, q.Min, q.Max,
		max(q.Cache, 1), cycle)
}

// SequenceValues reads where the sequences stand.
func (d *database) SequenceValues(ctx context.Context, seqs []domain.Sequence) ([]engine.SequenceValue, error) {
	var out []engine.SequenceValue
	for _, q := range seqs {
		v := engine.SequenceValue{Sequence: q}
		if err := d.pool.QueryRow(ctx, "SELECT last_value, is_called FROM "+qualified(q.Name)).Scan(&v.Last,
			&v.Called); err != nil {
			return nil, fmt.Errorf("reading sequence %s: %w", q.Name, d.explain(err))
		}
		out = append(out, v)
	}
	return out, nil
}

// SetSequences moves the target's sequences; an identity's own sequence is
// found through its column.
func (d *database) SetSequences(ctx context.Context, values []engine.SequenceValue) error {
	for _, v := range values {
		name := qualified(v.Sequence.Name)
		if v.Sequence.Identity {
			if err := d.pool.QueryRow(ctx, `SELECT coalesce(pg_get_serial_sequence($1, $2), '')`, qualified(v.Sequence.OwnedBy),
				v.Sequence.OwnedColumn).Scan(&name); err != nil {
				return d.explain(err)
			}
		}
		if _, err := d.pool.Exec(ctx, `SELECT setval($1::text::regclass, $2, $3)`, name, v.Last, v.Called); err != nil {
			return fmt.Errorf("setting sequence %s: %w", v.Sequence.Name, d.explain(err))
		}
	}
	return nil
}

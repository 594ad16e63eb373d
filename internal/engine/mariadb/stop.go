package mariadb

import (
	"context"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// StopMethods are read-only and a person's word.
func (Driver) StopMethods() []domain.StopMethod {
	return []domain.StopMethod{domain.StopReadOnly, domain.StopWord}
}

// StopWrites makes the server read-only, or trusts a person's word. The server's
// table locks end with their session and cannot be turned into a lasting stop
// without a gap, so they are not used.
func (d *database) StopWrites(ctx context.Context, method domain.StopMethod, _ string, _ []domain.TablePlan, wait time.Duration) (engine.WriteStop, error) {
	switch method {
	case domain.StopWord:
		return &writeStop{d: d}, nil
	case domain.StopReadOnly:
		limit, cancel := context.WithTimeout(ctx, wait)
		defer cancel()
		// Waits until the transactions that are committing have done so.
		if _, err := d.pool.ExecContext(limit, "SET GLOBAL read_only = ON"); err != nil {
			return nil, d.explain(err)
		}
		return &writeStop{d: d, readOnly: true}, nil
	}
	return nil, domain.Conflict("the stop method %s is not there for MariaDB; set stop_method to read-only, or to word", method)
}

type writeStop struct {
	d        *database
	readOnly bool
}

// CloseWrites has nothing more to do: read-only lasts until somebody ends it.
func (w *writeStop) CloseWrites(context.Context, string) error { return nil }

// Release lets nothing go on: those who waited have been refused already.
func (w *writeStop) Release(context.Context) error { return nil }

// Alive checks that the server is still read-only.
func (w *writeStop) Alive(ctx context.Context) error {
	if !w.readOnly {
		return nil
	}
	var on bool
	if err := w.d.pool.QueryRowContext(ctx, "SELECT @@global.read_only").Scan(&on); err != nil {
		return w.d.explain(err)
	}
	if !on {
		return domain.Conflict("somebody has let the source take writes again (read_only is off)")
	}
	return nil
}

// Reopen lets the server take writes again.
func (d *database) Reopen(ctx context.Context, method domain.StopMethod, _ string, _ []domain.TablePlan) error {
	if method != domain.StopReadOnly {
		return nil
	}
	_, err := d.pool.ExecContext(ctx, "SET GLOBAL read_only = OFF")
	return d.explain(err)
}

// SequenceValues reads where numbering stands.
func (d *database) SequenceValues(ctx context.Context, seqs []domain.Sequence) ([]engine.SequenceValue, error) {
	var out []engine.SequenceValue
	for _, q := range seqs {
		v := engine.SequenceValue{Sequence: q}
		err := d.pool.QueryRowContext(ctx, "SELECT coalesce(max("+quote(q.OwnedColumn)+"), 0) FROM "+qualified(q.OwnedBy)).Scan(&v.Last)
		if err != nil {
			return nil, d.explain(err)
		}
		v.Called = v.Last > 0
		v.Last = max(v.Last, 1)
		out = append(out, v)
	}
	return out, nil
}

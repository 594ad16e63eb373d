package mariadb

import (
	"context"
	"errors"
	"math"
	"time"

	"github.com/go-sql-driver/mysql"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// StopMethods are read-only and a person's word.
func (Driver) StopMethods() []domain.StopMethod {
	return []domain.StopMethod{domain.StopReadOnly, domain.StopWord}
}

// MayStop refuses a server that is read-only already.
func (d *database) MayStop(ctx context.Context, method domain.StopMethod) error {
	if method != domain.StopReadOnly {
		return nil
	}
	var on bool
	if err := d.pool.QueryRowContext(ctx, "SELECT @@global.read_only").Scan(&on); err != nil {
		return d.explain(err)
	}
	if on {
		return domain.Conflict("the source is read-only already, by somebody else (read_only is ON), and undoing a cutover " +
			"would open it: let it take writes (SET GLOBAL read_only = OFF), or set stop_method to word")
	}
	return nil
}

// Settle has nothing to do: nothing that runs by itself keeps the server from becoming read-only.
func (d *database) Settle(context.Context, []domain.TablePlan) error { return nil }

// StopWrites makes the server read-only, or trusts a person's word. The server's
// table locks end with their session and cannot be turned into a lasting stop
// without a gap, so they are not used.
func (d *database) StopWrites(ctx context.Context, method domain.StopMethod, _ string, _ []domain.TablePlan,
	wait time.Duration) (engine.WriteStop, error) {
	switch method {
	case domain.StopWord:
		return &writeStop{d: d}, nil
	case domain.StopReadOnly:
		if err := d.makeReadOnly(ctx, wait); err != nil {
			return nil, err
		}
		return &writeStop{d: d, readOnly: true}, nil
	}
	return nil, domain.Conflict("the stop method %s is not there for MariaDB; set stop_method to read-only, or to word",
		method)
}

// makeReadOnly waits until running statements and commits have ended, in short
// turns. A single long wait could never end: it holds new statements up, so a
// transaction between two statements cannot go on, and one that waits for its row
// locks keeps the server from becoming read-only. Between turns both can finish.
// Each turn ends on the server by itself, so that none goes on after us.
func (d *database) makeReadOnly(ctx context.Context, wait time.Duration) error {
	c, err := d.pool.Conn(ctx)
	if err != nil {
		return d.explain(err)
	}
	defer c.Close()
	// In seconds; the least there is.
	if _, err := c.ExecContext(ctx, "SET SESSION lock_wait_timeout = 1"); err != nil {
		return d.explain(err)
	}
	// The pool's next user gets the server's own waiting time again.
	defer func() { _, _ = c.ExecContext(context.WithoutCancel(ctx), "SET SESSION lock_wait_timeout = DEFAULT") }()
	end := time.Now().Add(wait)
	for {
		// Not cut short: the turn ends by itself, and must not outlive this call.
		_, err := c.ExecContext(context.WithoutCancel(ctx), "SET GLOBAL read_only = ON")
		if err == nil {
			return nil
		}
		var said *mysql.MySQLError
		if !errors.As(err, &said) || said.Number != erLockWait {
			return d.explain(err)
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if time.Now().After(end) {
			return domain.Conflict("the source did not become read-only within %s: statements there do not end; look for long "+
				"ones with SHOW PROCESSLIST, end them, and cut over again", wait)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

type writeStop struct {
	d        *database
	readOnly bool
}

// CloseWrites has nothing more to do: read-only lasts until somebody ends it. Whoever may end it may
// also write in spite of it (READ_ONLY ADMIN), as the crossing does that brings changes back.
func (w *writeStop) CloseWrites(context.Context, string, string) error { return nil }

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

// TakesWrites asks whether the server is read-only still: a restart makes it forget.
func (d *database) TakesWrites(ctx context.Context, method domain.StopMethod) (open bool, up time.Duration, _ error) {
	if method != domain.StopReadOnly {
		return false, 0, nil
	}
	var readOnly bool
	var name string
	var seconds int64
	if err := d.pool.QueryRowContext(ctx, "SELECT @@global.read_only").Scan(&readOnly); err != nil {
		return false, 0, d.explain(err)
	}
	err := d.pool.QueryRowContext(ctx, "SHOW GLOBAL STATUS LIKE 'Uptime'").Scan(&name, &seconds)
	return !readOnly, time.Duration(seconds) * time.Second, d.explain(err)
}

// BindsTarget looks whether the target is on the server that would become read-only. Who may write there
// in spite of it can apply changes on; all others are refused, after a cutover too.
func (d *database) BindsTarget(ctx context.Context, method domain.StopMethod, target engine.Database) (
	[]domain.Entry, error) {
	other, ok := target.(*database)
	if method != domain.StopReadOnly || !ok {
		return nil, nil
	}
	var servers [2]string
	for i, side := range []*database{d, other} {
		if err := side.pool.QueryRowContext(ctx, "SELECT concat_ws(' ', @@hostname, @@port, @@datadir, @@server_id)").Scan(
			&servers[i]); err != nil {
			return nil, side.explain(err)
		}
	}
	if servers[0] != servers[1] {
		return nil, nil
	}
	s, err := other.server(ctx)
	if err != nil {
		return nil, err
	}
	var e entries
	if !s.above() {
		e.add(domain.Blocker, "stopping writes", "target", "GRANT READ_ONLY ADMIN ON *.* TO "+account(s.user)+", or stop "+
			"writes by a person's word (stop_method word)", "source and target are on one server, which is made read-only as "+
			"a whole, and user %s may not write there then: the last changes could not be applied", s.user)
		return e, nil
	}
	e.add(domain.Notice, "stopping writes", "target", "stop writes by a person's word (stop_method word), and take the "+
		"right to write from those who use the source", "source and target are on one server, which is made read-only as a "+
		"whole and stays so: after the cutover applications cannot write to the target before it is opened "+
		"(SET GLOBAL read_only = OFF), which opens the source too")
	return e, nil
}

// CloseAgain makes it read-only.
func (d *database) CloseAgain(ctx context.Context, _ domain.StopMethod) error {
	return d.makeReadOnly(ctx, 10*time.Second)
}

// SequenceValues reads where numbering stands.
func (d *database) SequenceValues(ctx context.Context, seqs []domain.Sequence) ([]engine.SequenceValue, error) {
	var out []engine.SequenceValue
	for _, q := range seqs {
		v := engine.SequenceValue{Sequence: q}
		// The counter itself may be past the greatest number that stands: rows were removed, or
		// rolled back.
		var last uint64
		err := d.pool.QueryRowContext(ctx, "SELECT greatest((SELECT coalesce(max("+quote(q.OwnedColumn)+"), 0) FROM "+
			qualified(q.OwnedBy)+"), coalesce((SELECT auto_increment FROM information_schema.tables WHERE table_schema = ? "+
			"AND table_name = ?), 1) - 1, 0)",
			q.OwnedBy.Schema, q.OwnedBy.Name).Scan(&last)
		if err != nil {
			return nil, d.explain(err)
		}
		if last > math.MaxInt64 {
			return nil, domain.Conflict("the numbering of %s.%s stands at %d, more than a sequence can count to on every "+
				"target; set its next number on the target by hand and leave the column without AUTO_INCREMENT until then",
				q.OwnedBy, q.OwnedColumn, last)
		}
		v.Last = int64(last)
		v.Called = v.Last > 0
		v.Last = max(v.Last, 1)
		out = append(out, v)
	}
	return out, nil
}

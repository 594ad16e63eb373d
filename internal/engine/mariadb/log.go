package mariadb

import (
	"context"
	"database/sql"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// What a source's binary log is asked for beside its events.

// PrepareCapture needs nothing on the source: the binary log is there for all.
// It returns the place in it of what can be read now.
func (d *database) PrepareCapture(ctx context.Context, _ string, _ []domain.TablePlan) (domain.Position, error) {
	if _, err := d.now(ctx); err != nil {
		return domain.Position{}, err
	}
	// Not where the log ends: a server that waits for its replica before it commits has
	// written there already what no read sees yet.
	s, err := d.Snapshot(ctx)
	return s.Log, err
}

// KeepsEarlier is true: log files are kept by the server's own rules.
func (d *database) KeepsEarlier() bool { return true }

// CaptureUndo is empty: nothing is changed.
func (d *database) CaptureUndo([]domain.TablePlan) []string { return nil }

// OpenTransactions is empty: capture begins at once.
func (d *database) OpenTransactions(context.Context, time.Duration) ([]string, error) {
	return nil, nil
}

// DropCapture has nothing to drop.
func (d *database) DropCapture(context.Context, string, []string) error { return nil }

// now is where the binary log ends.
func (d *database) now(ctx context.Context) (domain.Position, error) {
	rows, err := d.pool.QueryContext(ctx, "SHOW MASTER STATUS")
	if err != nil {
		return domain.Position{}, d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	if !rows.Next() {
		if err := rows.Err(); err != nil {
			return domain.Position{}, d.explain(err)
		}
		return domain.Position{}, domain.Conflict("%s writes no binary log; set log_bin and restart the server", d.name)
	}
	var file string
	var offset uint64
	var do, ignore sql.NullString
	if err := rows.Scan(&file, &offset, &do, &ignore); err != nil {
		return domain.Position{}, d.explain(err)
	}
	n, err := fileNumber(file)
	return position(n, offset), err
}

// Heartbeat is where the log ends now: its way to the target is over when the
// stream has said that it is past it. Nothing is written to the source.
func (d *database) Heartbeat(ctx context.Context) (domain.Position, error) { return d.now(ctx) }

// Clock returns the source's own time.
func (d *database) Clock(ctx context.Context) (time.Time, error) {
	var s float64
	err := d.pool.QueryRowContext(ctx, "SELECT unix_timestamp(now(6))").Scan(&s)
	return time.UnixMicro(int64(s * 1e6)), d.explain(err)
}

// Snapshot returns what a new read would see now.
func (d *database) Snapshot(ctx context.Context) (domain.Snapshot, error) {
	var s domain.Snapshot
	err := d.briefly(ctx, func(c *wire) (err error) {
		if s, err = d.begin(ctx, c, false); err != nil {
			return err
		}
		return c.rows(ctx, "COMMIT", nil)
	})
	return s, err
}

// Retained is what lies behind the applied position: the server keeps its log by its own
// rules, not for us.
func (d *database) Retained(ctx context.Context, _ string, applied domain.Position) (engine.Retained, error) {
	now, err := d.now(ctx)
	if err != nil {
		return engine.Retained{}, err
	}
	n, err := d.LogBytes(ctx, applied, now)
	return engine.Retained{Bytes: n, From: applied, To: now}, err
}

// CheckCapture finds nothing: there is nothing to be made on a source of this kind.
func (d *database) CheckCapture(context.Context, string, []domain.TablePlan) (domain.Position, error) {
	return domain.Position{},
		domain.Invalid("a MariaDB source has no replication slots; take slot away, and give start_from as " +
			"FILE:OFFSET or as a GTID")
}

// LogBytes adds up the files between two places.
func (d *database) LogBytes(ctx context.Context, from, to domain.Position) (int64, error) {
	const offset = 1<<fileBits - 1
	first, last := from.Number()>>fileBits, to.Number()>>fileBits
	switch {
	case !to.After(from):
		return 0, nil
	case first == last:
		return int64(to.Number() - from.Number()), nil
	}
	n := int64(to.Number()&offset) - int64(from.Number()&offset)
	err := d.logFiles(ctx, func(_ string, number uint64, size int64) {
		if number >= first && number < last {
			n += size
		}
	})
	return max(n, 0), err
}

// logFiles lists the files of the log.
func (d *database) logFiles(ctx context.Context, each func(name string, number uint64, size int64)) error {
	rows, err := d.pool.QueryContext(ctx, "SHOW BINARY LOGS")
	if err != nil {
		return d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var name string
		var size int64
		if err := rows.Scan(&name, &size); err != nil {
			return d.explain(err)
		}
		if n, err := fileNumber(name); err == nil {
			each(name, n, size)
		}
	}
	return d.explain(rows.Err())
}

// logFile returns the name of the log file with that number.
func (d *database) logFile(ctx context.Context, number uint64) (string, error) {
	file := ""
	err := d.logFiles(ctx, func(name string, n uint64, _ int64) {
		if n == number {
			file = name
		}
	})
	if err != nil || file != "" {
		return file, err
	}
	return "", domain.Conflict("the source has removed the log file %06d that capture still needed: restart the "+
		"crossing to load again, and let the server keep its logs longer (binlog_expire_logs_seconds)", number)
}

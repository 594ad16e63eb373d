package mariadb

import (
	"context"
	"database/sql"
	"dustyferry/internal/engine"
	"errors"
	"strconv"
	"strings"
	"time"
)

// Session names the connection on the server.
func (r *reader) Session() string { return strconv.FormatUint(uint64(r.c.id), 10) }

// Session names the connection on the server.
func (w *writer) Session() string { return w.session }

// Session names the connection on the server.
func (a *applier) Session() string { return a.session }

// sessionOf asks for a connection's name on the server.
func sessionOf(ctx context.Context, conn *sql.Conn) (string, error) {
	var id string
	err := conn.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&id)
	return id, err
}

// Doing asks the list of processes, where a user sees the own ones.
func (d *database) Doing(ctx context.Context, session string) (string, bool, error) {
	var command, state string
	err := d.pool.QueryRowContext(ctx, "SELECT command, coalesce(state, '') FROM information_schema.processlist "+
		"WHERE id = ?", session).Scan(&command, &state)
	low := strings.ToLower(state)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return engine.UnknownSession, false, nil
	case err != nil:
		return "", false, d.explain(err)
	case command == "Sleep":
		return "the server waits for the next statement", false, nil
	case strings.HasPrefix(low, "waiting for semi-sync"):
		return "the server waits for its replica (" + state + ")", true, nil // a new attempt would wait as well
	case strings.Contains(low, "lock"), strings.HasPrefix(low, "waiting"), strings.HasPrefix(low, "reading from net"),
		strings.HasPrefix(low, "writing to net"):
		return "the server waits (" + state + "; SHOW PROCESSLIST tells more)", false, nil
	case state != "":
		return "the server is at work (" + state + ")", true, nil
	}
	return "the server is at work", true, nil
}

// Locked asks the list of processes, where a user sees the own ones; whose the lock is it does
// not say.
func (d *database) Locked(ctx context.Context, since time.Duration) ([]string, error) {
	rows, err := d.pool.QueryContext(ctx, `
SELECT concat(left(replace(coalesce(info, command), '\n', ' '), 120), ': ', state,
  ' (SHOW PROCESSLIST, and information_schema.innodb_trx, tell more)') FROM information_schema.processlist
 WHERE user = substring_index(current_user(), '@', 1) AND command <> 'Sleep' AND (state LIKE 'Waiting for%lock%'
   OR state LIKE 'Waiting for table%') AND time_ms >= ? ORDER BY time_ms DESC`, since.Milliseconds())
	if err != nil {
		return nil, d.explain(err)
	}
	defer func() { _ = rows.Close() }()
	var out []string
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return nil, d.explain(err)
		}
		out = append(out, text)
	}
	return out, d.explain(rows.Err())
}

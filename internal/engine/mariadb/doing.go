package mariadb

import (
	"context"
	"database/sql"
	"dustyferry/internal/engine"
	"errors"
	"strconv"
	"strings"
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
	err := d.pool.QueryRowContext(ctx, "SELECT command, coalesce(state, '') FROM information_schema.processlist WHERE id = ?", session).Scan(&command, &state)
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
	case strings.Contains(low, "lock"), strings.HasPrefix(low, "waiting"), strings.HasPrefix(low, "reading from net"), strings.HasPrefix(low, "writing to net"):
		return "the server waits (" + state + "; SHOW PROCESSLIST tells more)", false, nil
	case state != "":
		return "the server is at work (" + state + ")", true, nil
	}
	return "the server is at work", true, nil
}

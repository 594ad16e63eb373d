package postgres

import (
	"context"
	"dustyferry/internal/engine"
	"errors"
	"strconv"

	"github.com/jackc/pgx/v5"
)

// Session names the connection on the server.
func (r *reader) Session() string { return sessionOf(r.conn.PID()) }

// Session names the connection on the server.
func (w *writer) Session() string { return sessionOf(w.conn.PID()) }

// Session names the connection on the server.
func (a *applier) Session() string { return sessionOf(a.conn.PgConn().PID()) }

func sessionOf(pid uint32) string { return strconv.FormatUint(uint64(pid), 10) }

// Doing asks pg_stat_activity, where a role sees its own sessions whole.
func (d *database) Doing(ctx context.Context, session string) (string, bool, error) {
	var state, kind, event string
	var by []int32
	err := d.pool.QueryRow(ctx, `
SELECT coalesce(state, ''), coalesce(wait_event_type, ''), coalesce(wait_event, ''), pg_blocking_pids(pid)
  FROM pg_stat_activity WHERE pid::text = $1 AND usename = current_user`, session).Scan(&state, &kind, &event, &by)
	switch {
	case errors.Is(err, pgx.ErrNoRows):
		return engine.UnknownSession, false, nil
	case err != nil:
		return "", false, d.explain(err)
	case state != "active":
		return "the server waits for the next statement (" + state + ")", false, nil
	case kind == "Lock" && len(by) > 0:
		return "the server waits for a lock that session " + strconv.Itoa(int(by[0])) + " holds (" + event + "; pg_stat_activity tells who that is)", false, nil
	case kind == "Lock", kind == "Client":
		return "the server waits (" + kind + " " + event + ")", false, nil
	case event == "SyncRep":
		return "the server waits for its synchronous standby (SyncRep)", true, nil // a new attempt would wait as well
	case event != "":
		return "the server is at work (" + kind + " " + event + ")", true, nil
	}
	return "the server is at work", true, nil
}

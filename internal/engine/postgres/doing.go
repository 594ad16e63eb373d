package postgres

import (
	"context"
	"dustyferry/internal/engine"
	"errors"
	"strconv"
	"time"

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
		return "the server waits for a lock that session " + strconv.Itoa(int(by[0])) + " holds (" + event +
			"; pg_stat_activity tells who that is)", false, nil
	case kind == "Lock", kind == "Client":
		return "the server waits (" + kind + " " + event + ")", false, nil
	case event == "SyncRep":
		return "the server waits for its synchronous standby (SyncRep)", true, nil // a new attempt would wait as well
	case event != "":
		return "the server is at work (" + kind + " " + event + ")", true, nil
	}
	return "the server is at work", true, nil
}

// Locked asks pg_stat_activity for sessions of this role and of our name.
func (d *database) Locked(ctx context.Context, since time.Duration) ([]string, error) {
	rows, err := d.pool.Query(ctx, `
SELECT format('%s waits for a lock that session %s holds (%s)', left(regexp_replace(a.query, '\s+', ' ', 'g'), 120),
  b.pid, coalesce(nullif(b.application_name, ''), b.usename, 'unknown') || ', ' || coalesce(b.state,
  'of unknown state'))
  FROM pg_stat_activity a CROSS JOIN LATERAL (SELECT * FROM pg_stat_activity o
    WHERE o.pid = (pg_blocking_pids(a.pid))[1]) b
 WHERE a.usename = current_user AND a.application_name = 'dusty-ferry' AND a.wait_event_type = 'Lock'
   AND a.datname = current_database()
   AND clock_timestamp() - a.query_start >= make_interval(secs => $1) ORDER BY a.query_start`, since.Seconds())
	if err != nil {
		return nil, d.explain(err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowTo[string])
	return list, d.explain(err)
}

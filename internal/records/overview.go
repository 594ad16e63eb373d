package records

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/domain"
)

// OverviewStore keeps what the pages of many crossings show.
type OverviewStore struct{ *conn }

// Line is a crossing with everything that is watched about it, read in one
// statement so that a page of hundreds costs one.
type Line struct {
	domain.Crossing
	Progress
	HasStream  bool    `db:"has_stream"`
	StreamLive bool    `db:"stream_live"`
	Worker     string  `db:"worker"`
	Applied    Pos     `db:"applied"`
	LagSeconds float64 `db:"lag_seconds"`
	LagBytes   int64   `db:"lag_bytes"`

	LagP50 sql.NullFloat64 `db:"lag_p50"` // of the last minute
	LagP99 sql.NullFloat64 `db:"lag_p99"`
	LagAge sql.NullFloat64 `db:"lag_age"` // how old what is known of the lag is, seconds; NULL: it is fresh

	Retained int64 `db:"retained"`

	RetainedAge     sql.NullFloat64 `db:"retained_age"` // seconds
	LagTransactions int64           `db:"lag_transactions"`
	LagGuessed      bool            `db:"lag_guessed"`
	CatchUp         float64         `db:"catch_up"`
	Changes         int64           `db:"changes"`
	Note            string          `db:"capture_note"`

	TouchedFrom Pos        `db:"touched_from"`
	Vouched     Pos        `db:"vouched"`
	VouchedAt   *time.Time `db:"vouched_at"`
	VouchedRows int64      `db:"vouched_rows"`

	// Rates over the newest readings, per second.
	RowsRate    float64 `db:"rows_rate"`
	BytesRate   float64 `db:"bytes_rate"`
	ChangesRate float64 `db:"changes_rate"`

	Share    sql.NullFloat64 `db:"share"` // of the estimated bytes
	WaitsFor string          `db:"waits_for"`
	LanesWhy string          `db:"lanes_why"` // they are as many as they are
}

// Filter chooses and orders crossings.
type Filter struct {
	Name       string // exactly this one
	Search     string // part of the name, the source's or the target's
	Phase      string
	Condition  string
	Waiting    bool
	Sort       string
	Descending bool
	Offset     int
	Limit      int
}

// Totals counts crossings, whatever a filter says.
type Totals struct {
	Total    int `db:"total"`
	Waiting  int `db:"waiting"`
	UnderWay int `db:"under_way"`
}

// Waiting: somebody has to do something before the crossing goes on. A hold
// point or a person's word is awaited by a cutover's running step.
const waitsFor = `
CASE WHEN c.condition IN ('held', 'failed') THEN c.reason
     WHEN c.trouble <> '' THEN c.trouble
     WHEN c.phase = 'cutting over' THEN coalesce((SELECT s.note FROM cutovers k
       JOIN cutover_steps s ON s.cutover_id = k.id
            WHERE k.crossing_id = c.id AND k.state = 'running' AND s.state = 'running' AND s.awaits <> '' LIMIT 1), '')
     WHEN c.phase IN ('draft', 'surveyed', 'in step') THEN coalesce((SELECT 'the last run failed: ' || x.note
            FROM (SELECT state, note FROM runs WHERE crossing_id = c.id AND state <> 'skipped'
              ORDER BY id DESC LIMIT 1) x WHERE x.state = 'failed'), '')
     ELSE '' END`

const under = `('prepared', 'loading', 'catching up', 'in step', 'cutting over')`

const lineColumns = `
SELECT ` + crossingFields + `, coalesce(c.pace->>'reason', '') AS lanes_why,
       p.*, least(1, (p.bytes)::float8 / nullif(p.est_bytes, 0)) AS share,
       st.crossing_id IS NOT NULL AS has_stream, coalesce(st.lease_until > now(), false) AS stream_live, coalesce(st.worker, '') AS worker,
       coalesce(st.applied, 0) AS applied,
       -- While nobody says how large it is, the lag grows with time.
       coalesce(st.lag_seconds + CASE WHEN c.phase IN ` + `('loading', 'catching up', 'in step', 'cutting over')` +
	` THEN greatest(extract(epoch FROM now() - st.reported_at) - 3, 0) ELSE 0 END, 0)::float8 AS lag_seconds,
       st.lag_p50, st.lag_p99,
       coalesce(st.touched_from, 0) AS touched_from, coalesce(st.vouched, 0) AS vouched, st.vouched_at,
       coalesce(st.vouched_rows, 0) AS vouched_rows,
       CASE WHEN c.phase IN ('loading', 'catching up', 'in step', 'cutting over') AND c.kind <> 'load' AND coalesce(st.reported_at < now() - interval '5 seconds', true)
            THEN extract(epoch FROM now() - coalesce(st.reported_at, c.started_at, c.created_at)) END::float8 AS lag_age,
       coalesce(st.lag_transactions, 0) AS lag_transactions, coalesce(st.lag_guessed, false) AS lag_guessed, coalesce(st.catch_up, -1) AS catch_up,
       extract(epoch FROM now() - st.retained_since)::float8 AS retained_age, coalesce(st.lag_bytes, 0) AS lag_bytes,
       coalesce(st.retained, 0) AS retained, coalesce(st.note, '') AS capture_note, coalesce(st.changes, 0) AS changes,
       coalesce(r.rows_rate, 0) AS rows_rate, coalesce(r.bytes_rate, 0) AS bytes_rate, coalesce(r.changes_rate, 0) AS changes_rate,
       coalesce(` + waitsFor + `, '') AS waits_for
  FROM crossings c
  JOIN databases s ON s.id = c.source_id
  JOIN databases t ON t.id = c.target_id
  LEFT JOIN streams st ON st.crossing_id = c.id
  CROSS JOIN LATERAL (
       SELECT count(*) AS tables, count(*) FILTER (WHERE x.state = 'landed') AS tables_landed, count(*) FILTER (WHERE x.state = 'held') AS tables_held,
              coalesce(sum(x.chunks), 0) AS chunks, coalesce(sum(x.chunks_landed), 0) AS chunks_landed,
              (coalesce(sum(x.rows_landed), 0) + coalesce((SELECT sum(k.rows) FROM chunks k WHERE k.crossing_id = c.id AND k.state = 'reading'), 0))::bigint AS rows,
              (coalesce(sum(x.bytes_landed), 0) + coalesce((SELECT sum(k.bytes) FROM chunks k WHERE k.crossing_id = c.id AND k.state = 'reading'), 0))::bigint AS bytes,
              coalesce(sum(x.est_rows), 0)::bigint AS est_rows, coalesce(sum(x.est_bytes), 0)::bigint AS est_bytes,
              coalesce((SELECT k.kind || CASE WHEN k.note = '' THEN '' ELSE ': ' || k.note END FROM tasks k
                         WHERE k.crossing_id = c.id AND k.state IN ('waiting', 'running') ORDER BY k.id LIMIT 1), '') AS work
         FROM tables x WHERE x.crossing_id = c.id) p
  LEFT JOIN LATERAL (
       SELECT (b.rows - a.rows) / d.s AS rows_rate, (b.bytes - a.bytes) / d.s AS bytes_rate, (b.changes - a.changes) / d.s AS changes_rate
         FROM (SELECT * FROM samples WHERE crossing_id = c.id AND at > now() - interval '17 seconds' ORDER BY at LIMIT 1) a,
              (SELECT * FROM samples WHERE crossing_id = c.id AND at > now() - interval '17 seconds' ORDER BY at DESC LIMIT 1) b,
              LATERAL (SELECT nullif(extract(epoch FROM b.at - a.at), 0)::float8 AS s) d
        WHERE c.phase IN ` + under + `) r ON true`

// The orders a list of crossings can have. "need" puts those that wait for a
// person first, then those under way, then the others, newest first in each.
var lineOrders = map[string]string{
	"need": `CASE WHEN waits_for <> '' THEN 0 WHEN phase IN ` + under +
		` THEN 1 WHEN phase = 'closed' THEN 3 ELSE 2 END %[1]s, id DESC`,
	"name":     `name %[1]s`,
	"phase":    `array_position(ARRAY['draft', 'surveyed', 'prepared', 'loading', 'catching up', 'in step', 'cutting over', 'cut over', 'closed'], phase) %[1]s, name`,
	"progress": `share %[1]s NULLS LAST, name`,
	"rate":     `rows_rate + changes_rate %[1]s, name`,
	"lag":      `lag_seconds %[1]s, name`,
	"created":  `created_at %[1]s, id`,
}

// direction writes ascending or descending.
func direction(descending bool) string {
	if descending {
		return "DESC"
	}
	return "ASC"
}

// like makes a pattern that finds a part, with its special characters quoted.
func like(part string) string {
	if part == "" {
		return ""
	}
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(part) + "%"
}

// Lines returns a page of crossings and how many the filter lets through.
func (s OverviewStore) Lines(ctx context.Context, f Filter) ([]Line, int, error) {
	order, ok := lineOrders[f.Sort]
	if !ok {
		order = lineOrders["need"]
	}
	if f.Limit == 0 {
		f.Limit = 100
	}
	// The cheap conditions choose before anything is summed up.
	where := `
 WHERE ($1 = '' OR c.name = $1)
   AND ($2 = '' OR c.name ILIKE $2 OR s.name ILIKE $2 OR t.name ILIKE $2)
   AND ($3 = '' OR c.phase = $3) AND ($4 = '' OR c.condition = $4)
   AND (NOT $5 OR ` + waitsFor + ` <> '')`
	args := []any{f.Name, like(f.Search), f.Phase, f.Condition, f.Waiting}
	rows, err := all[struct {
		Line
		crossingCells
	}](ctx, s, `SELECT * FROM (`+lineColumns+where+`) x ORDER BY `+fmt.Sprintf(order, direction(f.Descending))+
		` LIMIT $6 OFFSET $7`,
		append(args, f.Limit, f.Offset)...)
	if err != nil {
		return nil, 0, err
	}
	out := make([]Line, len(rows))
	for i := range rows {
		rows[i].into(&rows[i].Line.Crossing)
		out[i] = rows[i].Line
	}
	if f.Name != "" || f.Offset == 0 && len(out) < f.Limit {
		return out, len(out), nil
	}
	var matched int
	err = s.DB.GetContext(ctx, &matched, `
SELECT count(*) FROM crossings c JOIN databases s ON s.id = c.source_id JOIN databases t ON t.id = c.target_id`+where,
		args...)
	return out, matched, err
}

// Line returns one crossing with what is watched about it.
func (s OverviewStore) Line(ctx context.Context, name string) (Line, error) {
	rows, _, err := s.Lines(ctx, Filter{Name: name})
	if err == nil && len(rows) == 0 {
		err = sql.ErrNoRows
	}
	if err != nil {
		return Line{}, notFound(err, "there is no crossing named %s; 'dustyferry crossing list' shows those that are", name)
	}
	return rows[0], nil
}

// Totals counts all crossings.
func (s OverviewStore) Totals(ctx context.Context) (Totals, error) {
	return single[Totals](ctx, s, `
SELECT count(*) AS total, count(*) FILTER (WHERE `+waitsFor+` <> '') AS waiting,
       count(*) FILTER (WHERE c.phase IN `+under+` AND c.condition = 'running') AS under_way
  FROM crossings c`)
}

// Defaults returns the settings new crossings begin with.
func (s OverviewStore) Defaults(ctx context.Context) (domain.Settings, error) {
	var rows []JSON[domain.Settings]
	err := s.DB.SelectContext(ctx, &rows, `SELECT settings FROM defaults WHERE settings IS NOT NULL`)
	if err != nil || len(rows) == 0 {
		return domain.DefaultSettings(), err
	}
	return rows[0].V, nil
}

// SaveDefaults keeps them.
func (s OverviewStore) SaveDefaults(ctx context.Context, set domain.Settings) error {
	_, err := s.DB.ExecContext(ctx, `
INSERT INTO defaults (settings) VALUES ($1) ON CONFLICT (one) DO UPDATE SET settings = excluded.settings`,
		JSON[domain.Settings]{set})
	return err
}

// Policy returns what the organisation says of all crossings.
func (s OverviewStore) Policy(ctx context.Context) (domain.Policy, error) {
	rows, err := all[JSON[domain.Policy]](ctx, s, `SELECT house FROM defaults`)
	if err != nil || len(rows) == 0 {
		return domain.Policy{}, err
	}
	return rows[0].V, nil
}

// SavePolicy keeps it.
func (s OverviewStore) SavePolicy(ctx context.Context, h domain.Policy) error {
	_, err := s.DB.ExecContext(ctx, `INSERT INTO defaults (house) VALUES ($1) ON CONFLICT (one) DO UPDATE
  SET house = excluded.house`, JSON[domain.Policy]{h})
	return err
}

// Holdings is how much the control database keeps.
type Holdings struct {
	Version string `db:"version"`
	Bytes   int64  `db:"bytes"`
	Journal int64  `db:"journal"`
	Samples int64  `db:"samples"`
	Workers int    `db:"workers"`
}

// Holdings measures the control database; large tables are counted by the
// server's own estimate.
func (s OverviewStore) Holdings(ctx context.Context) (Holdings, error) {
	return single[Holdings](ctx, s, `
SELECT current_setting('server_version') AS version, pg_database_size(current_database()) AS bytes,
       coalesce((SELECT max(id) FROM journal), 0) AS journal, (SELECT count(*) FROM samples) AS samples,
       (SELECT count(*) FROM workers WHERE seen_at > now() - interval '10 seconds') AS workers`)
}

package records

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/domain"
)

// TableStore keeps the tables of crossings.
type TableStore struct{ *conn }

// tableRow is a table of a crossing as it is kept.
type tableRow struct {
	domain.CrossingTable
	PlanJSON JSON[domain.TablePlan] `db:"plan"`
}

// TableLine is what is watched about a table; its plan stays in the records.
type TableLine struct {
	ID            int64             `db:"id"`
	SourceName    string            `db:"source_name"`
	TargetName    string            `db:"target_name"`
	Key           JSON[[]string]    `db:"key_columns"`
	ReadOrder     string            `db:"read_order"` // as the plan has it
	Binary        bool              `db:"carried_binary"`
	State         domain.TableState `db:"state"`
	Reason        string            `db:"reason"`
	EstRows       int64             `db:"est_rows"`
	EstBytes      int64             `db:"est_bytes"`
	Chunks        int               `db:"chunks"`
	ChunksLanded  int               `db:"chunks_landed"`
	Rows          int64             `db:"rows"`  // rows being read included
	Bytes         int64             `db:"bytes"` // likewise
	RowsRate      float64           `db:"rows_rate"`
	BytesRate     float64           `db:"bytes_rate"`
	Inserts       int64             `db:"inserts"`
	Updates       int64             `db:"updates"`
	Deletes       int64             `db:"deletes"`
	Truncates     int64             `db:"truncates"`
	ColumnChanges int64             `db:"column_changes"`
	StartedAt     *time.Time        `db:"started_at"`
	LandedAt      *time.Time        `db:"landed_at"`
	LastChangeAt  *time.Time        `db:"last_change_at"` // applied
}

const tableLines = `
SELECT t.id, t.ordinal, t.source_name, t.target_name, t.key_columns,
       coalesce(t.plan->>'read_order', '') AS read_order, t.carried_binary, t.state, t.reason, t.est_rows,
  t.est_bytes, t.chunks, t.chunks_landed,
       t.rows_landed + coalesce(k.rows, 0) AS rows, t.bytes_landed + coalesce(k.bytes, 0) AS bytes,
       CASE WHEN t.seen_at > now() - interval '20 seconds' THEN t.rows_rate ELSE 0 END AS rows_rate,
       CASE WHEN t.seen_at > now() - interval '20 seconds' THEN t.bytes_rate ELSE 0 END AS bytes_rate,
       t.inserts, t.updates, t.deletes, t.truncates, t.column_changes, t.started_at, t.landed_at, t.last_change_at
  FROM tables t
  LEFT JOIN (SELECT table_id, sum(rows)::bigint AS rows, sum(bytes)::bigint AS bytes FROM chunks
              WHERE crossing_id = $1 AND state = 'reading' GROUP BY table_id) k ON k.table_id = t.id
 WHERE t.crossing_id = $1`

// TableFilter chooses and orders a crossing's tables.
type TableFilter struct {
	Search     string
	State      string
	Sort       string
	Descending bool
	Offset     int
	Limit      int
}

var tableOrders = map[string]string{
	"planned":  `ordinal %[1]s`,
	"name":     `source_name %[1]s`,
	"state":    `array_position(ARRAY['held', 'loading', 'planned', 'landed'], state) %[1]s, ordinal`,
	"rows":     `rows %[1]s, ordinal`,
	"bytes":    `greatest(bytes, est_bytes) %[1]s, ordinal`,
	"progress": `chunks_landed::float8 / greatest(chunks, 1) %[1]s, ordinal`,
	"rate":     `bytes_rate %[1]s, ordinal`,
	"changes":  `inserts + updates + deletes %[1]s, ordinal`,
}

// TableLines returns a page of a crossing's tables, how many tables the filter
// lets through, and how many of all are in each state.
func (s TableStore) TableLines(ctx context.Context, crossing int64,
	f TableFilter) ([]TableLine, int, map[string]int, error) {
	order, ok := tableOrders[f.Sort]
	if !ok {
		order = tableOrders["planned"]
	}
	where := ` AND ($2 = '' OR t.source_name ILIKE $2 OR t.target_name ILIKE $2) AND ($3 = '' OR t.state = $3)`
	rows, err := all[struct {
		TableLine
		Ordinal int `db:"ordinal"`
	}](ctx, s, `SELECT * FROM (`+tableLines+where+`) x ORDER BY `+fmt.Sprintf(order, direction(f.Descending))+
		` LIMIT $4 OFFSET $5`,
		crossing, like(f.Search), f.State, f.Limit, f.Offset)
	if err != nil {
		return nil, 0, nil, err
	}
	counts, err := all[struct {
		State   string `db:"state"`
		N       int    `db:"n"`
		Matched int    `db:"matched"`
	}](ctx, s, `
SELECT state, count(*) AS n, count(*) FILTER (WHERE ($2 = '' OR source_name ILIKE $2 OR target_name ILIKE $2)
  AND ($3 = '' OR state = $3)) AS matched
  FROM tables WHERE crossing_id = $1 GROUP BY state`, crossing, like(f.Search), f.State)
	matched, states := 0, map[string]int{}
	for _, c := range counts {
		states[c.State], matched = c.N, matched+c.Matched
	}
	out := make([]TableLine, len(rows))
	for i := range rows {
		out[i] = rows[i].TableLine
	}
	return out, matched, states, err
}

// TableLine returns one table of a crossing.
func (s TableStore) TableLine(ctx context.Context, crossing, id int64) (TableLine, error) {
	t, err := single[struct {
		TableLine
		Ordinal int `db:"ordinal"`
	}](ctx, s, tableLines+` AND t.id = $2`, crossing, id)
	return t.TableLine, notFound(err, "the crossing has no table %d; its tables may have been planned anew", id)
}

// RateTables reads how fast each table under way moves: the rate since the last
// reading, smoothed over about ten seconds.
func (s TableStore) RateTables(ctx context.Context) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE tables t
   SET rows_rate  = CASE WHEN n.s > 0 THEN greatest(0, coalesce(t.rows_rate,
     0) * 0.6 + 0.4 * (n.rows - t.seen_rows) / n.s) ELSE 0 END,
       bytes_rate = CASE WHEN n.s > 0 THEN greatest(0, coalesce(t.bytes_rate,
         0) * 0.6 + 0.4 * (n.bytes - t.seen_bytes) / n.s) ELSE 0 END,
       seen_rows = n.rows, seen_bytes = n.bytes, seen_at = now()
  FROM (SELECT x.id, x.rows_landed + coalesce(sum(k.rows), 0) AS rows, x.bytes_landed + coalesce(sum(k.bytes),
    0) AS bytes,
               coalesce(extract(epoch FROM now() - x.seen_at), 0)::float8 AS s
          FROM tables x JOIN crossings c ON c.id = x.crossing_id
          LEFT JOIN chunks k ON k.crossing_id = c.id AND k.table_id = x.id AND k.state = 'reading'
         WHERE c.phase = 'loading' AND x.state IN ('loading', 'landed') AND (x.state = 'loading' OR x.bytes_rate > 1)
         GROUP BY x.id
        HAVING x.rows_landed + coalesce(sum(k.rows), 0) <> x.seen_rows OR x.bytes_landed + coalesce(sum(k.bytes),
          0) <> x.seen_bytes OR x.bytes_rate > 1) n
 WHERE t.id = n.id`)
	return err
}

const tableColumns = `
SELECT id, crossing_id, ordinal, source_name, target_name, plan, state, reason, est_rows, est_bytes, chunks,
  chunks_landed,
       rows_landed, bytes_landed, inserts, updates, deletes, truncates, started_at, landed_at, watermark
  FROM tables`

// SavePlans replaces a crossing's tables, largest first, if its plan is the one that was read. A target table that
// another crossing writes is a conflict.
func (s TableStore) SavePlans(ctx context.Context, c *domain.Crossing, plans []domain.TablePlan) error {
	plans = slices.Clone(plans)
	slices.SortStableFunc(plans, func(a, b domain.TablePlan) int {
		return int(min(1, max(-1, b.Table.Bytes-a.Table.Bytes)))
	})
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		var now int64
		if err := tx.GetContext(ctx, &now,
			`SELECT plan_version FROM crossings WHERE id = $1 AND phase <> 'closed' FOR UPDATE`, c.ID); err != nil {
			return notFound(err, "crossing %s is closed, or gone", c.Name)
		}
		if now != c.PlanVersion {
			return domain.Conflict("crossing %s was planned anew while it was surveyed", c.Name)
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM tables WHERE crossing_id = $1`, c.ID); err != nil {
			return err
		}
		// What goes forth again comes to the tables of what went forth before, which writes them no more.
		if _, err := tx.ExecContext(ctx, `
UPDATE tables t SET active = false FROM crossings f, crossings b
 WHERE b.id = $1 AND f.id = b.return_of AND f.phase = 'cut over' AND t.crossing_id = f.id`, c.ReturnOf); err != nil {
			return err
		}
		for i, p := range plans {
			if _, err := tx.ExecContext(ctx, `
INSERT INTO tables (crossing_id, target_id, ordinal, source_name, target_name, plan, key_columns, carried_binary,
  est_rows, est_bytes)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)`, c.ID, c.TargetID, i+1, p.Source.String(), p.Target.String(),
				JSON[domain.TablePlan]{p},
				JSON[[]string]{append([]string{}, p.Key...)}, p.Binary, max(p.Table.Rows, 0), p.Table.Bytes); err != nil {
				if duplicate(err) {
					return domain.Conflict("the target table %s is written by another crossing; close that one first, or leave "+
						"the table out", p.Target)
				}
				return err
			}
		}
		for _, p := range plans {
			if len(p.After) == 0 {
				continue
			}
			var names []string
			for _, n := range p.After {
				names = append(names, n.String())
			}
			if _, err := tx.ExecContext(ctx, `
UPDATE tables SET after = ARRAY(SELECT o.id FROM tables o WHERE o.crossing_id = $1 AND o.source_name = ANY ($3))
  WHERE crossing_id = $1 AND source_name = $2`,
				c.ID, p.Source.String(), names); err != nil {
				return err
			}
		}
		return nil
	})
	return err
}

// AddTable adds one table to a crossing under way, last in order. It is held until
// [Store.ReleaseTable], whatever its chunks.
func (s TableStore) AddTable(ctx context.Context, c *domain.Crossing, p domain.TablePlan,
	catalog *domain.Catalog) (domain.CrossingTable, error) {
	var id int64
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		err := tx.GetContext(ctx, &id, `
INSERT INTO tables (crossing_id, target_id, ordinal, source_name, target_name, plan, key_columns, carried_binary,
  est_rows, est_bytes, state, reason)
VALUES ($1, $2, (SELECT coalesce(max(ordinal), 0) + 1 FROM tables WHERE crossing_id = $1), $3, $4, $5, $6, $7, $8, $9,
  'held', $10) RETURNING id`,
			c.ID, c.TargetID, p.Source.String(), p.Target.String(), JSON[domain.TablePlan]{p},
			JSON[[]string]{append([]string{}, p.Key...)}, p.Binary, max(p.Table.Rows, 0), p.Table.Bytes, domain.BeingAdded)
		if duplicate(err) {
			return domain.Conflict("the target table %s is written by another crossing; close that one first", p.Target)
		}
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE crossings SET catalog = $2 WHERE id = $1`, c.ID, JSON[*domain.Catalog]{catalog})
		return err
	})
	if err != nil {
		return domain.CrossingTable{}, err
	}
	return s.Table(ctx, id)
}

// ReleaseTable lets the chunks of a table that was added be claimed.
func (s TableStore) ReleaseTable(ctx context.Context, id int64) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE tables SET state = 'loading', reason = '', started_at = now()
  WHERE id = $1 AND state = 'held'`, id)
	return err
}

// StopTable takes a table's chunks from whoever holds them, for good; the target has
// to be fenced before the table is dropped.
func (s TableStore) StopTable(ctx context.Context, id int64, reason string) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE tables SET state = 'held', reason = $2 WHERE id = $1`, id,
			reason); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE chunks SET state = 'held', leader = NULL, run = 1, epoch = epoch + 1,
  lease_until = NULL WHERE table_id = $1 AND state <> 'landed'`, id)
		return err
	})
}

// DropTable takes a table out of a crossing, with what was still to be made for it.
func (s TableStore) DropTable(ctx context.Context, crossing int64, t *domain.CrossingTable,
	made []domain.TargetObject) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM tables WHERE id = $1 AND crossing_id = $2`, t.ID,
			crossing); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM objects WHERE crossing_id = $1 AND table_name = $2`, crossing,
			t.TargetName); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE tables SET after = array_remove(after, $2) WHERE crossing_id = $1`, crossing,
			t.ID); err != nil {
			return err
		}
		var keep []string
		for _, o := range made {
			keep = append(keep, o.Kind+" "+o.Table+" "+o.Name)
		}
		_, err := tx.ExecContext(ctx, `
UPDATE objects SET state = 'left out', error = 'its table was taken out of the crossing'
 WHERE crossing_id = $1 AND stage = 'deferred' AND state IN ('waiting', 'failed')
   AND NOT kind || ' ' || table_name || ' ' || name = ANY ($2)`, crossing, append([]string{}, keep...))
		return err
	})
}

// Tables lists a crossing's tables in order.
func (s TableStore) Tables(ctx context.Context, crossing int64) ([]domain.CrossingTable, error) {
	return s.tables(ctx, tableColumns+` WHERE crossing_id = $1 ORDER BY ordinal`, crossing)
}

func (s *conn) tables(ctx context.Context, sql string, args ...any) ([]domain.CrossingTable, error) {
	rows, err := all[tableRow](ctx, s, sql, args...)
	out := make([]domain.CrossingTable, len(rows))
	for i := range rows {
		out[i] = s.table(&rows[i])
	}
	return out, err
}

func (s *conn) table(r *tableRow) domain.CrossingTable {
	r.CrossingTable.Plan = r.PlanJSON.V
	if s.Reveal != nil {
		s.Reveal(&r.CrossingTable.Plan)
	}
	return r.CrossingTable
}

// Table returns one table.
func (s TableStore) Table(ctx context.Context, id int64) (domain.CrossingTable, error) {
	row, err := single[tableRow](ctx, s, tableColumns+` WHERE id = $1`, id)
	return s.table(&row), notFound(err, "the table is no longer part of the crossing")
}

// TablesByID returns tables in the order of their numbers; one that is gone is left out.
func (s TableStore) TablesByID(ctx context.Context, ids []int64) ([]domain.CrossingTable, error) {
	return s.tables(ctx, tableColumns+` WHERE id = ANY ($1) ORDER BY id`, ids)
}

// uncutFirst is how far ahead of others tables come that are one chunk whatever their
// size: a lane is busy with such a one for as long as it takes, and changes wait meanwhile,
// the more the longer it has grown.
const uncutFirst = 1_000_000

// SaveChunks keeps how tables are cut, in place of the chunks that they had, and has their load
// begin: all of them at once, however many there are.
func (s TableStore) SaveChunks(ctx context.Context, cuts ...domain.CutTable) error {
	var ids, counts, crossings, of, places, ordinals []int64
	var states []string
	var lower, upper []*string
	for _, cut := range cuts {
		t := cut.Table
		state, place := domain.TableLoading, int64(t.Ordinal)
		if t.State == domain.TableHeld { // added, and not yet released
			state = domain.TableHeld
			crossings = append(crossings, t.CrossingID)
		}
		if !t.Plan.Splittable() {
			place -= uncutFirst
		}
		ids, counts, states = append(ids, t.ID), append(counts, int64(len(cut.Chunks))), append(states, string(state))
		for _, c := range cut.Chunks {
			from, err := keyText(c.Lower)
			if err != nil {
				return err
			}
			to, err := keyText(c.Upper)
			if err != nil {
				return err
			}
			of, places, ordinals = append(of, t.ID), append(places, place), append(ordinals, int64(c.Ordinal))
			lower, upper = append(lower, from), append(upper, to)
		}
	}
	return s.In(ctx, func(tx *sqlx.Tx) error {
		for _, q := range []struct {
			sql  string
			args []any
		}{
			{`DELETE FROM chunks WHERE table_id = ANY ($1)`, []any{ids}},
			{`INSERT INTO chunks (crossing_id, table_id, place, ordinal, lower, upper)
SELECT t.crossing_id, n.of, n.place, n.ordinal, n.lower::jsonb, n.upper::jsonb
  FROM unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::text[], $5::text[]) n (of, place, ordinal, lower, upper)
  JOIN tables t ON t.id = n.of`, []any{of, places, ordinals, lower, upper}},
			{`
UPDATE tables t SET state = n.state, reason = CASE WHEN n.state = 'held' THEN reason ELSE '' END, chunks = n.chunks,
  chunks_landed = 0, rows_landed = 0, bytes_landed = 0, read_bytes = 0,
       seen_rows = 0, seen_bytes = 0, started_at = now(), landed_at = NULL
  FROM unnest($1::bigint[], $2::bigint[], $3::text[]) n (id, chunks, state) WHERE t.id = n.id`,
				[]any{ids, counts, states}},
			{`
UPDATE crossings SET phase = CASE WHEN phase IN ('catching up', 'in step') THEN 'loading' ELSE phase END,
  below_since = NULL WHERE id = ANY ($1)`, []any{crossings}}, // those with added tables load again
		} {
			if _, err := tx.ExecContext(ctx, q.sql, q.args...); err != nil {
				return err
			}
		}
		return nil
	})
}

// keyText is how a bound of a chunk is kept, nil where there is none.
func keyText(k domain.KeyValue) (*string, error) {
	if k == nil {
		return nil, nil
	}
	b, err := json.Marshal(k)
	text := string(b)
	return &text, err
}

func nullable(k domain.KeyValue) any {
	if k == nil {
		return nil
	}
	return JSON[domain.KeyValue]{k}
}

// Resume lets a crossing go on that is paused or held, with its tables and chunks, if its
// condition is still the one that was read.
func (s TableStore) Resume(ctx context.Context, crossing int64, from domain.Condition) (bool, error) {
	resumed := false
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		if err := steering(ctx, tx, crossing); err != nil {
			return err
		}
		res, err := tx.ExecContext(ctx, `SELECT 1 FROM crossings WHERE id = $1 AND condition = $2 AND phase <> 'closed'`,
			crossing, from)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return err
		}
		resumed = true
		for _, q := range []string{
			`UPDATE chunks SET state = 'pending', attempts = 0, not_before = now() WHERE crossing_id = $1 AND state = 'held'
			    AND table_id IN (SELECT id FROM tables WHERE crossing_id = $1 AND state <> 'planned' AND reason <> '` + domain.BeingAdded + `' AND reason <> '` + domain.BeingLeftOut + `')`,
			`UPDATE chunks SET not_before = now() WHERE crossing_id = $1 AND state = 'pending'`,
			`UPDATE streams SET failures = 0, not_before = now(), error = '' WHERE crossing_id = $1`,
			`UPDATE tables SET state = CASE WHEN chunks_landed = chunks AND chunks > 0 THEN 'landed' ELSE 'loading' END,
  reason = ''
			  WHERE crossing_id = $1 AND state = 'held' AND reason <> '` + domain.BeingAdded + `' AND reason <> '` + domain.BeingLeftOut + `'`,
			`UPDATE crossings SET condition = 'running', reason = '', keep_capture = false, trouble = '' WHERE id = $1`,
		} {
			if _, err := tx.ExecContext(ctx, q, crossing); err != nil {
				return err
			}
		}
		return nil
	})
	return resumed, err
}

// CountChanges adds applied changes to a table's counters.
func (s TableStore) CountChanges(ctx context.Context, id int64, ins, upd, del, trunc int64) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE tables SET inserts = inserts + $2, updates = updates + $3, deletes = deletes + $4, truncates = truncates + $5,
  last_change_at = now() WHERE id = $1`,
		id, ins, upd, del, trunc)
	return err
}

// NoteColumnChange counts a change of a table's columns seen in the source's
// log, once for each position.
func (s TableStore) NoteColumnChange(ctx context.Context, id int64, at domain.Position) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE tables SET column_changes = column_changes + 1, column_change_at = $2, last_change_at = now()
  WHERE id = $1 AND column_change_at < $2`, id, Pos(at))
	return err
}

// Progress is the sum over a crossing's tables, rows being read included.
type Progress struct {
	Tables       int    `db:"tables"`
	TablesLanded int    `db:"tables_landed"`
	TablesHeld   int    `db:"tables_held"`
	Chunks       int    `db:"chunks"`
	ChunksLanded int    `db:"chunks_landed"`
	Rows         int64  `db:"rows"`
	Bytes        int64  `db:"bytes"`
	EstRows      int64  `db:"est_rows"`
	EstBytes     int64  `db:"est_bytes"`
	Work         string `db:"work"`
}

// SetWatermark keeps up to where a table's rows have been read.
func (s TableStore) SetWatermark(ctx context.Context, table int64, mark string) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE tables SET watermark = $2 WHERE id = $1`, table, mark)
	return err
}

// LoadInPlace lets rows of a table be replaced chunk by chunk when it begins again.
func (s TableStore) LoadInPlace(ctx context.Context, table int64) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE tables SET plan = jsonb_set(plan, '{in_place}', 'true') WHERE id = $1`, table)
	return err
}

// HasWatermark reports whether a table of a crossing has a watermark.
func (s TableStore) HasWatermark(ctx context.Context, crossing int64) (bool, error) {
	return single[bool](ctx, s, `SELECT EXISTS (SELECT FROM tables WHERE crossing_id = $1 AND plan->>'watermark' <> '')`,
		crossing)
}

// Trust notes another writing of a table's rows as one that changed none of them; false: the
// plan has another by now. Nothing else of the plan is touched, which somebody may amend.
func (s TableStore) Trust(ctx context.Context, table int64, was, now string) (bool, error) {
	return s.changed(ctx, `UPDATE tables SET plan = jsonb_set(plan, '{table,written}', to_jsonb($3::text))
  WHERE id = $1 AND plan->'table'->>'written' = $2`, table, was, now)
}

// Amend keeps a table's plan and its entry in the catalog as its columns are now, and
// lets the tables named begin again, all if the stream still has that epoch; 0: whoever follows.
func (s TableStore) Amend(ctx context.Context, crossing, epoch, table int64, p domain.TablePlan, again []int64) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		var mine bool
		if err := tx.GetContext(ctx, &mine, `SELECT $2 = 0 OR EXISTS (SELECT FROM streams WHERE crossing_id = $1
  AND epoch = $2 FOR SHARE)`, crossing, epoch); err != nil {
			return err
		}
		if !mine {
			return domain.ErrTakenOver
		}
		if _, err := tx.ExecContext(ctx, `UPDATE tables SET plan = $2, key_columns = $3, carried_binary = $4 WHERE id = $1`,
			table, JSON[domain.TablePlan]{p}, JSON[[]string]{append([]string{}, p.Key...)}, p.Binary); err != nil {
			return err
		}
		var cat JSON[*domain.Catalog]
		if err := tx.GetContext(ctx, &cat, `SELECT catalog FROM crossings WHERE id = $1 FOR UPDATE`, crossing); err != nil {
			return err
		}
		if cat.V != nil {
			if t := cat.V.Table(p.Source); t != nil {
				*t = p.Table
			}
			if _, err := tx.ExecContext(ctx, `UPDATE crossings SET catalog = $2 WHERE id = $1`, crossing, cat); err != nil {
				return err
			}
		}
		for _, id := range again {
			if err := resetTable(ctx, tx, id); err != nil {
				return err
			}
		}
		return nil
	})
}

// NothingToLoad says of a crossing's tables that their rows are on the target already.
func (s TableStore) NothingToLoad(ctx context.Context, crossing int64) error {
	_, err := s.DB.ExecContext(ctx, `UPDATE tables SET state = 'landed', landed_at = now() WHERE crossing_id = $1`,
		crossing)
	return err
}

package records

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/domain"
)

// thinStep is how many lines one statement of thinning removes at most, so that it holds no
// lock for long.
const thinStep = 1000

func journalDays(h domain.Policy) int { return h.JournalDays }
func historyDays(h domain.Policy) int { return h.HistoryDays }

// What is over, by the kind of record. Work that is under way stays whatever its age, and so
// does what a certificate or a readiness list of a crossing that is not closed may still be
// made from: the newest comparisons of each table, and cutovers.
var thinned = []struct {
	name string
	days func(domain.Policy) int
	sql  string // $1: how old, $2: how many
}{
	{"journal", journalDays, `
DELETE FROM journal WHERE id IN (SELECT id FROM journal WHERE at < now() - $1::interval
  AND id <> (SELECT id FROM journal_head) -- that the newest is there proves that none behind the rest is gone
  ORDER BY at LIMIT $2)`},
	{"runs", historyDays, `
DELETE FROM runs WHERE id IN (SELECT id FROM runs WHERE state NOT IN ('running', 'due', 'asked')
  AND ended_at < now() - $1::interval LIMIT $2)`},
	{"comparisons", historyDays, `
DELETE FROM reconciliations WHERE id IN (
  SELECT r.id FROM reconciliations r JOIN crossings c ON c.id = r.crossing_id
   WHERE r.state NOT IN ('waiting', 'running') AND r.ended_at < now() - $1::interval
     AND (c.phase = 'closed' OR r.state NOT IN ('clean', 'differing') OR NOT EXISTS (
          SELECT FROM reconciled_tables x
           WHERE x.reconciliation_id = r.id AND NOT EXISTS (
                 SELECT FROM reconciled_tables y JOIN reconciliations n ON n.id = y.reconciliation_id
                  WHERE n.crossing_id = r.crossing_id AND n.depth = r.depth AND n.id > r.id AND n.state IN ('clean',
                    'differing') AND y.name = x.name)))
     AND NOT EXISTS (SELECT FROM cutovers k WHERE k.reconciliation_id = r.id)
     AND NOT EXISTS (SELECT FROM findings f WHERE f.reconciliation_id = r.id)
   LIMIT $2)`},
	{"cutovers", historyDays, `
DELETE FROM cutovers WHERE id IN (
  SELECT k.id FROM cutovers k JOIN crossings c ON c.id = k.crossing_id
   WHERE k.state <> 'running' AND k.ended_at < now() - $1::interval AND (c.phase = 'closed' OR k.rehearsal)
     -- Whoever goes back opens what it closed.
     AND NOT EXISTS (SELECT FROM crossings b WHERE b.return_of = c.id AND b.phase <> 'closed')
   LIMIT $2)`},
	{"tasks", historyDays, `
DELETE FROM tasks WHERE id IN (
  SELECT t.id FROM tasks t
   WHERE t.state NOT IN ('waiting', 'running') AND t.ended_at < now() - $1::interval
     AND NOT EXISTS (SELECT FROM cutovers k WHERE k.task_id = t.id) AND NOT EXISTS (SELECT FROM reconciliations r
       WHERE r.task_id = t.id)
   LIMIT $2)`},
}

// thinFindings comes before comparisons, which are removed once they have none.
const thinFindings = `
DELETE FROM findings WHERE id IN (
  SELECT f.id FROM findings f JOIN reconciliations r ON r.id = f.reconciliation_id
    JOIN crossings c ON c.id = r.crossing_id
   WHERE r.state NOT IN ('waiting', 'running') AND r.ended_at < now() - $1::interval
     AND (c.phase = 'closed' OR EXISTS (
          SELECT FROM reconciled_tables y JOIN reconciliations n ON n.id = y.reconciliation_id
            JOIN reconciled_tables x ON x.reconciliation_id = r.id AND x.table_id = f.table_id
           WHERE n.crossing_id = r.crossing_id AND n.depth = r.depth AND n.id > r.id AND n.state IN ('clean',
             'differing') AND y.name = x.name))
   LIMIT $2)`

// Thin removes one step of what is older than the policy wants kept, of every kind of record,
// and returns how much of each it was.
func (s UpkeepStore) Thin(ctx context.Context, h domain.Policy) (map[string]int64, error) {
	out := map[string]int64{}
	step := func(name, statement string, days int) error {
		if days <= 0 {
			return nil
		}
		return s.In(ctx, func(tx *sqlx.Tx) error {
			if _, err := tx.ExecContext(ctx, `SET LOCAL dusty_ferry.thinning = 'on'`); err != nil {
				return err
			}
			res, err := tx.ExecContext(ctx, statement, fmt.Sprintf("%d days", days), thinStep)
			if err != nil {
				return err
			}
			n, err := res.RowsAffected()
			if n > 0 {
				out[name] = n
			}
			return err
		})
	}
	if err := step("findings", thinFindings, h.HistoryDays); err != nil {
		return out, err
	}
	for _, t := range thinned {
		if err := step(t.name, t.sql, t.days(h)); err != nil {
			return out, err
		}
	}
	return out, nil
}

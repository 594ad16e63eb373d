package records

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// UpkeepStore keeps the records themselves in order.
type UpkeepStore struct{ *conn }

// setBack is how far the clock of the control database's server may go back before what
// is due by it is looked at again; below that, nothing waits for noticeably longer.
const setBack = 2 * time.Second

// MendClock is to be called every second. Leases, pauses between tries and wishes are
// times by this server's clock alone. When it jumps ahead they are over too early, which
// epochs make harmless; when it is set back they would last for as long as it was set
// back, and a dead worker's chunks with them. MendClock notices that and lets them end
// now: whoever is alive renews a lease within two seconds. It returns how far the clock
// was set back, 0 when it was not.
func (s UpkeepStore) MendClock(ctx context.Context) (time.Duration, error) {
	var back float64
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &back, `
WITH old AS (SELECT seen FROM clock FOR UPDATE)
UPDATE clock SET seen = now() FROM old RETURNING extract(epoch FROM old.seen - now())::float8`); err != nil {
			return err
		}
		if back < setBack.Seconds() {
			return nil
		}
		for _, mend := range []string{
			`UPDATE chunks SET lease_until = least(lease_until, now()), not_before = least(not_before, now())
  WHERE state IN ('reading', 'pending')`,
			`UPDATE lanes SET lease_until = least(lease_until, now() + interval '10 seconds')`,
			`UPDATE streams SET lease_until = least(lease_until, now()), not_before = least(not_before, now()),
  ask_until = least(ask_until, now() + interval '15 seconds')`,
			`UPDATE tasks SET lease_until = least(lease_until, now()), created_at = least(created_at, now())
  WHERE state IN ('waiting', 'running')`,
			`UPDATE crossings SET rest_until = least(rest_until, now()), below_since = least(below_since, now())`,
			`UPDATE deliveries SET next_at = least(next_at, now()) WHERE next_at IS NOT NULL`,
		} {
			if _, err := tx.ExecContext(ctx, mend); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil || back < setBack.Seconds() {
		return 0, err
	}
	return time.Duration(back * float64(time.Second)), nil
}

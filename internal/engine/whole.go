package engine

import "dustyferry/internal/domain"

// InOrder applies changes of a table without a key as they happened: runs of new
// rows are put together, and each row that the source removed or changed is removed
// first, which tells how many it found.
func InOrder(p *domain.TablePlan, changes []domain.Change, put func([]domain.Row) error, remove func(domain.Row) (int64, error)) error {
	var run []domain.Row
	flush := func() error {
		err := put(run)
		run = run[:0]
		return err
	}
	for _, c := range changes {
		if c.Kind != domain.Insert {
			if err := flush(); err != nil {
				return err
			}
			n, err := remove(c.Old)
			if err != nil {
				return err
			}
			if n != 1 {
				return domain.Conflict("a row of %s (a table without a key) that the source removed or changed is not on the target; reconcile the table, or restart it", p.Target)
			}
		}
		if c.Kind != domain.Delete {
			run = append(run, c.New)
		}
	}
	return flush()
}

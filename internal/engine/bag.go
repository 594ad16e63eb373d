package engine

import (
	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
)

// ApplyBag applies changes of a table without a key by their net effect. Remove removes rows
// by all their values, as many of each as it is told, and says how many it found; put writes
// rows as they are. A row that is not there is a conflict: source and target differ already.
func ApplyBag(p *domain.TablePlan, changes []domain.Change, remove func([]fold.Copies) (int64, error),
	put func([]domain.Row) error) error {
	b, err := fold.BagOf(changes)
	if err != nil {
		return err
	}
	want := int64(0)
	for _, c := range b.Removes {
		want += int64(c.N)
	}
	if want > 0 {
		n, err := remove(b.Removes)
		if err != nil {
			return err
		}
		if n != want {
			return domain.Conflict("%d of %d rows of %s (a table without a key) that the source removed or changed are not on "+
				"the target; reconcile the table, or restart it", want-n, want, p.Target)
		}
	}
	if len(b.Puts) == 0 {
		return nil
	}
	return put(b.Puts)
}

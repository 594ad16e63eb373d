package compare

import (
	"context"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Rows that are looked at column by column are held in memory, of both sides at once, and a row can be
// large.
const (
	// fetchedBytes is how much of a side is held at once, about.
	fetchedBytes = 16 << 20
	// fetchedFirst is for how many keys rows are fetched before it is known how large they are, and
	// fetchedAtOnce for how many at most; for rows without a key, for which their whole table is read each
	// time, ten times as many.
	fetchedFirst  = 50
	fetchedAtOnce = 1000
)

// fetch gives the rows of both sides at keys, piece by piece; from is where a piece begins among the
// keys, and took for how long it was read.
func fetch(ctx context.Context, views [2]engine.View, plans [2]*domain.TablePlan, part engine.Part, keys []string,
	each func(from int, piece []string, rows [2]map[string][]domain.Row, took time.Duration) error) error {
	n, most := fetchedFirst, fetchedAtOnce
	if len(plans[0].Key) == 0 {
		n, most = 10*n, 10*most
	}
	for from := 0; from < len(keys); {
		piece := keys[from:min(from+n, len(keys))]
		var rows [2]map[string][]domain.Row
		began := time.Now()
		err := both(func(i int) (err error) {
			rows[i], err = views[i].Fetch(ctx, plans[i], part, piece)
			return err
		})
		if err != nil {
			return err
		}
		if err := each(from, piece, rows, time.Since(began)); err != nil {
			return err
		}
		from += len(piece)
		n = nextPiece(len(piece), max(sizeOf(rows[0]), sizeOf(rows[1])), most)
	}
	return nil
}

// nextPiece is how many rows to fetch, at most, after so many that had so many bytes.
func nextPiece(rows, bytes, most int) int {
	return max(1, min(most, 10*rows, fetchedBytes/max(1, bytes/rows)))
}

func sizeOf(rows map[string][]domain.Row) (n int) {
	for _, list := range rows {
		for _, r := range list {
			for i := range r {
				n += len(r[i].Data)
			}
		}
	}
	return n
}

package compare

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// shelf is a view of rows that are as large as its table says.
type shelf struct {
	engine.View
	size  func(key string) int
	asked *[]int
}

func (s shelf) Fetch(_ context.Context, _ *domain.TablePlan, _ engine.Part, keys []string) (map[string][]domain.Row,
	error) {
	out := map[string][]domain.Row{}
	for _, k := range keys {
		out[k] = []domain.Row{{{Kind: domain.Present, Data: bytes.Repeat([]byte{'x'}, s.size(k))}}}
	}
	*s.asked = append(*s.asked, len(keys))
	return out, nil
}

// TestLargeRowsAreFetchedByFew: what is held at once is bounded by bytes, whichever side has them, and
// small rows are not fetched one by one.
func TestLargeRowsAreFetchedByFew(t *testing.T) {
	for what, c := range map[string]struct {
		size  int
		keys  int
		keyed bool
		want  []int
	}{
		"small rows":             {100, 3000, true, []int{50, 500, 1000, 1000, 450}},
		"of 1 MiB":               {1 << 20, 100, true, []int{50, 16, 16, 16, 2}},
		"without a key":          {100, 3000, false, []int{500, 2500}},
		"without a key, of many": {1, 16_000, false, []int{500, 5000, 10_000, 500}},
	} {
		p := &domain.TablePlan{}
		if c.keyed {
			p.Key = []string{"id"}
		}
		keys := make([]string, c.keys)
		for i := range keys {
			keys[i] = fmt.Sprint(i)
		}
		var asked, none []int
		views := [2]engine.View{shelf{size: func(string) int { return 1 }, asked: &none},
			shelf{size: func(string) int { return c.size }, asked: &asked}}
		var got []string
		err := fetch(t.Context(), views, [2]*domain.TablePlan{p, p}, engine.Part{}, keys, func(from int, piece []string,
			rows [2]map[string][]domain.Row, _ time.Duration) error {
			if from != len(got) || len(rows[0]) != len(piece) || len(rows[1]) != len(piece) {
				t.Errorf("%s: %d keys from %d on", what, len(piece), from)
			}
			got = append(got, piece...)
			return nil
		})
		if err != nil || !slices.Equal(got, keys) || !slices.Equal(asked, c.want) {
			t.Errorf("%s: %v; asked for %v, want %v", what, err, asked, c.want)
		}
	}
	if n := nextPiece(1, 100<<20, fetchedAtOnce); n != 1 {
		t.Errorf("after a row of 100 MiB: %d", n)
	}
}

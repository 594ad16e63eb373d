package following

import (
	"context"
	"sync/atomic"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

// tellCuts has the journal say, once in a while, how many values of a table were cut as
// changes brought them.
func (f *follower) tellCuts(ctx context.Context, t *domain.CrossingTable) {
	if !t.Plan.Truncates() {
		return
	}
	var n atomic.Int64
	t.Plan.Runtime = t.Plan.Runtime.WithTruncated(func() { n.Add(1) })
	say := func() {
		if cut := n.Swap(0); cut > 0 {
			f.of.journal.Recordf(context.WithoutCancel(ctx), "warning", journal.System, f.c.Name, t.SourceName, "cut",
				"%s of %s brought by changes, longer than a rule allows: cut", domain.Many(cut, "value"), t.SourceName)
		}
	}
	f.beside.Go(func() {
		waits.Every(ctx, 3*time.Second, say)
		say()
	})
}

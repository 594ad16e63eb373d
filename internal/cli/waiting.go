package cli

import (
	"context"
	"errors"
	"time"

	"github.com/spf13/cobra"

	"dustyferry/internal/contract"
)

// waiting is whether, for what and how long a command waits.
type waiting struct {
	want    contract.Phase
	on      bool
	timeout time.Duration
}

func (w *waiting) flags(c *cobra.Command, what string) {
	c.Flags().BoolVar(&w.on, "wait", false, what)
	c.Flags().DurationVar(&w.timeout, "timeout", 0, "with --wait: how long at most, such as 30m; 0 for ever")
}

// within waits for f, as long as was asked for. What is waited for goes on without us:
// still says how.
func (w *waiting) within(ctx context.Context, still string, f func(context.Context) error) error {
	if w.timeout <= 0 {
		return f(ctx)
	}
	limit, cancel := context.WithTimeout(ctx, w.timeout)
	defer cancel()
	err := f(limit)
	if ctx.Err() == nil && limit.Err() != nil && (err == nil || errors.Is(err, context.DeadlineExceeded)) {
		return exitWith(ExitProblem, "after %s, %s", w.timeout, still)
	}
	return err
}

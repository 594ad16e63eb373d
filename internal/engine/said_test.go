package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"testing"

	"dustyferry/internal/domain"
)

// TestWhatCountsAsAway: a server that did not answer in time is away like one that cut the
// connection; one that refused what it was asked is not.
func TestWhatCountsAsAway(t *testing.T) {
	for _, x := range []struct {
		err  error
		want bool
	}{
		{Unreached("new", context.DeadlineExceeded), true},
		{fmt.Errorf("2 of 3 objects could not be made; the first: %w",
			Unreached("new", fmt.Errorf("dial: %w", context.DeadlineExceeded))), true},
		{io.ErrUnexpectedEOF, true},
		{MarkGone(errors.New("invalid connection")), true},
		{&ServerError{Class: Gone}, true},
		{&ServerError{Class: NoRoom}, true},
		{&ServerError{Class: OfRows}, false},
		{&ServerError{Class: OfStatement, Err: io.EOF}, false},
		{context.Canceled, false},
		{domain.Conflict("no"), false},
		{nil, false},
	} {
		if Away(x.err) != x.want {
			t.Errorf("%v counts as away: %v", x.err, !x.want)
		}
	}
}

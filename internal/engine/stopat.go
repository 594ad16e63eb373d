package engine

import (
	"strings"
	"time"

	"dustyferry/internal/core/follow"
	"dustyferry/internal/domain"
)

// ParseStop reads the setting stop_at, which names a time of the source or a place in its log.
// An empty one stops nowhere; at a time, the place is [follow.FarAway].
func ParseStop(d Driver, text string) (follow.Stop, error) {
	if text = strings.TrimSpace(text); text == "" {
		return follow.Stop{}, nil
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return follow.Stop{At: follow.FarAway, Clock: at.UnixMicro()}, nil
	}
	at, err := d.ParsePosition(text)
	if err != nil || at == 0 {
		return follow.Stop{}, domain.Invalid("stop_at is %q; give a time such as 2026-12-01T02:00:00Z, or a log position "+
			"such as %s", text, d.FormatPosition(0x16B374D8))
	}
	return follow.Stop{At: at}, nil
}

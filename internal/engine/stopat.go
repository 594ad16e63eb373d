package engine

import (
	"strings"
	"time"

	"dustyferry/internal/core/follow"
	"dustyferry/internal/domain"
)

// ParseStop reads the setting stop_at, which names a time of the source or a place in its log.
// An empty one stops nowhere; at a time, the place is [domain.FarAway].
func ParseStop(d Driver, text string) (follow.Stop, error) {
	if text = strings.TrimSpace(text); text == "" {
		return follow.Stop{}, nil
	}
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return follow.Stop{At: domain.FarAway, Clock: at.UnixMicro()}, nil
	}
	at, err := d.ParsePosition(text)
	if err == nil && at.IsZero() {
		err = domain.Invalid("%q is before every log", text)
	}
	if err != nil {
		return follow.Stop{}, domain.Invalid("stop_at is a log position or a time such as 2026-12-01T02:00:00Z: %s", err)
	}
	return follow.Stop{At: at}, nil
}

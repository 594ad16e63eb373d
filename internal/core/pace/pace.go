// Package pace decides how hard a load may press: how many lanes it uses, from what
// they bring and what the servers suffer, and how fast they may go at a moment. It
// holds no clock: time comes in as a value, and its state is a value that is kept
// between two looks.
package pace

import (
	"fmt"
	"time"

	"dustyferry/internal/domain"
)

// How the number of lanes is looked for. A change needs a while to show: the first
// part of a window is its settling.
const (
	Window        = 10 * time.Second
	minGain       = 1.05             // a lane more is kept when throughput grows by this
	latencyFactor = 4                // times the usual round trip that a server may take
	latencyFloor  = 40e-3            // seconds on top of that, below which nothing is made of it
	retryAfter    = 90 * time.Second // after a lane was not minGain it, before it is tried again
	relieved      = 30 * time.Second // after a server suffered
	unlearn       = 1.002            // by which the usual round trip forgets a lucky low, each look
)

// State is what is known from one look to the next. The zero value begins.
type State struct {
	Lanes  int        `json:"lanes"`
	Since  time.Time  `json:"since"`            // when Lanes became what it is
	Moved  int64      `json:"moved"`            // bytes moved at Since
	Before float64    `json:"before"`           // bytes/s with one lane less, 0: not known
	Until  time.Time  `json:"until"`            // no lane is added before
	Usual  [2]float64 `json:"usual"`            // round trips of source and target in quiet, seconds
	Reason string     `json:"reason,omitempty"` // of the last change
}

// Look is what was measured.
type Look struct {
	At    time.Time
	Moved int64      // bytes since the load began
	Trips [2]float64 // round trips of a small query to source and target, seconds; 0: not measured
	Least int
	Most  int
	Busy  int // lanes that carry a chunk
}

// Next returns the state after a look. Lanes are added one by one while throughput
// grows, taken away when a server answers slowly or the last one brought nothing, and
// always lie between least and most.
func Next(s State, l Look) State {
	set := func(lanes int, reason string, args ...any) State {
		s.Lanes, s.Since, s.Moved, s.Reason = lanes, l.At, l.Moved, fmt.Sprintf(reason, args...)
		return s
	}
	switch {
	case s.Lanes == 0:
		s.Before = 0
		set(l.Least, "the load begins with %d", l.Least)
	case s.Lanes < l.Least:
		s.Before = 0
		set(l.Least, "the least number is %d now", l.Least)
	case s.Lanes > l.Most:
		s.Before = 0
		set(l.Most, "the most is %d now", l.Most)
	}
	for i, name := range [2]string{"source", "target"} {
		t := l.Trips[i]
		if t <= 0 {
			continue
		}
		usual := s.Usual[i]
		if usual == 0 || t < usual {
			s.Usual[i] = t
			continue
		}
		s.Usual[i] = min(t, usual*unlearn)
		if t > usual*latencyFactor && t > usual+latencyFloor && s.Lanes > l.Least && l.At.Sub(s.Since) >= Window/2 {
			s.Until, s.Before = l.At.Add(relieved), 0
			return set(s.Lanes-1, "the %s answers a small query in %.0f ms, usual is %.1f ms: one lane less", name, t*1e3,
				usual*1e3)
		}
	}
	if l.At.Sub(s.Since) < Window {
		return s
	}
	rate := float64(l.Moved-s.Moved) / l.At.Sub(s.Since).Seconds()
	if s.Before > 0 && rate < s.Before*minGain && s.Lanes > l.Least {
		before := s.Before
		s.Until, s.Before = l.At.Add(retryAfter), 0
		return set(s.Lanes-1, "the last lane brought nothing (%.1f MB/s, %.1f MB/s before): one lane less", rate/1e6,
			before/1e6)
	}
	if s.Lanes >= l.Most || l.At.Before(s.Until) || l.Busy < s.Lanes {
		s.Since, s.Moved, s.Before = l.At, l.Moved, 0
		return s
	}
	s.Before = rate
	return set(s.Lanes+1, "throughput is %.1f MB/s: one lane more is tried", rate/1e6)
}

// Limits are what holds a lane back at a moment.
type Limits struct {
	Bytes int64   // per second over all lanes of a process, 0: no limit
	Rows  int64   // likewise
	Share float64 // of its time for which a lane may be reading, 0: all
	Stop  bool    // no chunk may begin
}

// Of returns the limits that the settings set at a moment.
func Of(s domain.Settings, at time.Time) Limits {
	l := Limits{Bytes: s.SpeedLimit, Rows: s.RowLimit, Share: s.SourceShare}
	if l.Share >= 1 {
		l.Share = 0
	}
	if s.Quiet(at) {
		switch {
		case s.QuietSpeed == 0: // what is on its way keeps to its own limit
			l.Stop = true
		case l.Bytes == 0 || s.QuietSpeed < l.Bytes:
			l.Bytes = s.QuietSpeed
		}
	}
	return l
}

// Load is a load whose number of lanes is looked for, or was.
type Load struct {
	ID             int64
	Name           string
	Source, Target string // databases
	Settings       domain.Settings
	Lanes          int // that it uses now; 0: as many as its settings say
	State          State
	Moved          int64 // bytes
	Busy           int   // lanes that carry a chunk
}

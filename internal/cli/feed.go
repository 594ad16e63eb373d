package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// sight is what is known of a crossing that is being watched.
type sight struct {
	crossing contract.Crossing
	tables   contract.TablePage
	lanes    contract.Lanes
	history  contract.History
	at       time.Time // of the newest beat
}

// errGone says that the crossing was removed.
var errGone = errors.New("gone")

// shownTables is how many tables a watch asks for: those that are held or load
// come first.
const shownTables = 500

// feed follows a crossing through one event stream and hands out what changed;
// lost tells that the stream broke, and it is opened again. It ends with the
// context, or with the first error that see returns.
func feed(ctx context.Context, api *client.Client, name string, full bool, see func(sight) error, lost func()) error {
	path := "/api/crossings/" + url.PathEscape(name)
	topics := []string{path}
	if full {
		topics = append(topics, fmt.Sprintf("%s/tables?sort=state&limit=%d", path, shownTables), path+"/lanes",
			path+"/history?minutes=15&points=60")
	}
	var s sight
	for ctx.Err() == nil {
		err := api.Events(ctx, "", topics, func(e client.Event) error {
			switch e.Kind {
			case "beat":
				s.at = time.Now()
				if s.crossing.Name == "" {
					return nil
				}
				return see(s)
			case "answer":
				return s.take(e.Data, topics)
			}
			return nil
		})
		var p *client.Problem
		switch {
		case ctx.Err() != nil:
			return nil
		case errors.As(err, &p), errors.Is(err, errGone), errors.Is(err, errDone):
			return err
		}
		lost()
		if pause(ctx, time.Second) != nil {
			return nil
		}
	}
	return nil
}

// errDone ends a feed that has seen what it waited for.
var errDone = errors.New("done")

func (s *sight) take(data []byte, topics []string) error {
	var a struct {
		Topic  string          `json:"topic"`
		Status int             `json:"status"`
		Body   json.RawMessage `json:"body"`
	}
	if err := json.Unmarshal(data, &a); err != nil {
		return err
	}
	if a.Status == 404 {
		return errGone
	}
	if a.Status >= 300 {
		return nil
	}
	// Each answer replaces the one before: what it leaves out is not there any more.
	var err error
	switch slices.Index(topics, a.Topic) {
	case 0:
		s.crossing, err = decode[contract.Crossing](a.Body)
	case 1:
		s.tables, err = decode[contract.TablePage](a.Body)
	case 2:
		s.lanes, err = decode[contract.Lanes](a.Body)
	case 3:
		s.history, err = decode[contract.History](a.Body)
	}
	return err
}

func decode[T any](b []byte) (T, error) {
	var v T
	err := json.Unmarshal(b, &v)
	return v, err
}

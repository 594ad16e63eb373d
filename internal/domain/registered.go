package domain

import (
	"bytes"
	"encoding/json"
	"strconv"
	"time"
)

// Database is a registered database. Secret is its password, sealed.
type Database struct {
	ID        int64
	UID       *string // nil: its secret is not bound yet
	Name      string
	Engine    string
	Host      string
	Port      int
	DBName    string
	Username  string
	Secret    []byte
	TLS       string
	CreatedAt time.Time
}

// SameWay reports whether two records of a database reach it in the same way.
func (d Database) SameWay(o Database) bool {
	return d.Host == o.Host && d.Port == o.Port && d.DBName == o.DBName && d.Username == o.Username && d.TLS == o.TLS &&
		bytes.Equal(d.Secret, o.Secret)
}

// Bound is what the password is bound to: the row it stands in and everything that says
// where it is sent.
func (d Database) Bound() string {
	return bound("database", text(d.UID), d.Engine, d.Host, strconv.Itoa(d.Port), d.Username, d.TLS)
}

// Webhook is an address that is told of events. Secret signs what is sent; it is sealed.
type Webhook struct {
	ID        int64
	UID       *string // nil: its secret is not bound yet
	Name      string
	URL       string
	Secret    []byte
	Events    []string // empty: all
	Crossings string   // pattern over names, with *
	CreatedAt time.Time
	Failures  int // tries in a row that it did not take
}

// Bound is what the signing secret is bound to.
func (w Webhook) Bound() string { return bound("webhook", text(w.UID), w.URL) }

// Delivery is one event on its way to a webhook.
type Delivery struct {
	ID        int64
	WebhookID int64
	Event     string
	Body      string
	Attempts  int
	NextAt    *time.Time
	DoneAt    *time.Time
	Answer    string
	CreatedAt time.Time
}

func bound(parts ...string) string {
	b, _ := json.Marshal(parts)
	return string(b)
}

func text(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// JournalEntry is one line of the journal.
type JournalEntry struct {
	ID       int64
	At       time.Time
	Actor    string
	Crossing string
	Subject  string
	Act      string
	Severity string // info, warning or error
	Message  string
	Detail   string // what was run or set, word for word
	Before   string // the code of the entry before, see [core/chain]; empty: of before there were any
	Code     string // its own
}

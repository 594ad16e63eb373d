package records

import (
	"context"
	"database/sql"
	"time"

	"dustyferry/internal/domain"
)

// Webhook is an address that is told of events. Secret is sealed.
type Webhook struct {
	ID        int64          `db:"id"`
	UID       *string        `db:"uid"` // nil: its secret is not bound yet
	Name      string         `db:"name"`
	URL       string         `db:"url"`
	Secret    []byte         `db:"secret"`
	Events    JSON[[]string] `db:"events"`    // empty: all
	Crossings string         `db:"crossings"` // pattern over names, with *
	CreatedAt time.Time      `db:"created_at"`
}

// Delivery is one event on its way to a webhook.
type Delivery struct {
	ID        int64        `db:"id"`
	WebhookID int64        `db:"webhook_id"`
	Event     string       `db:"event"`
	Body      string       `db:"body"`
	Attempts  int          `db:"attempts"`
	NextAt    sql.NullTime `db:"next_at"`
	DoneAt    sql.NullTime `db:"done_at"`
	Answer    string       `db:"answer"`
	CreatedAt time.Time    `db:"created_at"`
}

// AddWebhook keeps a webhook.
func (s *Store) AddWebhook(ctx context.Context, w Webhook) error {
	_, err := s.DB.NamedExecContext(ctx, `
INSERT INTO webhooks (uid, name, url, secret, events, crossings)
VALUES (:uid, :name, :url, :secret, :events, :crossings)`, w)
	if duplicate(err) {
		return domain.Conflict("a webhook named %s exists already; choose another name", w.Name)
	}
	return err
}

// Webhooks lists all, by name.
func (s *Store) Webhooks(ctx context.Context) ([]Webhook, error) {
	return all[Webhook](ctx, s, `SELECT * FROM webhooks ORDER BY name`)
}

// Webhook returns one by its name.
func (s *Store) Webhook(ctx context.Context, name string) (Webhook, error) {
	w, err := single[Webhook](ctx, s, `SELECT * FROM webhooks WHERE name = $1`, name)
	return w, notFound(err, "there is no webhook named %s; 'dustyferry webhook list' shows those that are", name)
}

// WebhookByID returns one by its number.
func (s *Store) WebhookByID(ctx context.Context, id int64) (Webhook, error) {
	w, err := single[Webhook](ctx, s, `SELECT * FROM webhooks WHERE id = $1`, id)
	return w, notFound(err, "the webhook is gone")
}

// RemoveWebhook forgets a webhook with what was on its way.
func (s *Store) RemoveWebhook(ctx context.Context, name string) error {
	ok, err := s.changed(ctx, `DELETE FROM webhooks WHERE name = $1`, name)
	if err == nil && !ok {
		err = domain.NotFound("there is no webhook named %s; 'dustyferry webhook list' shows those that are", name)
	}
	return err
}

// AddDelivery puts an event on its way.
func (s *Store) AddDelivery(ctx context.Context, webhook int64, event, body string) error {
	_, err := s.DB.ExecContext(ctx, `INSERT INTO deliveries (webhook_id, event, body) VALUES ($1, $2, $3)`, webhook, event, body)
	return err
}

// Deliveries lists a webhook's newest.
func (s *Store) Deliveries(ctx context.Context, webhook int64, limit int) ([]Delivery, error) {
	return all[Delivery](ctx, s, `SELECT * FROM deliveries WHERE webhook_id = $1 ORDER BY id DESC LIMIT $2`, webhook, limit)
}

// ClaimDelivery takes one that is due; whoever takes it and dies leaves it to be
// tried again after a minute. It returns nil when there is none.
func (s *Store) ClaimDelivery(ctx context.Context) (*Delivery, error) {
	list, err := all[Delivery](ctx, s, `
UPDATE deliveries SET attempts = attempts + 1, next_at = now() + interval '1 minute'
 WHERE id = (SELECT id FROM deliveries WHERE next_at <= now() ORDER BY next_at LIMIT 1 FOR UPDATE SKIP LOCKED) RETURNING *`)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// TellDelivery keeps what came of a try: with wait 0 there is no other.
func (s *Store) TellDelivery(ctx context.Context, id int64, done bool, answer string, wait time.Duration) error {
	_, err := s.DB.ExecContext(ctx, `
UPDATE deliveries SET answer = $3, done_at = CASE WHEN $2 THEN now() END,
       next_at = CASE WHEN $4::interval > interval '0' THEN now() + $4::interval END WHERE id = $1`, id, done, answer, seconds(wait))
	return err
}

// ThinDeliveries forgets deliveries of long ago.
func (s *Store) ThinDeliveries(ctx context.Context) error {
	_, err := s.DB.ExecContext(ctx, `DELETE FROM deliveries WHERE next_at IS NULL AND created_at < now() - interval '30 days'`)
	return err
}

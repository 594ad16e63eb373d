package records

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"dustyferry/internal/domain"
)

// WebhookStore keeps webhooks and what they are sent.
type WebhookStore struct{ *conn }

const webhookColumns = `SELECT id, uid, name, url, secret, events AS events_json, crossings, created_at, failures
  FROM webhooks`

// webhookRow is a webhook as it is kept.
type webhookRow struct {
	domain.Webhook
	EventsJSON JSON[[]string] `db:"events_json"`
}

func (s *conn) webhooks(ctx context.Context, query string, args ...any) ([]domain.Webhook, error) {
	rows, err := all[webhookRow](ctx, s, query, args...)
	out := make([]domain.Webhook, len(rows))
	for i := range rows {
		out[i] = rows[i].Webhook
		out[i].Events = rows[i].EventsJSON.V
	}
	return out, err
}

func (s WebhookStore) webhook(ctx context.Context, query string, args ...any) (domain.Webhook, error) {
	list, err := s.webhooks(ctx, query, args...)
	if err == nil && len(list) == 0 {
		err = sql.ErrNoRows
	}
	if err != nil {
		return domain.Webhook{}, err
	}
	return list[0], nil
}

// AddWebhook keeps a webhook.
func (s WebhookStore) AddWebhook(ctx context.Context, w domain.Webhook) error {
	_, err := s.DB.NamedExecContext(ctx, `
INSERT INTO webhooks (uid, name, url, secret, events, crossings)
VALUES (:uid, :name, :url, :secret, :events_json, :crossings)`, webhookRow{w, JSON[[]string]{w.Events}})
	if duplicate(err) {
		return domain.Conflict("a webhook named %s exists already; choose another name", w.Name)
	}
	return err
}

// Webhooks lists all, by name.
func (s WebhookStore) Webhooks(ctx context.Context) ([]domain.Webhook, error) {
	return s.webhooks(ctx, webhookColumns+` ORDER BY name`)
}

// Webhook returns one by its name.
func (s WebhookStore) Webhook(ctx context.Context, name string) (domain.Webhook, error) {
	w, err := s.webhook(ctx, webhookColumns+` WHERE name = $1`, name)
	return w, notFound(err, "there is no webhook named %s; 'dustyferry webhook list' shows those that are", name)
}

// WebhookByID returns one by its number.
func (s WebhookStore) WebhookByID(ctx context.Context, id int64) (domain.Webhook, error) {
	w, err := s.webhook(ctx, webhookColumns+` WHERE id = $1`, id)
	return w, notFound(err, "the webhook is gone")
}

// RemoveWebhook forgets a webhook with what was on its way.
func (s WebhookStore) RemoveWebhook(ctx context.Context, name string) error {
	ok, err := s.changed(ctx, `DELETE FROM webhooks WHERE name = $1`, name)
	if err == nil && !ok {
		err = domain.NotFound("there is no webhook named %s; 'dustyferry webhook list' shows those that are", name)
	}
	return err
}

// AddDelivery puts an event on its way.
func (s WebhookStore) AddDelivery(ctx context.Context, webhook int64, event, body string) error {
	_, err := s.DB.ExecContext(ctx, `INSERT INTO deliveries (webhook_id, event, body) VALUES ($1, $2, $3)`, webhook, event,
		body)
	return err
}

// Deliveries lists a webhook's newest. What waits is tried when those before it are through.
func (s WebhookStore) Deliveries(ctx context.Context, webhook int64, limit int) ([]domain.Delivery, error) {
	return all[domain.Delivery](ctx, s, `
SELECT d.id, d.webhook_id, d.event, d.body, d.attempts, CASE WHEN d.next_at IS NOT NULL THEN greatest(d.next_at,
  w.next_at) END AS next_at, d.done_at, d.answer, d.created_at
  FROM deliveries d JOIN webhooks w ON w.id = d.webhook_id WHERE d.webhook_id = $1 ORDER BY d.id DESC LIMIT $2`,
		webhook, limit)
}

// WebhooksDue lists the webhooks that have something to be sent and are to be tried now.
func (s WebhookStore) WebhooksDue(ctx context.Context) ([]int64, error) {
	return all[int64](ctx, s, `
SELECT w.id FROM webhooks w WHERE w.next_at <= now() AND EXISTS (SELECT FROM deliveries d WHERE d.webhook_id = w.id
  AND d.next_at IS NOT NULL)`)
}

// ClaimDelivery takes the oldest that waits for a webhook, and with it the webhook, so that
// it is sent one thing after the other; whoever takes it and dies leaves it to be tried again
// after a minute. It returns nil when there is none, or somebody else sends.
func (s WebhookStore) ClaimDelivery(ctx context.Context, webhook int64) (*domain.Delivery, error) {
	var list []domain.Delivery
	err := s.In(ctx, func(tx *sqlx.Tx) error {
		res, err := tx.ExecContext(ctx, `UPDATE webhooks SET next_at = now() + interval '1 minute'
  WHERE id = $1 AND next_at <= now()`, webhook)
		if err != nil {
			return err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return err
		}
		if err := tx.SelectContext(ctx, &list, `
UPDATE deliveries SET attempts = attempts + 1
 WHERE id = (SELECT min(id) FROM deliveries WHERE webhook_id = $1 AND next_at IS NOT NULL)
RETURNING id, webhook_id, event, body, attempts, next_at, done_at, answer, created_at`, webhook); err != nil ||
			len(list) > 0 {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE webhooks SET next_at = '-infinity' WHERE id = $1`, webhook)
		return err
	})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// Delivered keeps that a webhook took what it was sent.
func (s WebhookStore) Delivered(ctx context.Context, d *domain.Delivery, answer string) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE deliveries SET answer = $2, done_at = now(), next_at = NULL WHERE id = $1`,
			d.ID, answer); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE webhooks SET failures = 0, next_at = '-infinity' WHERE id = $1`, d.WebhookID)
		return err
	})
}

// NotDelivered keeps that a webhook did not take what it was sent: it is tried again after a
// while. What is older than that is given up.
func (s WebhookStore) NotDelivered(ctx context.Context, d *domain.Delivery, answer string, wait,
	old time.Duration) error {
	return s.In(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE deliveries SET answer = $2 WHERE id = $1`, d.ID, answer); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `
UPDATE deliveries SET next_at = NULL, answer = CASE WHEN answer = '' THEN 'given up: those before it were not taken'
  ELSE answer END
 WHERE webhook_id = $1 AND next_at IS NOT NULL AND created_at < now() - $2::interval`, d.WebhookID,
			seconds(old)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE webhooks SET failures = failures + 1, next_at = now() + $2::interval
  WHERE id = $1`, d.WebhookID, seconds(wait))
		return err
	})
}

// ThinDeliveries forgets deliveries of long ago.
func (s WebhookStore) ThinDeliveries(ctx context.Context) error {
	_, err := s.DB.ExecContext(ctx, `DELETE FROM deliveries WHERE next_at IS NULL
  AND created_at < now() - interval '30 days'`)
	return err
}

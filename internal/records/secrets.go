package records

import (
	"strings"

	"context"
	"fmt"

	"github.com/google/uuid"

	"dustyferry/internal/domain"
)

// SecretStore keeps what is sealed.
type SecretStore struct{ *conn }

// NewUID is what a secret's row is known by, whatever name or number it has.
func NewUID() string { return uuid.NewString() }

// NewCrossingUID is what a crossing is known by on servers, whatever its name: of letters and digits
// alone.
func NewCrossingUID() string { return strings.ReplaceAll(uuid.NewString(), "-", "")[:12] }

// Unbound is a secret that was sealed before secrets were bound.
type Unbound struct {
	Name   string
	Secret []byte

	database *domain.Database
	webhook  *domain.Webhook
}

// UnboundSecrets lists those secrets.
func (s SecretStore) UnboundSecrets(ctx context.Context) ([]Unbound, error) {
	var out []Unbound
	databases, err := all[domain.Database](ctx, s, databaseColumns+` WHERE uid IS NULL`)
	if err != nil {
		return nil, err
	}
	for i := range databases {
		out = append(out, Unbound{"database " + databases[i].Name, databases[i].Secret, &databases[i], nil})
	}
	webhooks, err := s.webhooks(ctx, webhookColumns+` WHERE uid IS NULL`)
	for i := range webhooks {
		out = append(out, Unbound{"webhook " + webhooks[i].Name, webhooks[i].Secret, nil, &webhooks[i]})
	}
	return out, err
}

// BindSecret keeps a secret as it is sealed for its place.
func (s SecretStore) BindSecret(ctx context.Context, x Unbound, seal func(bound string) []byte) error {
	uid := NewUID()
	table, id, place := "webhooks", int64(0), ""
	if x.database != nil {
		x.database.UID = &uid
		table, id, place = "databases", x.database.ID, x.database.Bound()
	} else {
		x.webhook.UID = &uid
		id, place = x.webhook.ID, x.webhook.Bound()
	}
	_, err := s.DB.ExecContext(ctx, fmt.Sprintf(`UPDATE %s SET uid = $2, secret = $3 WHERE id = $1 AND uid IS NULL`,
		table), id, uid, seal(place))
	return err
}

// HoldsSecrets reports whether anything is sealed.
func (s SecretStore) HoldsSecrets(ctx context.Context) (bool, error) {
	return single[bool](ctx, s, `SELECT EXISTS (SELECT 1 FROM databases) OR EXISTS (SELECT 1 FROM webhooks)`)
}

// HoldMasked holds every crossing under way that masks values, and returns their names.
func (s SecretStore) HoldMasked(ctx context.Context, reason string) ([]string, error) {
	return all[string](ctx, s, `
UPDATE crossings c SET condition = $1, reason = $2
 WHERE c.phase NOT IN ('draft', 'surveyed', 'closed')
   AND EXISTS (SELECT 1 FROM tables t WHERE t.crossing_id = c.id AND jsonb_path_exists(t.plan, '$.**.mask ? (@ != "")'))
RETURNING c.name`, domain.ConditionHeld, reason)
}

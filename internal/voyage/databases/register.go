package databases

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/domain"
)

// encryptions are the ways of a connection, the weakest first.
var encryptions = []string{"disable", "prefer", "require", "verify-full"}

// Change is another address or sign-in of a database; nil keeps what is there.
type Change struct {
	Host, User, Password, TLS *string
	Port                      *int
}

// AddDatabase registers a database after it was reached once with what was given, so
// that a wrong password is met then and not in the night.
func (s *Databases) AddDatabase(ctx context.Context, row domain.Database, password, actor string) error {
	if err := domain.ValidName(row.Name); err != nil {
		return err
	}
	if err := validAddress(row); err != nil {
		return err
	}
	uid := s.newUID()
	row.UID = &uid
	row.Secret = s.box.Seal(password, row.Bound())
	there, err := s.connect(ctx, row)
	if err != nil {
		return err
	}
	there.Close()
	if err := s.records.AddDatabase(ctx, row); err != nil {
		return err
	}
	s.journal.Recordf(ctx, "info", actor, "", row.Name, "database", "%s registered database %s (%s at %s)", actor,
		row.Name,
		row.Engine, way(row))
	return nil
}

// way says how a database is reached.
func way(row domain.Database) string {
	return fmt.Sprintf("%s:%d/%s as %s, tls %s", row.Host, row.Port, row.DBName, row.Username, row.TLS)
}

// validAddress says what is missing or wrong in how a database is reached, or nil.
func validAddress(row domain.Database) error {
	for _, f := range []struct{ name, value string }{{"host", row.Host}, {"database", row.DBName},
		{"user", row.Username}} {
		if strings.TrimSpace(f.value) == "" {
			return domain.Invalid("the %s is missing", f.name)
		}
	}
	if row.Port < 1 || row.Port > 65535 {
		return domain.Invalid("the port is %d; give a number from 1 to 65535", row.Port)
	}
	if !slices.Contains(encryptions, row.TLS) {
		return domain.Invalid("tls is %q; choose disable, prefer, require or verify-full", row.TLS)
	}
	return nil
}

// ChangeDatabase keeps how a database is reached, once it was reached so. Crossings under
// way that write to it must find there what they keep beside the rows. A stored password
// is sent to no other address, and over no weaker connection, than those it was given
// for: there it has to be given again. Whether it succeeds or not, the journal says so.
func (s *Databases) ChangeDatabase(ctx context.Context, name string, ch Change, actor string) error {
	old, err := s.records.Database(ctx, name)
	if err != nil {
		return err
	}
	row := old
	take(&row.Host, ch.Host)
	take(&row.Port, ch.Port)
	take(&row.Username, ch.User)
	take(&row.TLS, ch.TLS)
	if err := s.changeDatabase(ctx, old, row, ch.Password); err != nil {
		s.journal.Recordf(ctx, "warning", actor, "", name, "database",
			"%s tried to change database %s from %s to %s, in vain: %s", actor, name, way(old), way(row), err)
		return err
	}
	word := ""
	if ch.Password != nil {
		word = ", with another password"
	}
	s.journal.Recordf(ctx, "warning", actor, "", name, "database", "%s changed database %s from %s to %s%s", actor, name,
		way(old), way(row), word)
	return nil
}

func take[T any](to *T, from *T) {
	if from != nil {
		*to = *from
	}
}

func (s *Databases) changeDatabase(ctx context.Context, old, row domain.Database, password *string) error {
	if err := validAddress(row); err != nil {
		return err
	}
	if password == nil {
		weaker := slices.Index(encryptions, row.TLS) < slices.Index(encryptions, old.TLS)
		switch {
		case row.Host != old.Host || row.Port != old.Port:
			return domain.Invalid("give the password again: the stored one was given for %s:%d and is sent to no other address",
				old.Host, old.Port)
		case weaker:
			return domain.Invalid("give the password again: the stored one was given for a connection with tls %s and is sent "+
				"over no weaker one", old.TLS)
		}
		e, err := s.endpoint(old)
		if err != nil {
			return err
		}
		password = &e.Password
	}
	if row.UID == nil {
		uid := s.newUID()
		row.UID = &uid
	}
	row.Secret = s.box.Seal(*password, row.Bound())
	there, err := s.connect(ctx, row)
	if err != nil {
		return err
	}
	defer there.Close()
	list, err := s.records.Underway(ctx)
	if err != nil {
		return err
	}
	for i := range list {
		c := &list[i]
		if c.TargetID != row.ID || c.Kind == domain.KindLoad {
			continue
		}
		if _, _, err := there.StreamAt(ctx, c.UID); err != nil {
			return domain.Conflict("crossing %s is under way to %s, and nothing of it is found at %s:%d/%s (%s); give the "+
				"address of the same database, or close the crossing first",
				c.Name, row.Name, row.Host, row.Port, row.DBName, err)
		}
	}
	return s.records.ChangeDatabase(ctx, row)
}

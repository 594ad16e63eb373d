package databases

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dustyferry/internal/core/filekind"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
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
	var err error
	if row.Engine, err = s.recognised(ctx, row); err != nil {
		return err
	}
	if err := s.validAddress(&row); err != nil {
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

// AnyFile stands for the engine of a database that is a file: what it is, is found by looking into it.
const AnyFile = "file"

// recognised is the engine of a database: one that is a file is looked into, also where an engine is
// named for it. With that, a file that is not there is made.
func (s *Databases) recognised(ctx context.Context, row domain.Database) (string, error) {
	var kind filekind.Kind
	looked := false
	for _, d := range s.drivers {
		f, ok := d.(engine.Files)
		if !ok || row.Engine != AnyFile && row.Engine != d.Name() {
			continue
		}
		if row.Engine == d.Name() {
			if _, err := f.Make(ctx, row.DBName); err != nil {
				return "", err
			}
		}
		if !looked {
			var err error
			if kind, err = f.Look(row.DBName); err != nil {
				return "", err
			}
			looked = true
		}
		if f.Recognises(kind) {
			return d.Name(), nil
		}
	}
	if looked {
		return "", domain.Invalid("%s is a %s, which cannot be opened as a database: %s", row.DBName, kind, kind.Advice)
	}
	return row.Engine, nil
}

// file reports whether databases of an engine are files.
func (s *Databases) file(name string) bool {
	d, err := s.Driver(name)
	if err != nil {
		return false
	}
	_, is := d.(engine.Files)
	return is
}

// way says how a database is reached.
func way(row domain.Database) string {
	if row.Host == "" {
		return row.DBName
	}
	return fmt.Sprintf("%s:%d/%s as %s, tls %s", row.Host, row.Port, row.DBName, row.Username, row.TLS)
}

// validAddress says what is missing or wrong in how a database is reached, or nil.
func (s *Databases) validAddress(row *domain.Database) error {
	if s.file(row.Engine) {
		row.Host, row.Port, row.Username, row.TLS = "", 0, "", "disable"
		return nil
	}
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
	if err := s.validAddress(&row); err != nil {
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

// Package postgres is the PostgreSQL engine: PostgreSQL 11 and later as source
// and as target. It speaks SQL through pgx, moves rows as COPY data over the
// raw connection, and follows changes through the server's logical replication
// protocol with the built-in pgoutput plugin.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// bookkeeping is the schema we keep our own tables and functions in.
const bookkeeping = "dusty_ferry"

// Driver is the engine's entry point.
type Driver struct{}

// Name returns "postgres".
func (Driver) Name() string { return "postgres" }

// FormatPosition writes a log sequence number the way the server does.
func (Driver) FormatPosition(p domain.Position) string { return lsn(p) }

// ParsePosition reads a log sequence number such as 0/16B3748.
func (Driver) ParsePosition(s string) (domain.Position, error) { return parseLSN(s) }

// CheckPlace takes a log sequence number.
func (d Driver) CheckPlace(s string) error {
	_, err := d.ParsePosition(s)
	return err
}

func lsn(p domain.Position) string { return fmt.Sprintf("%X/%X", p.Number()>>32, uint32(p.Number())) }

func parseLSN(s string) (domain.Position, error) {
	hi, lo, ok := strings.Cut(s, "/")
	h, err1 := strconv.ParseUint(hi, 16, 32)
	l, err2 := strconv.ParseUint(lo, 16, 32)
	if !ok || err1 != nil || err2 != nil {
		return domain.Position{}, domain.Invalid("%q is no log position; write it like 0/16B3748", s)
	}
	return domain.PositionAt(h<<32 | l), nil
}

type database struct {
	conf *pgx.ConnConfig
	pool *pgxpool.Pool
	name string // for messages: host:port/database

	major int // version of the server

	plain atomic.Bool // large transactions are read when they have ended, not while in progress
}

var _ engine.Whole = (*database)(nil)

// session is what every connection of ours is set to, so that values have one
// text form, no row is hidden silently and definitions come fully qualified.
var session = map[string]string{
	"application_name":                    "dusty-ferry",
	"client_encoding":                     "UTF8",
	"TimeZone":                            "UTC",
	"DateStyle":                           "ISO",
	"IntervalStyle":                       "postgres",
	"extra_float_digits":                  "1",
	"bytea_output":                        "hex",
	"lc_monetary":                         "C",
	"xmloption":                           "content",
	"row_security":                        "off",
	"search_path":                         "",
	"statement_timeout":                   "0",
	"lock_timeout":                        "0",
	"idle_in_transaction_session_timeout": "0",
	"default_transaction_isolation":       "read committed",
	"default_transaction_read_only":       "off",
	"default_transaction_deferrable":      "off",
	"synchronous_commit":                  "on",
	"client_min_messages":                 "error",
	"array_nulls":                         "on",
	"standard_conforming_strings":         "on",
	"transform_null_equals":               "off",
	"quote_all_identifiers":               "off",
	"xmlbinary":                           "base64",
	"dusty_ferry.ours":                    "yes", // see guard.go
}

// since are settings that servers know from a version on.
var since = map[string]struct {
	version int
	value   string
}{
	"idle_session_timeout": {14, "0"},
	"transaction_timeout":  {17, "0"},
}

// learn asks a server what it is, so that every session can be set by what it knows.
func (d *database) learn(ctx context.Context, c *pgx.ConnConfig) error {
	conn, err := pgx.ConnectConfig(ctx, c.Copy())
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(context.WithoutCancel(ctx)) }()
	if d.major, err = strconv.Atoi(strings.FieldsFunc(conn.PgConn().ParameterStatus("server_version"), func(r rune) bool {
		return r < '0' || r > '9'
	})[0]); err != nil {
		return err
	}
	for name, s := range since {
		if d.major >= s.version {
			c.RuntimeParams[name] = s.value
		}
	}
	// Only a superuser can have set this for a role, and only one can set it back.
	var role string
	if err := conn.QueryRow(ctx, "SELECT current_setting('session_replication_role')").Scan(&role); err != nil {
		return err
	}
	if role != "origin" {
		var pe *pgconn.PgError
		if _, err := conn.Exec(ctx, "SET session_replication_role = origin"); errors.As(err, &pe) && pe.Code == "42501" {
			return domain.Conflict("for role %s the server sets session_replication_role to %s, and the role may not set it "+
				"back, so triggers and foreign keys would be passed over: ALTER ROLE %s RESET session_replication_role there, or "+
				"RESET it where the database or the server sets it",
				c.User, role, quote(c.User))
		} else if err != nil {
			return err
		}
		c.RuntimeParams["session_replication_role"] = "origin"
	}
	return nil
}

// readBack holds a session against what it was set to: something between us and the server
// may not pass settings on.
func (d *database) readBack(ctx context.Context) error {
	var names []string
	for name := range d.conf.RuntimeParams {
		if name != "application_name" {
			names = append(names, name)
		}
	}
	rows, err := d.pool.Query(ctx, "SELECT n, current_setting(n) FROM unnest($1::text[]) n", names)
	if err != nil {
		return err
	}
	var name, is string
	_, err = pgx.ForEachRow(rows, []any{&name, &is}, func() error {
		want := d.conf.RuntimeParams[name]
		if first, _, _ := strings.Cut(is, ","); is != want && first != want && (name != "search_path" || is != `""`) {
			return domain.Conflict("%s does not take our settings: %s is %q there, after it was set to %q; connect to the "+
				"server itself, without what stands between", d.name, name, is, want)
		}
		return nil
	})
	return err
}

// Open connects and returns the database.
func (Driver) Open(ctx context.Context, e engine.Endpoint) (engine.Database, error) {
	switch e.TLS {
	case "":
		e.TLS = "prefer"
	case "disable", "prefer", "require", "verify-full":
	default:
		return nil, domain.Invalid("tls is %q; choose disable, prefer, require or verify-full", e.TLS)
	}
	// With the host, as without one this may be taken for a socket of this machine, which
	// needs no encryption.
	host := strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(e.Host)
	pc, err := pgxpool.ParseConfig("host='" + host + "' sslmode=" + e.TLS)
	if err != nil {
		return nil, fmt.Errorf("preparing the connection: %w", err)
	}
	c := pc.ConnConfig
	c.Host, c.Port, c.Database, c.User, c.Password = e.Host, uint16(e.Port), e.Database, e.User, e.Password
	for _, f := range c.Fallbacks {
		f.Host, f.Port = c.Host, c.Port
	}
	if c.TLSConfig != nil {
		c.TLSConfig.ServerName = e.Host
	}
	if e.TLS != "verify-full" {
		// Whoever answers at this address could ask for the password itself, or for a
		// hash of it that can be searched; SCRAM tells nothing to who does not know it.
		c.RequireAuth = "scram-sha-256,none"
	}
	c.ConnectTimeout = 10 * time.Second
	for k, v := range session {
		c.RuntimeParams[k] = v
	}
	pc.MaxConns, pc.MinConns = 6, 0
	pc.MaxConnIdleTime = 30 * time.Second
	// A session that the server has ended while it lay idle is replaced, and nobody is told.
	pc.ShouldPing = func(_ context.Context, p pgxpool.ShouldPingParams) bool { return p.IdleDuration > mayBeGone }
	d := &database{conf: c, name: net.JoinHostPort(e.Host, strconv.Itoa(e.Port)) + "/" + e.Database}
	if err := d.learn(ctx, c); err != nil {
		return nil, d.explain(err)
	}
	d.conf = c.Copy()
	if d.pool, err = pgxpool.NewWithConfig(ctx, pc); err != nil {
		return nil, d.explain(err)
	}
	if err := d.readBack(ctx); err != nil {
		d.pool.Close()
		return nil, d.explain(err)
	}
	return d, nil
}

func (d *database) Close() { d.pool.Close() }

// mayBeGone is how long a session may lie idle and still be taken for one that lives: longer
// than the work that uses the pool often lets it lie, which would pay for a round trip each time.
const mayBeGone = 100 * time.Millisecond

// connect opens a connection outside the pool.
func (d *database) connect(ctx context.Context, params map[string]string) (*pgx.Conn, error) {
	c := d.conf.Copy()
	for k, v := range params {
		c.RuntimeParams[k] = v
	}
	conn, err := pgx.ConnectConfig(ctx, c)
	if err != nil {
		return nil, d.explain(err)
	}
	return conn, nil
}

// explain turns a connection error into one sentence that says what to do.
func (d *database) explain(err error) error {
	if err == nil {
		return nil
	}
	var pe *pgconn.PgError
	switch {
	case errors.As(err, &pe) && (pe.Code == "28P01" || pe.Code == "28000"):
		return domain.Unavailable(err, "%s refused the sign-in of %q: %s; check the user name and the password", d.name,
			d.conf.User, pe.Message)
	case errors.As(err, &pe) && pe.Code == "3D000":
		return domain.Unavailable(err, "%s: %s; check the database's name", d.name, pe.Message)
	case errors.As(err, &pe) && pe.Code == "53300":
		return domain.Unavailable(err, "%s has no free connection: %s; raise max_connections or lower the number of lanes",
			d.name, pe.Message)
	case errors.As(err, &pe) && pe.Code == "57P01": // a shutdown says the same; whoever comes next is told
		return domain.Unavailable(err, "%s ended the session: %s; try again", d.name, pe.Message)
	case errors.As(err, &pe) && strings.HasPrefix(pe.Code, "57P"):
		return domain.Unavailable(err, "%s is not taking connections: %s; wait until the server is up", d.name, pe.Message)
	case strings.Contains(err.Error(), "require_auth check failed"):
		return domain.Unavailable(err, "%s wants the password of %q in clear text or as an md5 hash, over a connection "+
			"that does not prove who answers; set password_encryption = 'scram-sha-256' there and give the user its password "+
			"anew, or use tls: verify-full", d.name, d.conf.User)
	case errors.As(err, new(*engine.ServerError)):
		return err
	case pgconn.SafeToRetry(err) && strings.Contains(err.Error(), "conn closed"): // by what came before
		return domain.Unavailable(engine.MarkGone(err), "%s cut the connection; see that the server runs, and its log",
			d.name)
	case errors.As(err, &pe):
		return &engine.ServerError{Text: sentence(d.name, pe), Class: classOf(pe), Err: err}
	}
	return engine.Unreached(d.name, err)
}

func sentence(where string, pe *pgconn.PgError) string {
	s := fmt.Sprintf("%s said: %s (SQLSTATE %s)", where, pe.Message, pe.Code)
	if pe.Detail != "" {
		s += ", " + strings.TrimSuffix(pe.Detail, ".")
	}
	if pe.Hint != "" {
		s += ", hint: " + strings.TrimSuffix(pe.Hint, ".")
	}
	return s
}

// quote quotes an identifier.
func quote(name string) string { return pgx.Identifier{name}.Sanitize() }

func qualified(t domain.TableName) string { return pgx.Identifier{t.Schema, t.Name}.Sanitize() }

// literal quotes a value.
func literal(s string) string {
	s = strings.ReplaceAll(s, "'", "''")
	if strings.Contains(s, `\`) {
		return ` E'` + strings.ReplaceAll(s, `\`, `\\`) + `'`
	}
	return `'` + s + `'`
}

func quoteAll(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = quote(n)
	}
	return strings.Join(out, ", ")
}

// columnList is a statement's list of columns in brackets; a table may have none.
func columnList(cols []domain.Column) string {
	if len(cols) == 0 {
		return ""
	}
	return " (" + quoteAll(columnNames(cols)) + ")"
}

func columnNames(cols []domain.Column) []string {
	out := make([]string, len(cols))
	for i, c := range cols {
		out[i] = c.Name
	}
	return out
}

// only keeps a read of an ordinary table from reaching into tables that inherit
// from it; a partitioned table is read through its root.
func only(p *domain.TablePlan) string {
	if p.Table.PartitionBy != "" {
		return ""
	}
	return "ONLY "
}

// keyRange is the condition that selects a chunk, in the server's own order.
func keyRange(p *domain.TablePlan, lower, upper domain.KeyValue) string {
	if lower == nil && upper == nil && p.Where == "" {
		return ""
	}
	var cond []string
	if p.Where != "" {
		cond = append(cond, "("+p.Where+")")
	}
	if lower != nil {
		cond = append(cond, beyond(p, ">", lower, true))
	}
	if upper != nil {
		cond = append(cond, beyond(p, "<", upper, false))
	}
	return " WHERE " + strings.Join(cond, " AND ")
}

// beyond is the condition that a row's key lies on one side of a bound, or with same at it.
func beyond(p *domain.TablePlan, side string, bound domain.KeyValue, same bool) string {
	value := func(i int) string { return literal(bound[i]) + "::" + columnOf(p, p.Key[i]).Type }
	with := side
	if same {
		with += "="
	}
	own := false
	for _, k := range p.Key {
		own = own || columnOf(p, k).Operators != ""
	}
	switch {
	case len(p.Key) == 1:
		return quote(p.Key[0]) + operator(*columnOf(p, p.Key[0]), with) + value(0)
	case !own:
		values := make([]string, len(bound))
		for i := range bound {
			values[i] = value(i)
		}
		return "ROW(" + quoteAll(p.Key) + ") " + with + " ROW(" + strings.Join(values, ", ") + ")"
	}
	// Rows are compared by operators of one name and schema; here each column has its own.
	last := len(p.Key) - 1
	out := quote(p.Key[last]) + operator(*columnOf(p, p.Key[last]), with) + value(last)
	for i := last - 1; i >= 0; i-- {
		c := *columnOf(p, p.Key[i])
		out = fmt.Sprintf("(%[1]s%[2]s%[3]s AND (%[1]s%[4]s%[3]s OR %[5]s))", quote(p.Key[i]), operator(c, side+"="),
			value(i), operator(c, side), out)
	}
	return out
}

// operator is an operator of a column's type, with its schema where that is not the system's:
// our sessions look for nothing anywhere else.
func operator(c domain.Column, name string) string {
	if c.Operators == "" {
		return " " + name + " "
	}
	return " OPERATOR(" + quote(c.Operators) + "." + name + ") "
}

func equals(c domain.Column) string { return operator(c, "=") }

func columnOf(p *domain.TablePlan, name string) *domain.Column {
	for i := range p.Columns {
		if p.Columns[i].Name == name {
			return &p.Columns[i]
		}
	}
	return &domain.Column{Name: name, Type: "text"}
}

func format(p *domain.TablePlan) string {
	if p.Binary {
		return "binary"
	}
	return "text"
}

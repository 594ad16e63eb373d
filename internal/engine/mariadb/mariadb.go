// Package mariadb is the engine for MariaDB 10.6 and later. As a source it reads
// chunks in consistent snapshots whose place in the binary log is exact, and
// follows changes through its own client of the server's replication protocol. As
// a target it takes chunks through LOAD DATA and changes in folded batches, each
// in one transaction with its mark or position.
//
// Rows travel as texts in the target's form, as the plan's other side says; see
// core/typemap.
package mariadb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Driver opens MariaDB databases.
type Driver struct{}

// Name is how people choose this engine.
func (Driver) Name() string { return "mariadb" }

// fileBits is how much of a position counts bytes within a log file; the number
// of the file stands above it.
const fileBits = 32

// position joins a log file's number and an offset in it. A place past 4 GiB is taken for the
// last that can be said: whoever waits for it waits until the file has been read to its end,
// where capture stops and says that the file is too large.
func position(file, offset uint64) domain.Position {
	return domain.PositionAt(file<<fileBits | min(offset, 1<<fileBits-1))
}

// FormatPosition writes a position as the log file's number and an offset.
func (Driver) FormatPosition(p domain.Position) string {
	return fmt.Sprintf("%06d:%d", p.Number()>>fileBits, p.Number()&(1<<fileBits-1))
}

// CheckPlace takes a file and an offset, or a GTID.
func (d Driver) CheckPlace(s string) error {
	if _, err := d.ParsePosition(s); err == nil {
		return nil
	}
	if at, err := parseGTIDs(s); err == nil && len(at) > 0 {
		return nil
	}
	return domain.Invalid("%q is no place in a MariaDB log; write it like 000012:3456, the log file's number and the "+
		"offset in it, or as a GTID, domain-server-sequence, such as 0-1-2718", s)
}

// ParsePosition reads what FormatPosition wrote, and the same with the file's whole name.
func (Driver) ParsePosition(s string) (domain.Position, error) {
	file, offset, ok := strings.Cut(s, ":")
	if dot := strings.LastIndexByte(file, '.'); dot > 0 {
		file = file[dot+1:]
	}
	f, err1 := strconv.ParseUint(file, 10, 32)
	o, err2 := strconv.ParseUint(offset, 10, 32)
	if !ok || err1 != nil || err2 != nil {
		return domain.Position{},
			domain.Invalid("%q is no log position; write it like 000012:3456, the log file's number and the "+
				"offset in it", s)
	}
	return position(f, o), nil
}

var _ engine.Whole = (*database)(nil)

// database is one open database.
type database struct {
	known atomic.Pointer[[]string] // the tables that its catalog had when it was read last
	pool  *sql.DB
	end   engine.Endpoint
	name  string // host:port/database, for messages
	idle  chan *wire

	pooled   sync.Map // the pool's connections (*pooled) by their numbers on the server (uint32)
	prepared seen
}

// sqlMode refuses what a column cannot hold, and takes what another server of
// this engine may hold: dates that do not exist, zero where numbering begins.
const sqlMode = "'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION,ALLOW_INVALID_DATES,NO_AUTO_VALUE_ON_ZERO'"

// Open connects and returns the database.
func (Driver) Open(ctx context.Context, e engine.Endpoint) (engine.Database, error) {
	switch e.TLS {
	case "":
		e.TLS = "prefer"
	case "disable", "prefer", "require", "verify-full":
	default:
		return nil, domain.Invalid("tls is %q; choose disable, prefer, require or verify-full", e.TLS)
	}
	c := mysql.NewConfig()
	// Without the password: pooled connections are signed in by us.
	c.User, c.Net, c.Addr, c.DBName = e.User, "tcp", net.JoinHostPort(e.Host, strconv.Itoa(e.Port)), e.Database
	c.Timeout, c.InterpolateParams, c.Collation, c.ClientFoundRows = 10*time.Second, true, "utf8mb4_general_ci", true
	c.MaxAllowedPacket = 0 // as the server says
	c.Logger = &mysql.NopLogger{}
	d := &database{end: e, name: c.Addr + "/" + e.Database, idle: make(chan *wire, idleWires)}
	c.DialFunc = d.dialPooled
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, fmt.Errorf("preparing the connection: %w", err)
	}
	d.pool = sql.OpenDB(pinner{connector, d})
	d.pool.SetMaxOpenConns(60)
	d.pool.SetMaxIdleConns(4)
	d.pool.SetConnMaxIdleTime(30 * time.Second)
	if err := d.pool.PingContext(ctx); err != nil {
		_ = d.pool.Close()
		return nil, d.explain(err)
	}
	return d, nil
}

func (d *database) Close() {
	_ = d.pool.Close()
	for {
		select {
		case c := <-d.idle:
			c.close()
		default:
			return
		}
	}
}

// explain turns an error into one sentence that says what to do.
func (d *database) explain(err error) error {
	var se *mysql.MySQLError
	switch {
	case err == nil:
		return nil
	case errors.As(err, new(*engine.ServerError)), errors.As(err, new(*domain.Problem)):
		return err
	case errors.As(err, &se) && se.Number == signInRefused:
		return domain.Unavailable(err, "%s", se.Message)
	case errors.As(err, &se) && (se.Number == 1045 || se.Number == 1698 || se.Number == 1044):
		return domain.Unavailable(err, "%s refused the sign-in of %q: %s; check the user name, the password and the "+
			"user's rights", d.name, d.end.User, se.Message)
	case errors.As(err, &se) && se.Number == 1049:
		return domain.Unavailable(err, "%s: %s; check the database's name", d.name, se.Message)
	case errors.As(err, &se) && (se.Number == 1040 || se.Number == 1203):
		return domain.Unavailable(&engine.ServerError{Text: se.Message, Class: engine.NoRoom, Err: err},
			"%s has no free connection: %s; raise max_connections or lower the number of lanes", d.name, se.Message)
	case errors.As(err, &se):
		return &engine.ServerError{Text: fmt.Sprintf("%s said: %s (error %d, SQLSTATE %s)", d.name, se.Message, se.Number,
			string(se.SQLState[:])), Class: classOf(se), Err: err}
	case errors.Is(err, mysql.ErrInvalidConn), errors.Is(err, driver.ErrBadConn), errors.Is(err, io.ErrUnexpectedEOF),
		errors.Is(err, io.EOF):
		return domain.Unavailable(engine.MarkGone(err), "%s cut the connection; see that the server runs, and its log",
			d.name)
	}
	return engine.Unreached(d.name, err)
}

// quote quotes an identifier.
func quote(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

func qualified(t domain.TableName) string { return quote(t.Schema) + "." + quote(t.Name) }

func quoteAll(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = quote(n)
	}
	return strings.Join(out, ", ")
}

// literal writes a value, given as text in the target's form, so that the server
// takes it for the column's own kind: numbers compare as numbers, and texts by the
// column's own order.
func literal(c domain.Column, v string) string {
	switch base := strings.TrimSuffix(c.BaseType, " unsigned"); {
	case base == "bit" && ones(v):
		return "b'" + v + "'"
	case typemap.IsBytes(base):
		if hex, ok := strings.CutPrefix(v, `\x`); ok {
			return "X'" + hex + "'"
		}
	case plainNumber[base] && digits(v):
		return v
	case base == "float":
		v = told(v)
	case base == "timestamp": // a PostgreSQL target's form has the zone behind
		v = strings.TrimSuffix(v, "+00")
	}
	return "'" + escape.Replace(v) + "'"
}

// sought is a value that a column is compared with. A number of four bytes is compared in
// eight, where its text is another number.
func sought(c domain.Column, v string) string {
	if strings.TrimSuffix(c.BaseType, " unsigned") == "float" {
		return "CAST(" + literal(c, v) + " AS FLOAT)"
	}
	return literal(c, v)
}

var (
	escape      = strings.NewReplacer(`\`, `\\`, `'`, `''`, "\x00", `\0`)
	plainNumber = map[string]bool{"tinyint": true, "smallint": true, "mediumint": true, "int": true, "bigint": true,
		"decimal": true, "year": true}
)

func ones(v string) bool { return v != "" && strings.Trim(v, "01") == "" }

// digits reports whether v can stand in a statement as it is.
func digits(v string) bool {
	return v != "" && strings.Trim(v, "0123456789-.") == "" && strings.ContainsAny(v, "0123456789")
}

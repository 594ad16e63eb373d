package hunt

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
)

// session is one of an application's, on either kind of server.
type session interface {
	// exec carries statements out, with ; between them.
	exec(ctx context.Context, sql string) error
	gone() bool
	close(ctx context.Context)
}

type pgSession struct{ c *pgconn.PgConn }

func (s pgSession) exec(ctx context.Context, sql string) error {
	_, err := s.c.Exec(ctx, sql).ReadAll()
	return err
}
func (s pgSession) gone() bool                { return s.c.IsClosed() }
func (s pgSession) close(ctx context.Context) { _ = s.c.Close(ctx) }

type mariaSession struct {
	db   *sql.DB
	c    *sql.Conn
	lost bool
}

func (s *mariaSession) exec(ctx context.Context, sql string) error {
	_, err := s.c.ExecContext(ctx, sql)
	var said *mysql.MySQLError
	s.lost = s.lost || err != nil && !errors.As(err, &said)
	return err
}
func (s *mariaSession) gone() bool { return s.lost }
func (s *mariaSession) close(context.Context) {
	// Returned to a pool it would live on with its open transaction.
	_ = s.c.Raw(func(any) error { return errors.New("done with") })
	_ = s.c.Close()
	_ = s.db.Close()
}

// maria opens a session of a MariaDB server.
func (r *run) maria(s side, user, password, database string) (*mariaSession, error) {
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Addr, c.DBName = user, password, "tcp", fmt.Sprintf("%s:%d", s.maria.Host, s.maria.Port),
		database
	c.MultiStatements, c.Logger = true, &mysql.NopLogger{}
	db, err := sql.Open("mysql", c.FormatDSN())
	if err != nil {
		return nil, err
	}
	one, err := db.Conn(r.ctx)
	if err != nil {
		_ = db.Close()
		return nil, err
	}
	return &mariaSession{db: db, c: one}, nil
}

// connect opens the session of that name: "source super" is the administrator's, every
// other the application's, which is pinned: it is tested by what it does.
func (r *run) connect(on string) (session, error) {
	s, database := r.source, r.source.database
	if strings.HasPrefix(on, "target") {
		s, database = r.target, r.target.database
	}
	if s.maria == nil {
		c, err := pgconn.Connect(r.ctx, s.url(s.server.User, s.server.Password))
		if err != nil {
			return nil, err
		}
		p := pgSession{c}
		if strings.HasPrefix(on, "target careless") { // who is not stopped by a guard
			if err := p.exec(r.ctx, "SET dusty_ferry.ours = 'yes'"); err != nil {
				return nil, err
			}
		}
		return p, p.exec(r.ctx, "SET client_min_messages = error; SET statement_timeout = '20s'; SET lock_timeout = '4s'; "+
			"SET DateStyle = ISO; SET IntervalStyle = postgres;"+
			"SET default_transaction_read_only = off; SET default_transaction_isolation = 'read committed'; SET "+
			"idle_in_transaction_session_timeout = 0; SET search_path = public")
	}
	if strings.HasSuffix(on, " super") {
		return r.maria(s, s.maria.User, s.maria.Password, database)
	}
	m, err := r.maria(s, "app_"+s.user, "honey", database)
	if err != nil {
		return nil, err
	}
	return m, m.exec(r.ctx, mariaPinned)
}

// mariaPinned makes a session as applications have them, whatever the server is set to.
const mariaPinned = `SET NAMES utf8mb4; SET SESSION sql_mode = 'STRICT_TRANS_TABLES', time_zone = '+00:00',
  autocommit = 1, completion_type = 0, foreign_key_checks = 1, unique_checks = 1,
 sql_select_limit = 18446744073709551615, sql_big_selects = 1, sql_safe_updates = 0, div_precision_increment = 4,
   group_concat_max_len = 1000000, max_statement_time = 20, lock_wait_timeout = 4, innodb_lock_wait_timeout = 4,
   wait_timeout = 600, tx_isolation = 'REPEATABLE-READ', sql_auto_is_null = 0`

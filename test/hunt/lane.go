package hunt

import (
	"context"
	"fmt"
	"maps"
	"os"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/localserver"
)

// Lane is a place where one script runs at a time: two servers and a product.
type Lane struct {
	dir            string
	binary         string
	world          World
	source, target side
	records        *localserver.Postgres // where the service keeps its own
	product        *product
	made           int
}

// World is what servers a lane has.
type World struct {
	Source, Target string            // their engines
	Settings       map[string]string // that they are started with
}

// Pair is the world's engines by their first letters, such as pm.
func (w World) Pair() string { return w.Source[:1] + w.Target[:1] }

// Worlds are the lanes there are; the number of a seed says which one is its own.
var Worlds = []World{
	{"postgres", "postgres", nil},
	{"postgres", "postgres", map[string]string{"wal_writer_delay": "10s", "log_statement": "all",
		"client_min_messages": "debug1", "bytea_output": "escape", "DateStyle": "German, DMY",
		"IntervalStyle": "sql_standard", "extra_float_digits": "-3", "row_security": "off",
		"logical_decoding_work_mem": "64kB", "TimeZone": "America/St_Johns"}},
	{"postgres", "postgres", map[string]string{"wal_writer_delay": "10s", "logical_decoding_work_mem": "256kB",
		"default_transaction_isolation": "serializable", "statement_timeout": "20s", "lock_timeout": "3s",
		"idle_in_transaction_session_timeout": "15s", "shared_buffers": "16MB"}},
	{"mariadb", "mariadb", nil},
	{"mariadb", "postgres", nil},
	{"postgres", "mariadb", nil},
	{"mariadb", "mariadb", map[string]string{"log-bin-compress": "ON", "log-bin-compress-min-len": "10",
		"binlog-row-metadata": "FULL", "binlog-checksum": "NONE", "max-binlog-size": "65536",
		"character-set-server": "latin1", "collation-server": "latin1_swedish_ci", "default-time-zone": "-03:30",
		"skip-character-set-client-handshake": "ON"}},
	{"mariadb", "postgres", map[string]string{"init-connect": "SET NAMES latin1", "binlog-annotate-row-events": "OFF",
		"max-binlog-size": "131072", "sql-mode": "ANSI_QUOTES,PAD_CHAR_TO_FULL_LENGTH",
		"max-allowed-packet": "1048576", "default-time-zone": "+05:45"}},
}

// WorldOf is the world of a seed.
func WorldOf(seed uint64) World { return Worlds[seed%uint64(len(Worlds))] }

// NewLane starts the servers of a lane, whose world is the number's, and a product of the
// binary.
func NewLane(ctx context.Context, binary string, number int) (*Lane, error) {
	dir, err := os.MkdirTemp("", "hunt-")
	if err != nil {
		return nil, err
	}
	l := &Lane{dir: dir, binary: binary, world: Worlds[number]}
	if err := l.launchAll(ctx); err != nil {
		l.Close()
		return nil, err
	}
	return l, nil
}

func (l *Lane) launchAll(ctx context.Context) (err error) {
	l.source.name, l.target.name = "source", "target"
	for _, x := range []struct {
		side   *side
		engine string
	}{{&l.source, l.world.Source}, {&l.target, l.world.Target}} {
		settings := map[string]string{}
		if l.world.Source == x.engine || l.world.Source != "postgres" && x.engine != "postgres" {
			maps.Copy(settings, l.world.Settings)
		}
		o := localserver.Options{Settings: settings, Password: "salt & honey", Durable: true}
		if x.engine == "mariadb" {
			if x.side.maria, err = localserver.StartMariaDB(ctx, o); err != nil {
				return err
			}
			continue
		}
		for k, v := range map[string]string{"max_replication_slots": "20", "max_wal_senders": "20",
			"max_prepared_transactions": "20"} {
			settings[k] = v
		}
		if x.side.server, err = localserver.StartPostgres(ctx, o); err != nil {
			return err
		}
	}
	if l.records = l.target.server; l.records == nil {
		if l.records, err = localserver.StartPostgres(ctx, localserver.Options{Password: "salt & honey"}); err != nil {
			return err
		}
	}
	if err := l.superuser(ctx, l.records, "CREATE DATABASE control TEMPLATE template0 ENCODING 'UTF8' LC_COLLATE "+
		"'C.UTF-8' LC_CTYPE 'C.UTF-8'"); err != nil {
		return err
	}
	// What the records of the service stand on is not what is hunted.
	for _, set := range []string{"synchronous_commit = on", "statement_timeout = 0", "lock_timeout = 0",
		"default_transaction_isolation = 'read committed'",
		"idle_in_transaction_session_timeout = 0", "client_min_messages = notice", "\"DateStyle\" = 'ISO'",
		"\"IntervalStyle\" = 'postgres'", "\"TimeZone\" = 'UTC'"} {
		if err := l.superuser(ctx, l.records, "ALTER DATABASE control SET "+set); err != nil {
			return err
		}
	}
	l.product, err = launch(ctx, l.binary, l.dir, l.records.URL("control"))
	return err
}

// Close ends everything the lane started.
func (l *Lane) Close() {
	if l.product != nil {
		l.product.stop()
	}
	for _, s := range []*localserver.Postgres{l.source.server, l.target.server, l.records} {
		if s != nil {
			s.Stop()
		}
	}
	l.source.maria.Stop()
	l.target.maria.Stop()
	_ = os.RemoveAll(l.dir)
}

func (l *Lane) superuser(ctx context.Context, s *localserver.Postgres, sql ...string) error {
	c, err := pgx.Connect(ctx, s.URL("postgres"))
	if err != nil {
		return err
	}
	defer func() { _ = c.Close(ctx) }()
	for _, q := range sql {
		if _, err := c.Exec(ctx, q); err != nil {
			return fmt.Errorf("%s: %w", q, err)
		}
	}
	return nil
}

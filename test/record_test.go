package test

import (
	"context"
	"database/sql"
	bin "encoding/binary"
	"flag"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgproto3"

	"dustyferry/internal/localserver"
)

var record = flag.Bool("record", false, "write what real servers log into the decoders' test data")

// TestRecordLogs writes the recordings that the decoders' own tests and fuzzing begin from:
// go test -run TestRecordLogs ./test -args -record
func TestRecordLogs(t *testing.T) {
	if !*record {
		t.Skip("the recordings stand; -record makes them anew")
	}
	recordPostgres(t, "../internal/protocol/pgoutput/testdata/recorded.bin")
	recordMaria(t, "../internal/protocol/binlog/testdata/recorded.bin")
}

// recordPostgres keeps the messages of a stream, each behind its length in four bytes.
func recordPostgres(t *testing.T, file string) {
	p, err := localserver.StartPostgres(t.Context(),
		localserver.Options{Settings: map[string]string{"max_prepared_transactions": "5",
			"logical_decoding_work_mem": "64kB"}})
	check(t, err)
	defer p.Stop()
	url := p.URL("postgres")
	exec1(t, url, `CREATE TYPE temper AS ENUM ('calm', 'lively');
CREATE TABLE keepers (id integer PRIMARY KEY, name text, joined date);
CREATE TABLE hives (id bigint PRIMARY KEY, keeper integer REFERENCES keepers, temper temper, weight numeric(7,3),
  photo bytea, note text);
ALTER TABLE hives ALTER note SET STORAGE EXTERNAL;
CREATE TABLE visits (hive bigint, said text); ALTER TABLE visits REPLICA IDENTITY FULL;
CREATE PUBLICATION recorded FOR ALL TABLES`)
	exec1(t, url, `SELECT pg_create_logical_replication_slot('recorded', 'pgoutput')`)
	for _, q := range []string{
		`INSERT INTO keepers VALUES (1, 'Ada of the dyke', '2019-05-01'), (2, NULL, NULL); INSERT INTO hives
  VALUES (1, 1, 'calm', 21.5, '\x00ff', repeat('long note ', 400)), (2, 2, 'lively', NULL, NULL, '')`,
		`UPDATE hives SET weight = weight + 1`, `UPDATE hives SET id = 20 WHERE id = 2`, `DELETE FROM hives WHERE id = 20`,
		`INSERT INTO visits VALUES (1, 'a kind word'), (1, NULL)`, `UPDATE visits SET said = 'two' WHERE said IS NULL`,
		`DELETE FROM visits WHERE said = 'two'`,
		`ALTER TABLE hives ADD COLUMN frames smallint DEFAULT 10; INSERT INTO hives VALUES (3, 1, 'calm', 0, '', 'after', 8)`,
		`TRUNCATE hives, keepers RESTART IDENTITY`, `SELECT pg_logical_emit_message(true, 'dusty_ferry', 'heartbeat')`,
		`BEGIN; INSERT INTO visits SELECT g, 'streamed ' || g FROM generate_series(1, 500) g; SAVEPOINT s; INSERT INTO visits
  SELECT g, 'never ' || g FROM generate_series(1, 500) g; ROLLBACK TO SAVEPOINT s; INSERT INTO visits
  SELECT g, 'after ' || g FROM generate_series(1, 500) g; COMMIT`,
		`BEGIN; INSERT INTO visits SELECT g, 'given up ' || g FROM generate_series(1, 900) g; ROLLBACK`,
		`BEGIN; INSERT INTO visits VALUES (7, 'prepared'); PREPARE TRANSACTION 'honey'`, `COMMIT PREPARED 'honey'`,
		`SELECT pg_replication_origin_create('elsewhere'); SELECT pg_replication_origin_session_setup('elsewhere');
  INSERT INTO visits VALUES (8, 'from elsewhere')`,
	} {
		exec1(t, url, q)
	}
	conn, err := pgx.Connect(t.Context(), url+"&replication=database")
	check(t, err)
	defer func() { _ = conn.Close(context.Background()) }()
	front := conn.PgConn().Frontend()
	front.SendQuery(&pgproto3.Query{
		String: `START_REPLICATION SLOT recorded LOGICAL 0/0 (proto_version '2', streaming 'on', messages 'true', publication_names 'recorded')`})
	check(t, front.Flush())
	var out []byte
	for {
		wait, stop := context.WithTimeout(t.Context(), 3*time.Second)
		m, err := conn.PgConn().ReceiveMessage(wait)
		stop()
		if err != nil {
			break
		}
		if d, ok := m.(*pgproto3.CopyData); ok && len(d.Data) > 25 && d.Data[0] == 'w' {
			out = append(bin.BigEndian.AppendUint32(out, uint32(len(d.Data)-25)), d.Data[25:]...)
		}
	}
	keep(t, file, out)
}

// recordMaria keeps a log file of the server as it is.
func recordMaria(t *testing.T, file string) {
	m, err := localserver.StartMariaDB(t.Context(), localserver.Options{Password: "thyme",
		Settings: map[string]string{"log-bin-compress": "ON", "log-bin-compress-min-len": "200"}})
	check(t, err)
	defer m.Stop()
	db, err := sql.Open("mysql", m.DSN(""))
	check(t, err)
	defer func() { _ = db.Close() }()
	maria(t, db, "CREATE DATABASE marsh CHARACTER SET utf8mb4", "FLUSH BINARY LOGS",
		`CREATE TABLE marsh.hives (id bigint unsigned PRIMARY KEY, name varchar(300), temper enum('calm','lively'),
  marks set('queen','swarm'), weight decimal(12,5), grams float, litres double, flags bit(11),
  seen datetime(6), at timestamp(3) NULL, day date, clock time(2), year year, photo longblob, note text, small tinyint,
    few smallint unsigned, some mediumint) ENGINE=InnoDB`,
		"INSERT INTO marsh.hives VALUES (1, 'dyke', 'calm', 'queen,swarm', -12345.67891, 1.5, -2.25, b'10100000001', "+
			"'2026-11-28 04:00:00.123456', '2026-11-28 04:00:00.5', '0000-00-00', '-838:59:58.99', 1999, x'00ff', 'kind', "+
			"-128, 65535, -8388608), (18446744073709551615, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, "+
			"NULL, NULL, NULL, NULL, NULL, NULL)",
		"UPDATE marsh.hives SET note = repeat('a long note ', 60) WHERE id = 1", "UPDATE marsh.hives SET id = 2 WHERE id = 1",
		"DELETE FROM marsh.hives WHERE id > 2",
		"ALTER TABLE marsh.hives ADD COLUMN frames int DEFAULT 10 AFTER name", "TRUNCATE TABLE marsh.hives",
		"INSERT INTO marsh.hives (id, name) SELECT seq, concat('hive ', seq) FROM marsh.seq_1_to_300",
		"INSERT INTO marsh.hives (id, note) VALUES (1000, repeat('wax and honey ', 90))")
	for i, image := range []string{"MINIMAL", "NOBLOB"} {
		one, err := db.Conn(t.Context())
		check(t, err)
		for _, q := range []string{"SET SESSION binlog_row_image = " + image, "UPDATE marsh.hives SET few = 9, note = '" +
			image + "' WHERE id < 4", "DELETE FROM marsh.hives WHERE id = 5", "SET SESSION binlog_row_image = FULL",
			"XA START 'honey','comb'", "UPDATE marsh.hives SET some = " + itoa(i) + " WHERE id = 9", "XA END 'honey','comb'",
			"XA PREPARE 'honey','comb'", "XA COMMIT 'honey','comb'"} {
			_, err := one.ExecContext(t.Context(), q)
			check(t, err)
		}
		_ = one.Close()
	}
	maria(t, db, "FLUSH BINARY LOGS") // a file that is being written says so, against its own checksum
	var dir string
	check(t, db.QueryRow("SELECT @@datadir").Scan(&dir))
	rows, err := db.Query("SHOW BINARY LOGS")
	check(t, err)
	var name, next string
	for rows.Next() {
		var size int64
		name = next
		check(t, rows.Scan(&next, &size))
	}
	check(t, rows.Err())
	b, err := os.ReadFile(filepath.Join(dir, name))
	check(t, err)
	keep(t, file, b)
}

func keep(t *testing.T, file string, b []byte) {
	t.Helper()
	check(t, os.MkdirAll(filepath.Dir(file), 0o755))
	check(t, os.WriteFile(file, b, 0o644))
	t.Logf("%s: %d bytes", file, len(b))
}

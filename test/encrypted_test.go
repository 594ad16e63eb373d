package test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"database/sql"
	"encoding/pem"
	"fmt"
	"math/big"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// TestOverEncryptedConnections carries tables of several blocks, and changes after them,
// between servers that are asked for encryption, on all four ways.
func TestOverEncryptedConnections(t *testing.T) {
	cert, key := certificate(t)
	pg, err := localserver.StartPostgres(t.Context(), localserver.Options{Password: "salt",
		Settings: map[string]string{"ssl": "on", "ssl_cert_file": cert, "ssl_key_file": key}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(pg.Stop)
	maria, err := localserver.StartMariaDB(t.Context(), localserver.Options{Password: "salt",
		Settings: map[string]string{"ssl-cert": cert, "ssl-key": key}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(maria.Stop)
	for i, way := range [][2]string{{"mariadb", "postgres"}, {"postgres", "mariadb"}} {
		t.Run(way[0]+" to "+way[1], func(t *testing.T) {
			f := start(t)
			var sides [2]*sql.DB
			for j, name := range []string{"old", "new"} {
				sides[j] = encrypted(t, f, pg, maria, way[j], name, fmt.Sprintf("%s%d", name, i))
			}
			do := func(q string) {
				t.Helper()
				if _, err := sides[0].ExecContext(t.Context(), q); err != nil {
					t.Fatal(err)
				}
			}
			numbers := map[string]string{"postgres": "FROM generate_series(1, 20000) g(seq)",
				"mariadb": "FROM seq_1_to_20000"}[way[0]]
			do("CREATE TABLE readings (id int PRIMARY KEY, grams int, remark varchar(300))")
			do("INSERT INTO readings SELECT seq, seq % 60000, repeat('calm and heavy ', 1 + seq % 12) " + numbers)
			from := map[string]string{"postgres": "public", "mariadb": fmt.Sprintf("old%d", i)}[way[0]]
			rules := ""
			if to := map[string]string{"postgres": "public", "mariadb": fmt.Sprintf("new%d", i)}[way[1]]; to != from {
				rules = fmt.Sprintf("  rules: [{tables: \"%s.*\", schema: %s}]\n", from, to)
			}
			manifest := fmt.Sprintf("dusty_ferry: 1\ncrossing:\n  name: spring\n  follow_changes: true\n  source: old\n  "+
				"target: new\n  tables: [%s.readings]\n%s", from, rules)
			if a := f.cli("crossing", "create", "--file", write(t, manifest)); a.code != 0 {
				t.Fatal(a.err)
			}
			f.startCrossing()
			f.awaitPhase(contract.PhaseInStep)
			for j, side := range sides { // by what the server says of those who are there
				var plain, all int
				if way[j] == "postgres" {
					if err := side.QueryRowContext(t.Context(), "SELECT count(*) FILTER (WHERE NOT ssl), count(*) FROM pg_stat_ssl "+
						"JOIN pg_stat_activity USING (pid) WHERE datname = current_database() AND pid <> pg_backend_pid()").Scan(&plain,
						&all); err != nil || plain > 0 || all == 0 {
						t.Errorf("%d of %d connections are plain (%v)", plain, all, err)
					}
				}
			}
			do("UPDATE readings SET grams = -1 WHERE id % 1000 = 0")
			do("INSERT INTO readings VALUES (20001, 5, 'behind all')")
			eventually(t, 20*time.Second, func() bool {
				var n int
				q := "SELECT count(*) FROM readings WHERE grams = -1 OR remark = 'behind all'"
				return sides[1].QueryRowContext(t.Context(), q).Scan(&n) == nil && n == 21
			})
			if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
				t.Errorf("the comparison ended %s with %d findings", r.State, r.Findings)
			}
		})
	}
}

// encrypted registers a new database of a server, by an encrypted connection only, and
// opens it by a plain one.
func encrypted(t *testing.T, f *ferry, pg *localserver.Postgres, maria *localserver.MariaDB, engine, name,
	database string) *sql.DB {
	t.Helper()
	require := contract.Require
	add := contract.NewDatabase{Name: name, Engine: "postgres", Host: pg.Host, Port: pg.Port, Database: database,
		User: pg.User, Password: pg.Password, Tls: &require}
	driver, server, dsn := "pgx", pg.URL("postgres"), pg.URL(database)
	if engine == "mariadb" {
		add = contract.NewDatabase{Name: name, Engine: "mariadb", Host: maria.Host, Port: maria.Port, Database: database,
			User: maria.User, Password: maria.Password, Tls: &require}
		driver, server, dsn = "mysql", maria.DSN(""), maria.DSN(database)
	}
	whole, err := sql.Open(driver, server)
	if err == nil {
		_, err = whole.ExecContext(t.Context(), "CREATE DATABASE "+database)
		_ = whole.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open(driver, dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = db.Close() })
	if _, err := client.Do[contract.Database](f.API.AddDatabaseWithResponse(t.Context(), add)); err != nil {
		t.Fatal(err)
	}
	return db
}

// certificate makes a certificate of this machine that signs itself, and its key, readable
// by the user that servers run as.
func certificate(t *testing.T) (cert, key string) {
	t.Helper()
	secret, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	is := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(24 * time.Hour), DNSNames: []string{"localhost"}}
	der, err := x509.CreateCertificate(rand.Reader, is, is, &secret.PublicKey, secret)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(secret)
	if err != nil {
		t.Fatal(err)
	}
	dir, err := os.MkdirTemp("", "dusty-ferry-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	files := map[string][]byte{
		"cert": pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		"key":  pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}),
	}
	owned := []string{dir}
	for name, data := range files {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		owned = append(owned, path)
	}
	if os.Getuid() == 0 { // servers run as another user then
		u, err := user.Lookup("postgres")
		if err != nil {
			t.Fatal(err)
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		for _, path := range owned {
			if err := os.Chown(path, uid, gid); err != nil {
				t.Fatal(err)
			}
		}
	}
	return filepath.Join(dir, "cert"), filepath.Join(dir, "key")
}

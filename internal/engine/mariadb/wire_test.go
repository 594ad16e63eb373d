package mariadb

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/localserver"
)

// certified writes a key and a certificate that nobody vouches for.
func certified(t *testing.T) (cert, key string) {
	t.Helper()
	dir, err := os.MkdirTemp("", "dustyferry-tls-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "saltmarsh"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	public, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	cert, key = filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	for path, block := range map[string]*pem.Block{cert: {Type: "CERTIFICATE", Bytes: public}, key: {Type: "PRIVATE KEY",
		Bytes: secret}} {
		if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o644); err != nil {
			//nolint:gosec // the server's own user must read it
			t.Fatal(err)
		}
	}
	if err := os.Chmod(dir, 0o755); err != nil { //nolint:gosec // so that it can be found
		t.Fatal(err)
	}
	return cert, key
}

// TestReadingOverTLS reads rows, also one larger than a packet, on encrypted
// connections of our own, and refuses a server that nobody vouches for where that is
// asked for.
func TestReadingOverTLS(t *testing.T) {
	cert, key := certified(t)
	server, err := localserver.StartMariaDB(t.Context(), localserver.Options{Password: "thyme",
		Settings: map[string]string{"ssl-cert": cert, "ssl-key": key, "max-allowed-packet": "64M"}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(server.Stop)
	end := engine.Endpoint{Host: server.Host, Port: server.Port, Database: "mysql", User: server.User, Password: "thyme",
		TLS: "require"}
	opened, err := Driver{}.Open(t.Context(), end)
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	d := opened.(*database)
	run(t, d.pool, "CREATE DATABASE meadow", "CREATE TABLE meadow.scans (id int PRIMARY KEY, picture longblob)",
		"INSERT INTO meadow.scans VALUES (1, repeat('x', 20000000)), (2, NULL), (3, '')")
	d.end.Database = "meadow"
	if cipherOf(t, d) == "" {
		t.Error("the connection is not encrypted")
	}
	cat, err := d.Catalog(t.Context())
	if err != nil || len(cat.Tables) != 1 {
		t.Fatalf("%+v (%v)", cat, err)
	}
	p, err := d.Plan(&cat.Tables[0])
	if err != nil {
		t.Fatal(err)
	}
	r, err := d.OpenReader(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if _, err := r.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	sum, err := r.Copy(t.Context(), &p, &domain.Chunk{}, false, func([]byte) error { return nil })
	if err != nil || sum.Rows != 3 || sum.Bytes < 40_000_000 { // in hexadecimal digits
		t.Errorf("%+v %v", sum, err)
	}
	end.TLS = "verify-full"
	if _, err := (Driver{}).Open(t.Context(), end); err == nil || !strings.Contains(err.Error(), "certificate") {
		t.Errorf("a certificate that nobody vouches for: %v", err)
	}
	d.end.TLS = "verify-full"
	if _, err := d.dial(t.Context()); err == nil || !strings.Contains(err.Error(), "certificate") {
		t.Errorf("our own connection takes a certificate that nobody vouches for: %v", err)
	}
	plain := end
	plain.TLS = "disable"
	if none := cipherOf(t, &database{end: plain, name: "plain"}); none != "" {
		t.Errorf("a connection without encryption has the cipher %q", none)
	}
}

// cipherOf is what a connection of our own is encrypted with.
func cipherOf(t *testing.T, d *database) (cipher string) {
	t.Helper()
	c, err := d.dial(t.Context(), reading...)
	if err != nil {
		t.Fatal(err)
	}
	defer c.close()
	if err := c.rows(t.Context(), "SHOW STATUS LIKE 'Ssl_cipher'", func(f [][]byte) error {
		cipher = string(f[1])
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return cipher
}

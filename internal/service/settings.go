package service

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dustyferry/internal/domain"
)

// check refuses settings that would leave a door open, or do less than they say.
func (s *Settings) check() error {
	if os.Getuid() == 0 {
		if !s.AllowRoot {
			return domain.Conflict("this would run as root, and so would every command of a hand-over; start it as a user of " +
				"its own, or say --allow-root")
		}
		s.Log.Warn("running as root: commands of a hand-over do too; better start it as a user of its own")
	}
	for _, f := range s.Files {
		if at, err := os.Stat(f); err != nil || !at.IsDir() || !filepath.IsAbs(f) {
			return domain.Invalid("--files %s is no folder; give the whole path of one that is there", f)
		}
	}
	if s.Worker() {
		return nil
	}
	switch {
	case s.TLSKey != "" && s.TLSCert == "":
		return domain.Invalid("--tls-key is given without --tls-cert: the interface would not be encrypted; give both")
	case s.TLSCert != "" && s.TLSKey == "":
		return domain.Invalid("--tls-cert is given without --tls-key; give both")
	}
	host, _, err := net.SplitHostPort(s.Listen)
	if err != nil {
		return domain.Invalid("--listen is %q; write it like 127.0.0.1:7420", s.Listen)
	}
	if s.TLSCert == "" && !loopback(host) {
		return domain.Invalid("--listen is %s, which others on the network reach, and tokens would cross it unencrypted; "+
			"give --tls-cert and --tls-key, or listen on 127.0.0.1", s.Listen)
	}
	return nil
}

// knownHosts returns what tells the names under which this service may be asked for, beside
// those of loopback: those that were given, and those of the certificate.
func (s *Settings) knownHosts() (func(name string) bool, error) {
	var leaf *x509.Certificate
	if s.TLSCert != "" {
		pair, err := tls.LoadX509KeyPair(s.TLSCert, s.TLSKey)
		if err != nil {
			return nil, fmt.Errorf("reading the certificate and its key: %w", err)
		}
		if leaf, err = x509.ParseCertificate(pair.Certificate[0]); err != nil {
			return nil, fmt.Errorf("reading the certificate: %w", err)
		}
	}
	return func(name string) bool {
		return slices.ContainsFunc(s.Hosts, func(h string) bool { return strings.EqualFold(h, name) }) || leaf != nil &&
			leaf.VerifyHostname(name) == nil
	}, nil
}

// loopback reports whether only this machine reaches a host: every address that it
// stands for is a loopback one.
func loopback(host string) bool {
	if ip := net.ParseIP(strings.Trim(host, "[]")); ip != nil {
		return ip.IsLoopback()
	}
	if host == "" {
		return false
	}
	addresses, err := net.LookupIP(host)
	if err != nil || len(addresses) == 0 {
		return false
	}
	for _, ip := range addresses {
		if !ip.IsLoopback() {
			return false
		}
	}
	return true
}

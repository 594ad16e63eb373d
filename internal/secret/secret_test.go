package secret_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"dustyferry/internal/secret"
)

func TestSealedSecretsOpenOnlyWithTheirKey(t *testing.T) {
	dir := t.TempDir()
	a, err := secret.OpenBox(filepath.Join(dir, "a"))
	if err != nil {
		t.Fatal(err)
	}
	sealed := a.Seal("clover & thyme")
	if bytes.Contains(sealed, []byte("clover")) {
		t.Fatal("the secret can be read in its sealed form")
	}
	again, err := secret.OpenBox(filepath.Join(dir, "a"))
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Open(sealed); err != nil || got != "clover & thyme" {
		t.Errorf("opened %q (%v)", got, err)
	}
	b, err := secret.OpenBox(filepath.Join(dir, "b"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.Open(sealed); err == nil || !strings.Contains(err.Error(), "--key-file") {
		t.Errorf("another key opened it, or the message does not help: %v", err)
	}
}

func TestAKeyFileOthersMayReadIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	if _, err := secret.OpenBox(path); err != nil {
		t.Fatal(err)
	}
	if st, err := os.Stat(path); err != nil || st.Mode().Perm() != 0o600 {
		t.Fatalf("key file mode %v (%v)", st.Mode(), err)
	}
	if err := os.Chmod(path, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := secret.OpenBox(path); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("a readable key file was taken: %v", err)
	}
}

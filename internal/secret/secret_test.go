package secret_test

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"dustyferry/internal/secret"
)

func box(t *testing.T, path string) *secret.Box {
	t.Helper()
	b, err := secret.MakeKey(path)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestSealedSecretsOpenOnlyWithTheirKeyAndForTheirUse(t *testing.T) {
	dir := t.TempDir()
	a := box(t, filepath.Join(dir, "a"))
	sealed := a.Seal("clover & thyme", "old-barn at 10.0.0.1")
	if bytes.Contains(sealed, []byte("clover")) {
		t.Fatal("the secret can be read in its sealed form")
	}
	again, err := secret.OpenBox(filepath.Join(dir, "a"))
	if err != nil {
		t.Fatal(err)
	}
	if got, err := again.Open(sealed, "old-barn at 10.0.0.1"); err != nil || got != "clover & thyme" {
		t.Errorf("opened %q (%v)", got, err)
	}
	for _, other := range []string{"", "old-barn at 10.0.0.2", "new-barn at 10.0.0.1"} {
		if got, err := again.Open(sealed, other); err == nil {
			t.Errorf("opened for %q: %q", other, got)
		}
	}
	b := box(t, filepath.Join(dir, "b"))
	if _, err := b.Open(sealed, "old-barn at 10.0.0.1"); err == nil || !strings.Contains(err.Error(), "another key") {
		t.Errorf("another key opened it, or the message does not help: %v", err)
	}
	if a.Fingerprint() != again.Fingerprint() || a.Fingerprint() == b.Fingerprint() || len(a.Fingerprint()) != 16 {
		t.Errorf("fingerprints: %s, %s, another key's %s", a.Fingerprint(), again.Fingerprint(), b.Fingerprint())
	}
}

func TestAKeyIsNeverMadeUnasked(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	if _, err := secret.OpenBox(path); !errors.Is(err, secret.ErrNoKey) {
		t.Errorf("without a file: %v", err)
	}
	a := box(t, path)
	if _, err := secret.MakeKey(path); err == nil {
		t.Error("a key that was there was made again")
	}
	if b, err := secret.OpenBox(path); err != nil || b.Fingerprint() != a.Fingerprint() {
		t.Errorf("the key is another: %v", err)
	}
}

func TestAKeyFileOthersMayReadIsRefused(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key")
	box(t, path)
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

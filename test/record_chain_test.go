package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"dustyferry/internal/contract"
)

// TestTheAccountIsProved: a certificate is proved without the service that wrote it, in both of its forms,
// and the journal shows whether somebody with the records in his hands changed it.
func TestTheAccountIsProved(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), "CREATE TABLE public.lots (id integer PRIMARY KEY, kg numeric(6, 2)); "+
		"INSERT INTO public.lots VALUES (1, 2.50)")
	f := start(t)
	f.cross(p, contract.Settings{InStepDwellSeconds: ptr(0.2)}, "public.*")
	f.startCrossing()
	f.awaitPhase("in step")
	f.must("cutover", "start", "spring", "--confirm", "spring")
	f.must("crossing", "close", "spring", "--wait", "--confirm", "spring")
	key := strings.TrimSpace(f.must("certificate", "key").out)
	for name, args := range map[string][]string{"spring.txt": {"certificate", "spring"},
		"spring.json": {"certificate", "spring", "-o", "json"}} {
		file := filepath.Join(t.TempDir(), name)
		text := f.must(args...).out
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if a := f.must("certificate", "verify", file, "--key", key); !strings.Contains(a.out, "as it was written") {
			t.Errorf("%s: %s", name, a.out)
		}
		if a := f.cli("certificate", "verify", file, "--key", "0123456789abcdef"); a.code != 3 {
			t.Errorf("%s by another key: %+v", name, a)
		}
		changed := strings.Replace(text, "lots", "pots", 1)
		if changed == text {
			t.Fatalf("%s does not name its table: %s", name, text)
		}
		if err := os.WriteFile(file, []byte(changed), 0o600); err != nil {
			t.Fatal(err)
		}
		if a := f.cli("certificate", "verify", file); a.code != 3 || !strings.Contains(a.err, "not as it was written") {
			t.Errorf("%s, changed: %+v", name, a)
		}
	}
	if a := f.must("journal", "verify"); !strings.Contains(a.out, "fits behind") {
		t.Error(a.out)
	}
	exec1(t, f.set.ControlURL, "ALTER TABLE journal DISABLE TRIGGER ALL; UPDATE journal SET actor = 'nobody' WHERE id = "+
		"(SELECT min(id) + 2 FROM journal); ALTER TABLE journal ENABLE TRIGGER ALL")
	if a := f.cli("journal", "verify"); a.code != 3 || !strings.Contains(a.err, "not as it was written") {
		t.Errorf("a journal that was changed: %+v", a)
	}
}

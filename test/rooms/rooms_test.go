package rooms

import (
	"io/fs"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
)

// rooms says which of our packages each room may import; a room not named here
// may not exist.
var rooms = map[string][]string{
	"domain":      {},
	"core":        {"domain", "core"},
	"protocol":    {"core/rowhash"},
	"engine":      {"domain", "core", "engine", "protocol"},
	"records":     {"domain", "core"},
	"queue":       {},
	"secret":      {},
	"manifest":    {"domain"},
	"localserver": {},
	"contract":    {},
	"console":     {},
	"voyage":      {"domain", "core", "engine", "records", "queue", "secret", "voyage"},
	"api":         {"domain", "core", "contract", "console", "manifest", "records", "secret", "voyage"},
	"service":     {"domain", "api", "engine", "localserver", "queue", "records", "secret", "voyage"},
	"client":      {"contract"},
	"gateway":     {"client", "contract", "protocol"},
	"demo":        {},
	"cli": {"domain", "core/signed", "client", "contract", "manifest", "demo", "gateway", "localserver",
		"service"},
}

// work says the same of the rooms of the work itself, which are built upon each other; those
// that are not named here know nothing of the others.
var work = map[string][]string{
	"voyage":           {"voyage"}, // wires them together
	"voyage/journal":   {},
	"voyage/outgoing":  {},
	"voyage/databases": {"engine"},
	"voyage/notify":    {"voyage/journal", "voyage/outgoing"},
	"voyage/waits":     {},
	"voyage/tasks":     {"engine", "voyage/journal", "voyage/waits"},
	"voyage/keeper":    {"engine", "voyage/journal", "voyage/waits"},
	"voyage/steps":     {},
	"voyage/drafts":    {"engine"},
	"voyage/compare":   {"engine", "voyage/journal", "voyage/waits"},
	"voyage/closing":   {"engine", "voyage/journal", "voyage/planning"},
	"voyage/refresh":   {"engine", "voyage/journal", "voyage/planning", "voyage/waits"},
	"voyage/gateways":  {"voyage/journal", "voyage/waits"},
	"voyage/readiness": {"engine", "voyage/journal", "voyage/planning"},
	"voyage/cutover": {"engine", "voyage/journal", "voyage/outgoing", "voyage/planning", "voyage/readiness",
		"voyage/steps", "voyage/waits"},
	"voyage/returnpath": {"engine", "voyage/planning"},
	"voyage/stuck":      {"engine", "voyage/journal", "voyage/waits"},
	"voyage/phases":     {"voyage/journal"},
	"voyage/planning":   {"engine", "voyage/journal", "voyage/tasks", "voyage/waits"},
	"voyage/build":      {"engine", "voyage/journal", "voyage/waits"},
	"voyage/load":       {"engine", "voyage/journal", "voyage/stuck", "voyage/waits"},
	"voyage/prepare":    {"engine", "voyage/journal", "voyage/planning", "voyage/waits"},
	"voyage/tables":     {"engine", "voyage/journal", "voyage/planning", "voyage/prepare", "voyage/waits"},
	"voyage/commands": {"engine", "voyage/journal", "voyage/planning", "voyage/prepare", "voyage/refresh",
		"voyage/tables"},
	"voyage/following": {"engine", "voyage/journal", "voyage/planning", "voyage/stuck", "voyage/waits"},
}

// reaches says which packages that reach outside a room may use: the others may not.
var reaches = map[string][]string{
	"net/http": {"api", "cli", "client", "console", "contract", "gateway", "service",
		"voyage/outgoing"},
	"os/exec":                 {"cli", "demo", "localserver", "service", "voyage/cutover"},
	"github.com/jackc/pgx/v5": {"cli", "demo", "engine", "localserver", "queue", "records", "service", "voyage"},
}

// TestPlacesOfALogAreOpaque: what number a place of a log has is its engine's affair, and that
// of the records that keep it. Nobody else makes one, or looks into one.
func TestPlacesOfALogAreOpaque(t *testing.T) {
	inside := regexp.MustCompile(`^(engine/[a-z]+|records|domain)/`)
	looks := regexp.MustCompile(`\bPositionAt\(|\.Number\(\)`)
	files := 0
	root := os.DirFS("../../internal")
	err := fs.WalkDir(root, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || inside.MatchString(path) {
			return err
		}
		files++
		text, err := fs.ReadFile(root, path)
		for i, line := range strings.Split(string(text), "\n") {
			if looks.MatchString(line) {
				t.Errorf("%s:%d looks into a place of a log: %s", path, i+1, strings.TrimSpace(line))
			}
		}
		return err
	})
	if err != nil || files < 100 {
		t.Fatalf("%d files (%v)", files, err)
	}
}

// TestTheWorkAsksForNoEngine: what the rooms of the work do hangs on what a database can do, and on
// its dialect, never on its name.
func TestTheWorkAsksForNoEngine(t *testing.T) {
	names := regexp.MustCompile(`typemap\.(Postgres|MariaDB)\b|"(postgres|mariadb)"`)
	files := 0
	root := os.DirFS("../../internal/voyage")
	err := fs.WalkDir(root, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		text, err := fs.ReadFile(root, path)
		for i, line := range strings.Split(string(text), "\n") {
			if names.MatchString(line) {
				t.Errorf("voyage/%s:%d asks for an engine by its name: %s", path, i+1, strings.TrimSpace(line))
			}
		}
		return err
	})
	if err != nil || files < 50 {
		t.Fatalf("%d files (%v)", files, err)
	}
}

// TestRoomsImportInwards holds the import rules, and that domain and core do no
// I/O and know no clock.
func TestRoomsImportInwards(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "dustyferry/internal/...",
		"dustyferry/client").CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	// ours is a package of ours by its room: the one that others may import has no internal.
	ours := func(path string) (string, bool) {
		own, is := strings.CutPrefix(path, "dustyferry/")
		return strings.TrimPrefix(own, "internal/"), is
	}
	for line := range strings.SplitSeq(strings.TrimSpace(string(out)), "\n") {
		fields := strings.Fields(line)
		pkg, _ := ours(fields[0])
		room, _, _ := strings.Cut(pkg, "/")
		may, known := rooms[room]
		if !known {
			t.Errorf("%s is in no known room; add the room and its rule", pkg)
			continue
		}
		within, apart := work[pkg]
		if room == "voyage" && !apart {
			t.Errorf("%s is no known room of the work; add it and its rule", pkg)
		}
		for _, imp := range fields[1:] {
			for out, by := range reaches {
				if (imp == out || strings.HasPrefix(imp, out+"/")) && !allowed(by, pkg) {
					t.Errorf("%s imports %s, which only %v may", pkg, imp, by)
				}
			}
			if own, is := ours(imp); is {
				if !allowed(may, own) {
					t.Errorf("%s imports %s, which its room may not", pkg, own)
				}
				if pkg != "voyage" && apart && own != "domain" && !strings.HasPrefix(own, "core/") && !allowed(within, own) {
					t.Errorf("%s imports %s, which this room of the work may not", pkg, own)
				}
				if room == "engine" && strings.HasPrefix(own, "engine/") {
					t.Errorf("%s imports another engine, %s", pkg, own)
				}
				continue
			}
			if room == "domain" || room == "core" || room == "protocol" {
				for _, io := range []string{"os", "net", "net/http", "database/sql", "io/fs", "log/slog", "context", "sync"} {
					if imp == io {
						t.Errorf("%s imports %s: this room does no I/O and no goroutines", pkg, imp)
					}
				}
			}
		}
	}
}

func allowed(may []string, own string) bool {
	for _, m := range may {
		if own == m || strings.HasPrefix(own, m+"/") {
			return true
		}
	}
	return false
}

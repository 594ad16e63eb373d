// Package test drives Dusty Ferry the way its users do: the real service on
// loopback through its client and its HTTP interface, real database servers,
// and a comparison of both sides in plain SQL that knows nothing of ours.
package test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
	"dustyferry/internal/service"
)

// servers are shared by all tests; every test has databases of its own on them.
var servers struct{ source, target *localserver.Postgres }

func TestMain(m *testing.M) { os.Exit(run(m)) }

func run(m *testing.M) int {
	if !alone() {
		return inShards()
	}
	ctx := context.Background()
	for _, s := range []**localserver.Postgres{&servers.source, &servers.target} {
		var err error
		if *s, err = localserver.StartPostgres(ctx,
			localserver.Options{Settings: map[string]string{"max_replication_slots": "100", "max_wal_senders": "60",
				"max_prepared_transactions": "10",
				// Each test leaves databases behind: a worker in one of them every moment would keep half a core busy.
				"autovacuum_naptime": "10min"}, Password: "honey & salt"}); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer (*s).Stop()
	}
	defer func() { orchard.server.Stop() }()
	return m.Run()
}

var counter atomic.Int64

// pair is a source and a target database.
type pair struct {
	source, target string // database names
}

func (p pair) sourceURL() string { return dbURL(servers.source, p.source) }

// targetURL is of a session that writes as the crossing itself does: a target refuses everybody else.
func (p pair) targetURL() string { return dbURL(servers.target, p.target) + "&dusty_ferry.ours=yes" }

func dbURL(s *localserver.Postgres, db string) string { return s.URL(db) }

func newPair(t *testing.T) pair {
	t.Helper()
	n := counter.Add(1)
	p := pair{fmt.Sprintf("source_%d", n), fmt.Sprintf("target_%d", n)}
	exec1(t, dbURL(servers.source, "postgres"), "CREATE DATABASE "+p.source)
	exec1(t, dbURL(servers.target, "postgres"), "CREATE DATABASE "+p.target)
	return p
}

func exec1(t *testing.T, url, sql string, args ...any) {
	t.Helper()
	c := connect(t, url)
	if _, err := c.Exec(t.Context(), sql, args...); err != nil {
		t.Fatalf("%s: %v", strings.SplitN(sql, "\n", 2)[0], err)
	}
	_ = c.Close(t.Context())
}

func connect(t *testing.T, url string) *pgx.Conn {
	t.Helper()
	c, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = c.Close(context.Background()) })
	return c
}

// one reads a single value.
func one[T any](t *testing.T, url, sql string, args ...any) T {
	t.Helper()
	c := connect(t, url)
	var v T
	if err := c.QueryRow(t.Context(), sql, args...).Scan(&v); err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
	_ = c.Close(t.Context())
	return v
}

// ferry is a running service with its client.
type ferry struct {
	*client.Client
	t     *testing.T
	url   string
	token string
	svc   *service.Service
	set   service.Settings

	gatewayToken string
}

// start runs the service inside the test's process, with a control database of
// its own on the shared server.
func start(t *testing.T) *ferry {
	t.Helper()
	if err := setUp(); err != nil {
		t.Fatal(err)
	}
	name := fmt.Sprintf("control_%d", counter.Add(1))
	exec1(t, dbURL(servers.target, "postgres"), "CREATE DATABASE "+name+" TEMPLATE control_set_up")
	return startOn(t, dbURL(servers.target, name))
}

// setUp makes a control database once that all others are copies of, as every service would
// make it: setting one up takes longer than many a test.
var setUp = sync.OnceValue(func() error {
	dir, err := os.MkdirTemp("", "dusty-ferry-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, dbURL(servers.target, "postgres"))
	if err != nil {
		return err
	}
	defer func() { _ = conn.Close(ctx) }()
	if _, err := conn.Exec(ctx, "CREATE DATABASE control_set_up"); err != nil {
		return err
	}
	_, err = service.Migrate(ctx, service.Settings{DataDir: filepath.Join(dir, "data"), ControlURL: dbURL(servers.target,
		"control_set_up"), AllowRoot: true, Version: "test", Log: slog.New(slog.DiscardHandler)})
	return err
})

// startOn runs the service with a control database that stands.
func startOn(t *testing.T, control string) *ferry {
	t.Helper()
	f := &ferry{t: t}
	var log io.Writer = io.Discard
	if testing.Verbose() {
		log = os.Stderr
	}
	f.set = service.Settings{
		Listen: "127.0.0.1:0", DataDir: t.TempDir(), ControlURL: control, Lanes: 4, Serve: true, AllowRoot: true,
		Version: "test",
		Log:     slog.New(slog.NewTextHandler(log, nil)), FirstToken: func(s string) { f.token = s },
	}
	f.again()
	f.signIn()
	return f
}

// again starts the service, or starts it again at the same address.
func (f *ferry) again() {
	f.t.Helper()
	if f.svc != nil {
		f.set.Listen = strings.TrimPrefix(f.url, "http://")
	}
	svc, err := service.Start(f.t.Context(), f.set)
	if err != nil {
		f.t.Fatal(err)
	}
	f.t.Cleanup(svc.Stop)
	f.svc, f.url = svc, svc.URL()
}

func (f *ferry) signIn() {
	c, err := client.New(f.url, f.token)
	if err != nil {
		f.t.Fatal(err)
	}
	f.Client = c
}

func (f *ferry) register(name string, s *localserver.Postgres, db string) {
	f.t.Helper()
	disable := contract.Disable
	_, err := client.Do[contract.Database](f.API.AddDatabaseWithResponse(f.t.Context(), contract.NewDatabase{
		Name: name, Engine: "postgres", Host: s.Host, Port: s.Port, Database: db, User: s.User, Password: s.Password,
		Tls: &disable}))
	if err != nil {
		f.t.Fatal(err)
	}
}

// cross registers a pair and creates a crossing over the given tables.
func (f *ferry) cross(p pair, set contract.Settings, tables ...string) {
	f.t.Helper()
	f.register("old", servers.source, p.source)
	f.register("new", servers.target, p.target)
	c := contract.NewCrossing{Name: "spring", Source: "old", Target: "new", Settings: &set}
	if len(tables) > 0 {
		c.Tables = &tables
	}
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(f.t.Context(), c)); err != nil {
		f.t.Fatal(err)
	}
}

func (f *ferry) startCrossing() {
	f.t.Helper()
	if _, err := client.Do[contract.Crossing](f.API.StartCrossingWithResponse(f.t.Context(), "spring",
		contract.StartCrossingJSONRequestBody{})); err != nil {
		f.t.Fatal(err)
	}
}

func (f *ferry) show() contract.Crossing {
	f.t.Helper()
	c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(f.t.Context(), "spring"))
	if err != nil {
		f.t.Fatal(err)
	}
	return c
}

// patience stretches every wait of a test: a wait that ends well costs nothing, and a
// machine may be ten times slower than the one a limit was thought of on.
const patience = 5

// await polls until ok, or fails with what the crossing says of itself.
func (f *ferry) await(limit time.Duration, what string, ok func(c contract.Crossing) bool) contract.Crossing {
	f.t.Helper()
	limit *= patience
	end := time.Now().Add(limit)
	var c contract.Crossing
	var err error
	for time.Now().Before(end) {
		c, err = client.Do[contract.Crossing](f.API.GetCrossingWithResponse(f.t.Context(), "spring"))
		if err == nil && ok(c) {
			return c
		}
		time.Sleep(100 * time.Millisecond)
	}
	f.story()
	f.t.Fatalf("not %s within %s: %s, %s %s, %+v (%v)", what, limit, c.Phase, c.Condition, c.Reason, c.Progress, err)
	return c
}

func (f *ferry) awaitPhase(p contract.Phase) contract.Crossing {
	f.t.Helper()
	return f.await(2*time.Minute, string(p), func(c contract.Crossing) bool {
		if c.Condition == contract.ConditionHeld {
			f.story()
			f.t.Fatalf("held: %s", c.Reason)
		}
		return c.Phase == p
	})
}

// story prints the journal, for a failed test.
func (f *ferry) story() {
	list, err := client.Do[[]contract.JournalEntry](f.API.ListJournalWithResponse(context.Background(),
		&contract.ListJournalParams{}))
	if err != nil {
		return
	}
	for i := len(list) - 1; i >= 0; i-- {
		f.t.Logf("%s %-7s %s", list[i].At.Format("15:04:05.000"), list[i].Severity, list[i].Message)
	}
}

func (f *ferry) reconcile(depth contract.NewReconciliationDepth) contract.Reconciliation {
	f.t.Helper()
	r, err := client.Do[contract.Reconciliation](f.API.ReconcileWithResponse(f.t.Context(), "spring",
		contract.NewReconciliation{Depth: depth}))
	if err != nil {
		f.t.Fatal(err)
	}
	for end := time.Now().Add(patience * 90 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		if r, err = client.Do[contract.Reconciliation](f.API.GetReconciliationWithResponse(f.t.Context(), "spring",
			r.Id)); err != nil {
			f.t.Fatal(err)
		}
		if r.State == "failed" {
			f.story()
			f.t.Fatalf("reconciliation failed: %s", r.Error)
		}
		if r.EndedAt != nil {
			return r
		}
	}
	f.story()
	f.t.Fatal("the reconciliation did not end")
	return r
}

// cutOver carries out a cutover or a rehearsal and returns how it ended.
func (f *ferry) cutOver(rehearsal bool, set contract.Settings) contract.Cutover {
	f.t.Helper()
	name := "spring"
	var err error
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		if _, err = client.Do[contract.Cutover](f.API.CutoverWithResponse(f.t.Context(), name,
			contract.NewCutover{Rehearsal: rehearsal, Confirm: &name, Settings: &set})); err == nil ||
			!strings.Contains(err.Error(), "cutover is under way") || time.Now().After(end) {
			break // one before may have ended a moment before its task
		}
	}
	if err != nil {
		f.story()
		f.t.Fatal(err)
	}
	return f.cutOverEnd()
}

func (f *ferry) cutOverEnd() contract.Cutover {
	f.t.Helper()
	for end := time.Now().Add(patience * 2 * time.Minute); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		list, err := client.Do[[]contract.Cutover](f.API.ListCutoversWithResponse(f.t.Context(), "spring"))
		if err == nil && len(list) > 0 && list[0].EndedAt != nil {
			return list[0]
		}
	}
	f.story()
	f.t.Fatal("the cutover did not end")
	return contract.Cutover{}
}

// sameEverywhere compares every table of a schema on both sides in plain SQL:
// the rows as text, sorted, and how many there are.
func sameEverywhere(t *testing.T, p pair, schema string) {
	t.Helper()
	src, dst := connect(t, p.sourceURL()), connect(t, p.targetURL())
	rows, err := src.Query(t.Context(), `
SELECT quote_ident(n.nspname) || '.' || quote_ident(c.relname) FROM pg_class c
  JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE n.nspname = $1 AND c.relkind IN ('r', 'p') AND NOT c.relispartition ORDER BY 1`, schema)
	if err != nil {
		t.Fatal(err)
	}
	names, err := pgx.CollectRows(rows, pgx.RowTo[string])
	if err != nil || len(names) == 0 {
		t.Fatalf("no tables in %s (%v)", schema, err)
	}
	for _, n := range names {
		q := fmt.Sprintf(`SELECT count(*), coalesce(md5(string_agg(h, ',' ORDER BY h)), '') FROM (SELECT md5(x::text) AS h
  FROM %s x) y`, n)
		var cs, ct int64
		var hs, ht string
		for _, c := range []*pgx.Conn{src, dst} {
			if _, err := c.Exec(t.Context(),
				`SET timezone = 'UTC'; SET extra_float_digits = 1; SET search_path = ''`); err != nil {
				t.Fatal(err)
			}
		}
		if err := src.QueryRow(t.Context(), q).Scan(&cs, &hs); err != nil {
			t.Fatal(err)
		}
		if err := dst.QueryRow(t.Context(), q).Scan(&ct, &ht); err != nil {
			t.Fatal(err)
		}
		if cs != ct || hs != ht {
			t.Errorf("%s differs: %d rows on the source, %d on the target", n, cs, ct)
		}
	}
}

// binary is the program: the one that make has built, or one that is built once here.
func binary(t *testing.T) string {
	t.Helper()
	if path := os.Getenv("DUSTYFERRY_TEST_BINARY"); path != "" {
		return path
	}
	path := filepath.Join(os.TempDir(), fmt.Sprintf("dustyferry-test-%d", os.Getpid()), "dustyferry")
	if _, err := os.Stat(path); err == nil {
		return path
	}
	if out, err := exec.Command("go", "build", "-o", path, "dustyferry/cmd/dustyferry").CombinedOutput(); err != nil {
		t.Fatalf("building the program: %v\n%s", err, out)
	}
	return path
}

func ptr[T any](v T) *T { return &v }

func itoa(n int) string { return fmt.Sprint(n) }

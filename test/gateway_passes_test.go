package test

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	_ "github.com/jackc/pgx/v5/stdlib" // an application's driver

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestWhatAGatewayPasses: sessions as a server has them, and nothing that could go to the wrong side
// unseen.
func TestWhatAGatewayPasses(t *testing.T) {
	f := start(t)
	s := &shores{ferry: f, old: f.shore("postgres", "old"), new: f.shore("postgres", "new")}
	database := s.old.texts("SELECT current_database()::text")[0]
	s.old.exec("CREATE TABLE public.hives (id integer PRIMARY KEY, note text)")
	f.must("crossing", "create", "--file", write(t, "dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  "+
		"target: new\n  tables: [\"public.*\"]\n  settings: {in_step_dwell: 200ms, gateway_patience: 500ms,\n    "+
		"cutover_depth: hashes}\n"))
	f.must("crossing", "start", "spring")
	s.phase("spring", contract.PhaseInStep)
	cert, key := certificate(t)
	_, at := f.gateway("spring", "--status", "127.0.0.1:0")
	_, safe := f.gateway("spring", "--tls-cert", cert, "--tls-key", key)
	dial := func(at, database, rest string) (*pgx.Conn, error) {
		u := url.URL{Scheme: "postgres", User: url.UserPassword("postgres", servers.source.Password), Host: at,
			Path:     database,
			RawQuery: rest}
		return pgx.Connect(t.Context(), u.String())
	}
	open := func(at, rest string) *pgx.Conn {
		t.Helper()
		c, err := dial(at, database, rest)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = c.Close(context.Background()) })
		return c
	}
	refused := func(what, at, database, rest, says string) {
		t.Helper()
		if c, err := dial(at, database, rest); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, %v", what, c, err)
		}
	}
	refused("another database", at, "postgres", "sslmode=disable", "(SQLSTATE 3D000)")
	refused("replication", at, database, "sslmode=disable&replication=database", "passes no replication")
	refused("a wrong password", at, database, "sslmode=disable&password=wrong", "28P01")
	refused("unencrypted", safe, database, "sslmode=disable", "takes encrypted connections only")
	c := open(safe, "sslmode=require")
	var pid, n int
	if err := c.QueryRow(t.Context(), "SELECT pg_backend_pid()").Scan(&pid); err != nil || pid == 0 {
		t.Errorf("encrypted: %v", err)
	}
	// What asks to be cancelled is, on the server that does it.
	short, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	began := time.Now()
	late := open(at, "sslmode=disable")
	if err := late.PgConn().Exec(short, "SELECT pg_sleep(60)").Close(); err == nil || time.Since(began) > 20*time.Second {
		t.Errorf("a query that was to be cancelled: %v after %s", err, time.Since(began))
	}
	eventually(t, 20*time.Second, func() bool {
		return one[int](t, dbURL(servers.source, database), "SELECT count(*)::int FROM pg_stat_activity WHERE query = "+
			"'SELECT pg_sleep(60)' AND state = 'active'") == 0
	})
	// Much at once.
	c = open(at, "sslmode=disable")
	if tag, err := c.CopyFrom(t.Context(), pgx.Identifier{"hives"}, []string{"id", "note"},
		pgx.CopyFromSlice(20_000, func(i int) ([]any, error) {
			return []any{i, strings.Repeat("wax", i%50)},
				nil
		})); err != nil ||
		tag != 20_000 {
		t.Fatalf("%d, %v", tag, err)
	}
	if err := c.QueryRow(t.Context(), "SELECT count(*) FROM hives, generate_series(1, 5)").Scan(&n); err != nil ||
		n != 100_000 {
		t.Errorf("%d, %v", n, err)
	}
	// Three that stand when the cutover comes: at rest, in a transaction without end, and held.
	rests, dreams := open(at, "sslmode=disable"), open(at, "sslmode=disable")
	tx, err := dreams.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(t.Context(), "INSERT INTO hives VALUES (-1, 'never committed')"); err != nil {
		t.Fatal(err)
	}
	s.cut("spring", false)
	for what, try := range map[string]func() error{
		"at rest": func() error {
			_, err := rests.Exec(t.Context(),
				"INSERT INTO hives VALUES (-2, 'lost')")
			return err
		},
		"in a transaction": func() error { return tx.Commit(t.Context()) },
	} {
		if err := try(); err == nil || !strings.Contains(err.Error(), "57P01") && !strings.Contains(err.Error(), "closed") {
			t.Errorf("%s: %v", what, err)
		}
	}
	if n := one[int](t, dbURL(servers.source, database), "SELECT count(*)::int FROM hives WHERE id < 0"); n != 0 {
		t.Errorf("the source was written to %d times by sessions that were ended", n)
	}
	c = open(at, "sslmode=disable")
	if err := c.QueryRow(t.Context(), "SELECT count(*) FROM hives").Scan(&n); err != nil || n != 20_000 {
		t.Errorf("through the gateway the target has %d rows: %v", n, err)
	}
	if _, err := c.Exec(t.Context(), "INSERT INTO hives VALUES (-3, 'on the new side')"); err != nil {
		t.Error(err)
	}
	if got := s.new.texts("SELECT note FROM hives WHERE id < 0"); len(got) != 1 || got[0] != "on the new side" {
		t.Errorf("the target has %q", got)
	}
}

// TestATokenOfGateways: it is good for what a gateway asks, and for nothing else.
func TestATokenOfGateways(t *testing.T) {
	f := start(t)
	f.shore("postgres", "old").exec("CREATE TABLE public.hives (id integer PRIMARY KEY)")
	f.shore("postgres", "new")
	f.must("crossing", "create", "spring", "--source", "old", "--target", "new", "--table", "public.*")
	process, _ := f.gateway("spring")
	g := f.as("gate", contract.RoleGateway, nil)
	if _, err := client.Do[contract.Gateways](g.API.ListGatewaysWithResponse(t.Context(), "spring")); err != nil {
		t.Error(err)
	}
	events := func(topic string) error {
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		defer cancel()
		return g.Events(ctx, "", []string{topic}, func(e client.Event) error {
			if e.Kind == "journal" {
				t.Errorf("it was sent the journal: %s", e.Data)
			}
			if e.Kind == "answer" {
				return errors.New("answered")
			}
			return nil
		})
	}
	if err := events("/api/crossings/spring/gateways"); err == nil || err.Error() != "answered" {
		t.Error(err)
	}
	if err := events("/api/crossings/spring"); err == nil || !strings.Contains(err.Error(), "nothing else") {
		t.Error(err)
	}
	var p *client.Problem
	for what, try := range map[string]func() error{
		"see a crossing": func() error {
			_, err := client.Do[contract.Crossing](g.API.GetCrossingWithResponse(t.Context(), "spring"))
			return err
		},
		"start it": func() error {
			_, err := client.Do[contract.Crossing](g.API.StartCrossingWithResponse(t.Context(), "spring",
				contract.StartCrossingJSONRequestBody{}))
			return err
		},
		"see databases": func() error {
			_, err := client.Do[[]contract.Database](g.API.ListDatabasesWithResponse(t.Context()))
			return err
		},
	} {
		if err := try(); !errors.As(err, &p) || p.Status != 403 {
			t.Errorf("it could %s: %v", what, err)
		}
	}
	if _, err := client.Do[contract.Session](f.API.SignInWithResponse(t.Context(),
		contract.SignInJSONRequestBody{Token: g.token})); !errors.As(err, &p) || p.Status != 403 {
		t.Errorf("it opened the console: %v", err)
	}
	report := contract.GatewayReport{Listens: "elsewhere"}
	if _, err := client.Do[contract.GatewayRoute](f.API.ReportGatewayWithResponse(t.Context(), "spring", "own",
		report)); !errors.As(err, &p) || p.Status != 403 {
		t.Errorf("an admin spoke for a gateway: %v", err)
	}
	all, err := client.Do[contract.Gateways](f.API.ListGatewaysWithResponse(t.Context(), "spring"))
	if err != nil || len(all.Gateways) != 1 {
		t.Fatalf("%+v, %v", all, err)
	}
	if _, err := client.Do[contract.GatewayRoute](g.API.ReportGatewayWithResponse(t.Context(), "spring",
		all.Gateways[0].Name, report)); !errors.As(err, &p) || p.Status != 409 {
		t.Errorf("two gateways have one name: %v", err)
	}
	_ = process.cmd.Process.Signal(syscall.SIGTERM)
	eventually(t, 10*time.Second, func() bool {
		return strings.Contains(f.must("gateway", "list", "spring").out, "lead to old") &&
			!strings.Contains(f.must("gateway", "list", "spring").out, "as told")
	})
	if a := f.cli("gateway", "run", "nowhere", "--token", f.gatewayToken); a.code == 0 || !strings.Contains(a.err,
		"nowhere") {
		t.Errorf("%+v", a)
	}
	if a := f.cli("gateway", "run", "spring", "--listen", "0.0.0.0:6432"); a.code != 2 ||
		!strings.Contains(a.err, "--tls-cert") {
		t.Errorf("%+v", a)
	}
}

// TestGatewaysBetweenEngines: they hold what comes and release it; after the cutover they say where the
// tables are.
func TestGatewaysBetweenEngines(t *testing.T) {
	f := start(t)
	s := &shores{ferry: f, old: f.shore("postgres", "old"), new: f.shore("mariadb", "new")}
	s.old.exec("CREATE TABLE public.hives (id integer PRIMARY KEY)")
	f.must("crossing", "create", "--file", write(t, "dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  "+
		"target: new\n  tables: [\"public.*\"]\n  settings: {in_step_dwell: 200ms}\n"))
	f.must("crossing", "start", "spring")
	s.phase("spring", contract.PhaseInStep)
	_, at := f.gateway("spring")
	open := f.opener("postgres", s)(at)
	db, err := open()
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = db.Close() }()
	db.SetMaxOpenConns(1)
	write := func(id int) error {
		_, err := db.ExecContext(t.Context(), fmt.Sprintf("INSERT INTO hives VALUES (%d)", id))
		return err
	}
	if err := write(1); err != nil {
		t.Fatal(err)
	}
	f.must("cutover", "rehearse", "spring")
	if err := write(2); err != nil {
		t.Errorf("after a rehearsal: %v", err)
	}
	s.cut("spring", false)
	_ = write(3) // what it was told when its session ended
	if err := write(4); err == nil || !strings.Contains(err.Error(), "have moved to database new") {
		t.Errorf("after the cutover: %v", err)
	}
	if got := s.new.texts("SELECT concat(id, '') AS id FROM " + s.new.schema + ".hives ORDER BY id"); len(got) != 2 {
		t.Errorf("the target has %q", got)
	}
}

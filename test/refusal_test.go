package test

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// TestBadInputIsRefusedInOneSentence: each mistake gets one sentence that says
// what is wrong and what to do, and changes nothing.
func TestBadInputIsRefusedInOneSentence(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(),
		`CREATE TABLE public.a (id integer PRIMARY KEY, v text); CREATE ROLE weak LOGIN PASSWORD 'weak'`)
	exec1(t, p.targetURL(), `CREATE TABLE public.a (id integer PRIMARY KEY, v integer)`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.*")
	db := func(edit func(*contract.NewDatabase)) error {
		d := contract.NewDatabase{Name: "x", Engine: "postgres", Host: servers.source.Host, Port: servers.source.Port,
			Database: p.source, User: "postgres", Password: servers.source.Password}
		edit(&d)
		_, err := client.Do[contract.Database](f.API.AddDatabaseWithResponse(t.Context(), d))
		return err
	}
	crossing := func(edit func(*contract.NewCrossing)) error {
		c := contract.NewCrossing{Name: "other", Source: "old", Target: "new", Tables: &[]string{"public.*"}}
		edit(&c)
		_, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(), c))
		return err
	}
	manifest := func(text string) error {
		_, err := client.Do[contract.Crossing](f.API.ImportManifestWithTextBodyWithResponse(t.Context(), text))
		return err
	}
	for _, c := range []struct {
		name string
		err  error
		want []string
	}{
		{"wrong password", db(func(d *contract.NewDatabase) { d.Password = "no" }), []string{"refused the sign-in",
			"check the user name and the password"}},
		{"unreachable", db(func(d *contract.NewDatabase) { d.Port = 1 }), []string{"cannot be reached",
			"check host and port"}},
		{"no such database", db(func(d *contract.NewDatabase) { d.Database = "gone" }), []string{"does not exist",
			"check the database's name"}},
		{"no host", db(func(d *contract.NewDatabase) { d.Host = "" }), []string{"the host is missing"}},
		{"a name with a space", db(func(d *contract.NewDatabase) { d.Name = "a b" }), []string{`contains " "`,
			"use letters"}},
		{"same name", db(func(d *contract.NewDatabase) { d.Name = "old" }), []string{"registered already",
			"choose another name"}},
		{"unknown database", crossing(func(c *contract.NewCrossing) { c.Source = "nowhere" }),
			[]string{"no database named nowhere"}},
		{"onto itself", crossing(func(c *contract.NewCrossing) { c.Target = "old" }), []string{"choose two databases"}},
		{"pattern without schema", crossing(func(c *contract.NewCrossing) { c.Tables = &[]string{"a"} }),
			[]string{"write schema.table"}},
		{"no lanes", crossing(func(c *contract.NewCrossing) { c.Settings = &contract.Settings{Lanes: ptr(-1)} }),
			[]string{"lanes is -1"}},
		{"typo in a manifest", manifest("dusty_ferry: 1\ncrossing:\n  name: m\n  source: old\n  taget: new\n"),
			[]string{"line 5, column 3"}},
	} {
		t.Run(c.name, func(t *testing.T) { refused(t, c.err, c.want...) })
	}

	start := func(name string) error {
		_, err := client.Do[contract.Crossing](f.API.StartCrossingWithResponse(t.Context(), name,
			contract.StartCrossingJSONRequestBody{}))
		return err
	}
	held := func(want ...string) {
		t.Helper()
		c := f.await(20*time.Second, "held", func(c contract.Crossing) bool { return c.Condition == contract.ConditionHeld })
		for _, w := range want {
			if !strings.Contains(c.Reason, w) {
				t.Errorf("the reason %q lacks %q", c.Reason, w)
			}
		}
	}
	t.Run("a target table with other columns", func(t *testing.T) {
		f.startCrossing()
		held("public.a", "column v is integer, the source has text", "DROP TABLE")
		if n := one[int64](t, p.sourceURL(), `SELECT count(*) FROM pg_publication`); n != 0 {
			t.Error("something was made on the source although the survey blocks")
		}
	})
	t.Run("cutover while not ready", func(t *testing.T) {
		_, err := client.Do[contract.Cutover](f.API.CutoverWithResponse(t.Context(), "spring",
			contract.NewCutover{Confirm: ptr("spring")}))
		refused(t, err, "cannot be cut over", "wait until")
	})
	t.Run("a cutover without its confirmation", func(t *testing.T) {
		_, err := client.Do[contract.Cutover](f.API.CutoverWithResponse(t.Context(), "spring", contract.NewCutover{}))
		refused(t, err, "confirm it by giving the crossing's name")
	})
	t.Run("resume after mending", func(t *testing.T) {
		exec1(t, p.targetURL(), `DROP TABLE public.a`)
		if _, err := client.Do[contract.Crossing](f.API.ResumeCrossingWithResponse(t.Context(), "spring")); err != nil {
			t.Fatal(err)
		}
		f.awaitPhase(contract.PhaseInStep)
	})
	t.Run("a second crossing over the same target table", func(t *testing.T) {
		if err := crossing(func(c *contract.NewCrossing) {
			c.Name = "twin"
			c.Settings = &contract.Settings{ExistingRows: ptr(contract.SettingsExistingRows("empty"))}
		}); err != nil {
			t.Fatal(err)
		}
		if err := start("twin"); err != nil {
			t.Fatal(err)
		}
		eventually(t, 20*time.Second, func() bool {
			c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(t.Context(), "twin"))
			return err == nil && c.Condition == contract.ConditionHeld &&
				strings.Contains(c.Reason, "written by another crossing")
		})
	})
	t.Run("a table that vanished", func(t *testing.T) {
		if err := crossing(func(c *contract.NewCrossing) {
			c.Name = "lost"
			c.Tables = &[]string{"public.gone"}
		}); err != nil {
			t.Fatal(err)
		}
		_, err := client.Do[[]contract.Entry](f.API.SurveyCrossingWithResponse(t.Context(), "lost"))
		refused(t, err, "public.gone", "dustyferry database show")
	})
	t.Run("missing permission", func(t *testing.T) {
		if err := db(func(d *contract.NewDatabase) { d.Name, d.User, d.Password = "weak", "weak", "weak" }); err != nil {
			t.Fatal(err)
		}
		if err := crossing(func(c *contract.NewCrossing) { c.Name, c.Source = "weakly", "weak" }); err != nil {
			t.Fatal(err)
		}
		list, err := client.Do[[]contract.Entry](f.API.SurveyCrossingWithResponse(t.Context(), "weakly"))
		if err != nil {
			t.Fatal(err)
		}
		var remedies []string
		for _, e := range list {
			if e.Verdict == contract.Blocker && e.Remedy != nil {
				remedies = append(remedies, *e.Remedy)
			}
		}
		for _, want := range []string{`ALTER ROLE "weak" REPLICATION`, `GRANT SELECT ON "public"."a" TO "weak"`} {
			if !strings.Contains(strings.Join(remedies, "\n"), want) {
				t.Errorf("no remedy %q among %q", want, remedies)
			}
		}
	})
}

// TestALogThatCarriesTooLittleBlocks: wal_level too low and no free slot.
func TestALogThatCarriesTooLittleBlocks(t *testing.T) {
	f := start(t)
	poor, err := localserver.StartPostgres(t.Context(),
		localserver.Options{Settings: map[string]string{"wal_level": "replica", "max_replication_slots": "0"}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(poor.Stop)
	f.register("poor", poor, "postgres")
	facts, err := client.Do[contract.Facts](f.API.CheckDatabaseWithResponse(t.Context(), "poor"))
	if err != nil {
		t.Fatal(err)
	}
	var blocks []string
	for _, e := range facts.AsSource {
		if e.Verdict == contract.Blocker {
			blocks = append(blocks, e.Measured+" | "+*e.Remedy)
		}
	}
	all := strings.Join(blocks, "\n")
	for _, want := range []string{"wal_level is replica", "ALTER SYSTEM SET wal_level = 'logical'",
		"all 0 slots are in use", "max_replication_slots"} {
		if !strings.Contains(all, want) {
			t.Errorf("%q is missing in\n%s", want, all)
		}
	}
}

func refused(t *testing.T, err error, want ...string) {
	t.Helper()
	if err == nil {
		t.Fatal("it was taken")
	}
	for _, w := range want {
		if !strings.Contains(err.Error(), w) {
			t.Errorf("%q lacks %q", err, w)
		}
	}
	if strings.Contains(err.Error(), servers.source.Password) || strings.Contains(err.Error(), "\n") {
		t.Errorf("not one sentence without secrets: %q", err)
	}
}

func eventually(t *testing.T, limit time.Duration, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(patience * limit); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		if ok() {
			return
		}
	}
	t.Fatal("it did not come to that in time")
}

// TestRolesAndSecrets: viewers cannot change anything, nobody gets a password
// back, and what is not signed in gets nothing.
func TestRolesAndSecrets(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.a (id integer PRIMARY KEY)`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.*")
	role := func(name string, r contract.Role) *client.Client {
		tok, err := client.Do[contract.Token](f.API.AddTokenWithResponse(t.Context(), contract.AddTokenJSONRequestBody{
			Name: name, Role: r}))
		if err != nil {
			t.Fatal(err)
		}
		c, err := client.New(f.url, *tok.Token)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	viewer, operator := role("looker", contract.RoleViewer), role("hand", contract.RoleOperator)
	if _, err := client.Do[contract.CrossingPage](viewer.API.ListCrossingsWithResponse(t.Context(),
		&contract.ListCrossingsParams{})); err != nil {
		t.Errorf("a viewer cannot look: %v", err)
	}
	_, err := client.Do[contract.Crossing](viewer.API.StartCrossingWithResponse(t.Context(), "spring",
		contract.StartCrossingJSONRequestBody{}))
	refused(t, err, "your role is viewer, this needs operator")
	_, err = client.Do[struct{}](operator.API.RemoveDatabaseWithResponse(t.Context(), "old"))
	refused(t, err, "this needs admin")
	_, err = client.Do[contract.Crossing](operator.API.ChangeCrossingWithResponse(t.Context(), "spring",
		contract.Settings{HandoverCommand: ptr("id")}))
	refused(t, err, "needs the admin role")
	nobody, err := client.New(f.url, "dft_wrong")
	if err != nil {
		t.Fatal(err)
	}
	_, err = client.Do[contract.CrossingPage](nobody.API.ListCrossingsWithResponse(t.Context(),
		&contract.ListCrossingsParams{}))
	refused(t, err, "sign in first")

	for _, path := range []string{"/api/databases", "/api/databases/old", "/api/journal", "/api/crossings",
		"/api/crossings/spring/manifest", "/api/tokens", "/metrics"} {
		req, _ := http.NewRequestWithContext(t.Context(), http.MethodGet, f.url+path, nil)
		req.Header.Set("Authorization", "Bearer "+f.token)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		b, _ := io.ReadAll(res.Body)
		_ = res.Body.Close()
		if res.StatusCode != 200 {
			t.Errorf("%s answered %d", path, res.StatusCode)
		}
		for _, secret := range []string{servers.source.Password, f.token} {
			if strings.Contains(string(b), secret) {
				t.Errorf("%s gives a secret away", path)
			}
		}
	}
}

// TestEventsResume: a stream that was lost goes on after the last event.
func TestEventsResume(t *testing.T) {
	p := newPair(t)
	f := start(t)
	f.register("a", servers.source, p.source)
	var last string
	stop := io.EOF
	read := func(after string, want int) (ids []string, kinds map[string]int) {
		kinds = map[string]int{}
		_ = f.Events(t.Context(), after, []string{"/api/crossings?limit=5", "/api/workers"}, func(e client.Event) error {
			kinds[e.Kind]++
			if e.ID != "" {
				ids = append(ids, e.ID)
			}
			if len(ids) >= want && kinds["beat"] > 0 {
				return stop
			}
			return nil
		})
		return ids, kinds
	}
	ids, _ := read("0", 1)
	last = ids[len(ids)-1]
	f.register("b", servers.target, p.target) // while nobody listens
	ids, kinds := read(last, 1)
	if len(ids) != 1 || ids[0] == last || kinds["answer"] < 2 {
		t.Errorf("after %s came %v, %v", last, ids, kinds)
	}
	// A stream repeats what the records answer, and nothing else.
	for _, topic := range []string{"/api/tokens", "/api/databases/a/tables", "/api/crossings/x/plan?table=a.b",
		"/api/crossings/x/review", "/api/crossings/x/certificate", "/metrics", "https://elsewhere.example/",
		"/api/crossings/../tokens"} {
		err := f.Events(t.Context(), "", []string{topic}, func(client.Event) error { return stop })
		refused(t, err, "is no topic")
	}
	// Nor does it outlive its token.
	tok, err := client.Do[contract.Token](f.API.AddTokenWithResponse(t.Context(), contract.AddTokenJSONRequestBody{
		Name: "brief", Role: contract.RoleViewer}))
	if err != nil {
		t.Fatal(err)
	}
	brief, err := client.New(f.url, *tok.Token)
	if err != nil {
		t.Fatal(err)
	}
	begun, ended := make(chan bool, 100), make(chan error, 1)
	go func() {
		ended <- brief.Events(t.Context(), "", nil, func(client.Event) error { begun <- true; return nil })
	}()
	<-begun
	if _, err := client.Do[struct{}](f.API.RemoveTokenWithResponse(t.Context(), "brief",
		&contract.RemoveTokenParams{Confirm: ptr("brief")})); err != nil {
		t.Fatal(err)
	}
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Error("the stream of a revoked token goes on")
	}
}

// TestTheJournalAsAFile: what is exported is what was asked for, whole, and does
// nothing in a spreadsheet.
func TestTheJournalAsAFile(t *testing.T) {
	f := start(t)
	exec1(t, f.set.ControlURL, `INSERT INTO journal (actor, act, subject, message) SELECT 'ann', 'change', '=1+1',
  'entry ' || n FROM generate_series(1, 4500) n`)
	csv := contract.ExportJournalParamsFormatCsv
	text, err := client.Do[string](f.API.ExportJournalWithResponse(t.Context(), &contract.ExportJournalParams{Format: &csv,
		Actor: ptr("ann")}))
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(strings.TrimSpace(text), "\n")
	if len(lines) != 4501 || !strings.HasSuffix(lines[1], "entry 1") || !strings.HasSuffix(lines[4500], "entry 4500") ||
		!strings.Contains(lines[7], ",'=1+1,") {
		t.Errorf("%d lines: %q … %q", len(lines), lines[1], lines[len(lines)-1])
	}
	req, _ := http.NewRequestWithContext(t.Context(), http.MethodGet,
		f.url+"/api/journal/export?format=jsonl&search=entry%2045", nil)
	req.Header.Set("Authorization", "Bearer "+f.token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = res.Body.Close() }()
	b, err := io.ReadAll(res.Body)
	text = string(b)
	if n := strings.Count(text, "\n"); err != nil || n != 12 || !strings.Contains(text, `"message":"entry 4500"`) {
		t.Errorf("%d lines of JSON (%v)", n, err)
	}
}

package test

import (
	"context"
	"database/sql"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // an application's driver

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// gateway runs a gateway as a process of its own, and returns where it listens.
func (f *ferry) gateway(crossing string, args ...string) (*process, string) {
	f.t.Helper()
	if f.gatewayToken == "" {
		k, err := client.Do[contract.Token](f.API.AddTokenWithResponse(f.t.Context(), contract.NewToken{Name: "gateways",
			Role: contract.RoleGateway}))
		if err != nil {
			f.t.Fatal(err)
		}
		f.gatewayToken = *k.Token
	}
	port, err := localserver.FreePort()
	if err != nil {
		f.t.Fatal(err)
	}
	at := fmt.Sprintf("127.0.0.1:%d", port)
	p := &process{t: f.t, args: append([]string{"gateway", "run", crossing, "--listen", at, "--service", f.url, "--token",
		f.gatewayToken}, args...)}
	p.start()
	f.t.Cleanup(func() { p.kill() })
	p.until("Ready at")
	return p, at
}

// till is an application that moves money between two accounts and writes each move down, as
// fast as it may, and connects anew where it is told to. It knows which moves were committed,
// which were not, and of which nobody told it.
type till struct {
	mu            sync.Mutex
	done, unknown map[int]bool
	next, refused int
	longest       time.Duration
}

// work moves money until ctx ends. open connects.
func (k *till) work(ctx context.Context, open func() (*sql.DB, error)) {
	db, err := open()
	if err != nil {
		return
	}
	defer func() { _ = db.Close() }()
	db.SetMaxOpenConns(1)
	for ctx.Err() == nil {
		k.mu.Lock()
		k.next++
		id := k.next
		k.mu.Unlock()
		began := time.Now()
		committed, err := move(db, id)
		k.mu.Lock()
		k.longest = max(k.longest, time.Since(began))
		switch {
		case err == nil:
			k.done[id] = true
		case committed:
			k.unknown[id] = true
		default:
			k.refused++
		}
		k.mu.Unlock()
		if err != nil {
			time.Sleep(5 * time.Millisecond)
		}
	}
}

// move is one transaction. asked says that its commit was asked for.
func move(db *sql.DB, id int) (asked bool, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return false, err
	}
	for _, q := range []string{
		fmt.Sprintf("UPDATE accounts SET money = money - 1 WHERE id = %d", 1+id%7),
		fmt.Sprintf("UPDATE accounts SET money = money + 1 WHERE id = %d", 8+id%5),
		fmt.Sprintf("INSERT INTO moves VALUES (%d)", id),
	} {
		if _, err := tx.ExecContext(ctx, q); err != nil {
			_ = tx.Rollback()
			return false, err
		}
	}
	return true, tx.Commit()
}

// tillRoom is a crossing of accounts and moves in step, with two gateways that tills use.
type tillRoom struct {
	*shores
	*till
	method string
	gates  [2]*process
	stop   func() // the tills
}

func (f *ferry) tillRoom(engine string) *tillRoom {
	f.t.Helper()
	t := f.t
	s := &shores{ferry: f, old: f.shore(engine, "old"), new: f.shore(engine, "new")}
	s.oldTable = func(n string) string { return s.old.schema + "." + n }
	s.newTable = func(n string) string { return s.new.schema + "." + n }
	s.old.exec("CREATE TABLE " + s.oldTable("accounts") + " (id integer PRIMARY KEY, money integer NOT NULL)")
	s.old.exec("CREATE TABLE " + s.oldTable("moves") + " (id integer PRIMARY KEY)")
	for i := range 12 {
		s.old.exec(fmt.Sprintf("INSERT INTO %s VALUES (%d, 1000)", s.oldTable("accounts"), i+1))
	}
	r := &tillRoom{shores: s, method: "lock"}
	rules := ""
	if engine == "mariadb" { // both on one server
		r.method = "word"
		rules = fmt.Sprintf("  rules: [{tables: \"%s.*\", schema: %s}]\n", s.old.schema, s.new.schema)
	}
	f.must("crossing", "create", "--file", write(t, fmt.Sprintf("dusty_ferry: 1\ncrossing:\n  name: spring\n  "+
		"source: old\n  target: new\n  tables: [\"%s.*\"]\n%s  settings: {return_path: open, stop_method: %s, "+
		"in_step_dwell: 200ms, vouch_every: 1s}\n", s.old.schema, rules, r.method)))
	f.must("crossing", "start", "spring")
	s.phase("spring", contract.PhaseInStep)
	open := f.opener(engine, s)
	var at [2]string
	for i := range at {
		r.gates[i], at[i] = f.gateway("spring")
	}
	ctx, end := context.WithCancel(t.Context())
	r.till = &till{done: map[int]bool{}, unknown: map[int]bool{}}
	var tills sync.WaitGroup
	for i := range 6 {
		tills.Go(func() { r.work(ctx, open(at[i%2])) })
	}
	r.stop = sync.OnceFunc(func() { end(); tills.Wait() })
	t.Cleanup(r.stop)
	r.moved(50)
	return r
}

// moved waits until that many more moves were committed.
func (r *tillRoom) moved(more int) {
	r.t.Helper()
	count := func() int {
		r.mu.Lock()
		defer r.mu.Unlock()
		return len(r.done)
	}
	from := count()
	eventually(r.t, time.Minute, func() bool { return count() >= from+more })
}

func (r *tillRoom) account() {
	r.t.Helper()
	r.stop()
	r.balanced(r.till)
	r.t.Logf("%d moves committed, %d refused before they were, of %d it is not known; the longest took %s", len(r.done),
		r.refused, len(r.unknown), r.longest)
}

// TestApplicationsStayConnected: applications that connect to gateways move money over a rehearsal,
// a cutover and the way back. No transaction is lost or doubled, and who was told that
// one was committed finds it, with both sides alike.
func TestApplicationsStayConnected(t *testing.T) {
	for _, engine := range []string{"postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			r := start(t).tillRoom(engine)
			if r.method != "word" {
				r.mu.Lock()
				before := r.refused
				r.mu.Unlock()
				r.must("cutover", "rehearse", "spring")
				r.moved(50)
				r.mu.Lock()
				if n := r.refused - before; n > 0 {
					t.Errorf("a rehearsal has refused applications %d times", n)
				}
				r.mu.Unlock()
			}
			for i, name := range []string{"spring", "spring-back"} {
				r.cut(name, r.method == "word")
				r.moved(50)
				r.phase([]string{"spring-back", "spring-forth"}[i], contract.PhaseInStep)
				r.moved(50)
			}
			out := r.must("gateway", "list", "spring").out
			if !strings.Contains(out, "lead to old") || strings.Count(out, "as told") != 2 {
				t.Errorf("gateways: %s", out)
			}
			r.account()
			if len(r.unknown) > 0 {
				t.Errorf("nobody told applications what became of %d moves", len(r.unknown))
			}
		})
	}
}

// kills is how often something is killed while gateways switch.
var kills = flag.Int("kills", 2, "how often a gateway or the service is killed while gateways switch")

// TestKilledWhileGatewaysSwitch: gateways and the service die in the middle of cutovers, and come
// back. No move is lost or doubled, and none is written to the side that was left.
func TestKilledWhileGatewaysSwitch(t *testing.T) {
	f := startFleet(t, 0)
	r := f.tillRoom("postgres")
	name := "spring"
	for i := range *kills {
		_, _ = client.Do[contract.Cutover](f.API.CutoverWithResponse(t.Context(), name, contract.NewCutover{Confirm: &name}))
		time.Sleep(time.Duration(rand.IntN(600)) * time.Millisecond)
		if i%3 == 0 {
			f.strike(0)
		} else {
			g := r.gates[i%2]
			g.kill()
			time.Sleep(time.Duration(rand.IntN(300)) * time.Millisecond)
			g.start()
			g.until("Ready at")
		}
		eventually(t, 2*time.Minute, func() bool {
			list, err := client.Do[[]contract.Cutover](f.API.ListCutoversWithResponse(t.Context(), name))
			if err != nil || len(list) > 0 && list[0].EndedAt == nil {
				return false
			}
			if len(list) > 0 && list[0].State == contract.CutoverStateDone {
				return true
			}
			_, _ = client.Do[contract.Cutover](f.API.CutoverWithResponse(t.Context(), name, contract.NewCutover{Confirm: &name}))
			time.Sleep(200 * time.Millisecond)
			return false
		})
		eventually(t, time.Minute, func() bool {
			c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(t.Context(), name))
			if err != nil || c.ReturnBy == nil {
				return false
			}
			name = *c.ReturnBy
			return true
		})
		r.phase(name, contract.PhaseInStep)
		r.moved(50)
		t.Logf("killed %d times; %s goes on", i+1, name)
	}
	r.account()
}

// balanced waits until both sides are alike, and checks them against what applications know.
func (s *shores) balanced(k *till) {
	s.t.Helper()
	list := func(at side, table func(string) string) []string {
		return append(at.texts("SELECT concat(id, '') AS id FROM "+table("moves")+" ORDER BY id"),
			at.texts("SELECT concat(id, ' has ', money) AS has FROM "+table("accounts")+" ORDER BY id")...)
	}
	eventually(s.t, 30*time.Second, func() bool {
		a, b := list(s.old, s.oldTable), list(s.new, s.newTable)
		return strings.Join(a, "\n") == strings.Join(b, "\n")
	})
	there := map[int]bool{}
	money := map[int]int{}
	for _, line := range list(s.new, s.newTable) {
		if id, has, ok := strings.Cut(line, " has "); ok {
			i, _ := strconv.Atoi(id)
			money[i], _ = strconv.Atoi(has)
			continue
		}
		id, err := strconv.Atoi(line)
		if err != nil {
			s.t.Fatal(err)
		}
		there[id] = true
	}
	for id := range k.done {
		if !there[id] {
			s.t.Errorf("move %d was committed and is lost", id)
		}
	}
	want := map[int]int{}
	for i := range 12 {
		want[i+1] = 1000
	}
	for id := range there {
		if !k.done[id] && !k.unknown[id] {
			s.t.Errorf("move %d is there, which was not committed", id)
		}
		want[1+id%7]--
		want[8+id%5]++
	}
	if fmt.Sprint(want) != fmt.Sprint(money) {
		s.t.Errorf("accounts have %v, and by the moves they should have %v", money, want)
	}
}

// opener connects as an application does.
func (f *ferry) opener(engine string, s *shores) func(at string) func() (*sql.DB, error) {
	if engine == "mariadb" {
		_, root := newMaria(f.t)
		maria(f.t, root, "CREATE OR REPLACE USER till IDENTIFIED BY 'apiary'", "GRANT ALL ON "+s.old.schema+".* TO till",
			"GRANT ALL ON "+s.new.schema+".* TO till")
		return func(at string) func() (*sql.DB, error) {
			return func() (*sql.DB, error) { return sql.Open("mysql", "till:apiary@tcp("+at+")/"+s.old.schema) }
		}
	}
	database := s.old.texts("SELECT current_database()::text")[0]
	return func(at string) func() (*sql.DB, error) {
		return func() (*sql.DB, error) {
			u := url.URL{Scheme: "postgres", User: url.UserPassword("postgres", servers.source.Password), Host: at,
				Path: database}
			return sql.Open("pgx", u.String())
		}
	}
}

// TestPgbenchThroughGateways: pgbench, which nobody here wrote, is not told of cutovers; by its own
// history no transaction is lost or doubled.
func TestPgbenchThroughGateways(t *testing.T) {
	pgbench, err := localserver.Bin("pgbench")
	if err != nil {
		t.Fatal(err)
	}
	f := start(t)
	s := &shores{ferry: f, old: f.shore("postgres", "old"), new: f.shore("postgres", "new")}
	database := s.old.texts("SELECT current_database()::text")[0]
	bench := func(ctx context.Context, at string, args ...string) (string, error) {
		host, port, _ := strings.Cut(at, ":")
		cmd := exec.CommandContext(ctx, pgbench, append(args, "-h", host, "-p", port, "-U", "postgres", database)...)
		cmd.Env = append(os.Environ(), "PGPASSWORD="+servers.source.Password)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	direct := fmt.Sprintf("127.0.0.1:%d", servers.source.Port)
	if out, err := bench(t.Context(), direct, "-i", "-q", "-s", "2"); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	f.must("crossing", "create", "--file", write(t, "dusty_ferry: 1\ncrossing:\n  name: spring\n  source: old\n  "+
		"target: new\n  tables: [\"public.*\"]\n  settings: {return_path: open, in_step_dwell: 200ms, vouch_every: 1s}\n"))
	f.must("crossing", "start", "spring")
	s.phase("spring", contract.PhaseInStep)
	_, at := f.gateway("spring")
	ctx, end := context.WithCancel(t.Context())
	defer end()
	processed := regexp.MustCompile(`transactions actually processed: (\d+)`)
	var mu sync.Mutex
	total := 0
	var runs sync.WaitGroup
	for range 2 {
		runs.Go(func() {
			for ctx.Err() == nil { // its clients end where a connection does; the next run connects anew
				out, err := bench(t.Context(), at, "-n", "-c", "2", "-T", "2")
				m := processed.FindStringSubmatch(out)
				var exit *exec.ExitError
				if m == nil && strings.Contains(out, "connect anew") {
					continue // ended before its first transaction
				}
				if err != nil && !errors.As(err, &exit) || m == nil {
					t.Errorf("pgbench: %v\n%s", err, out)
					return
				}
				n, _ := strconv.Atoi(m[1])
				mu.Lock()
				total += n
				mu.Unlock()
			}
		})
	}
	time.Sleep(time.Second)
	for _, name := range []string{"spring", "spring-back"} {
		s.cut(name, false)
		s.phase(map[string]string{"spring": "spring-back", "spring-back": "spring-forth"}[name], contract.PhaseInStep)
		time.Sleep(time.Second)
	}
	end()
	runs.Wait()
	count := func(at side) string { return at.texts("SELECT count(*)::text FROM pgbench_history")[0] }
	eventually(t, 30*time.Second, func() bool { return count(s.old) == count(s.new) })
	if n := count(s.old); n != strconv.Itoa(total) || total < 100 {
		t.Errorf("pgbench has carried out %d transactions, and its history has %s", total, n)
	}
	t.Logf("%d transactions; %s", total, f.must("gateway", "list", "spring").out)
}

package test

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // for database/sql

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

var (
	soakFor    = flag.Duration("soak", 0, "how long transfers go on under faults; 0: as long as a test should")
	soakReport = flag.String("soak-report", "", "file for an account of it")
)

// TestTransfersStayWhole lets an application move honey between stores at full speed, in
// transactions of every shape, while processes of ours are killed and frozen, connections
// cut and servers crashed, and reads sums on the target all the time. Every transaction
// keeps these sums: a transaction of which only a part could be seen, or one that was lost
// or applied twice, would change one of them.
func TestTransfersStayWhole(t *testing.T) {
	for _, way := range [][2]string{{"postgres", "postgres"}, {"mariadb", "postgres"}} {
		t.Run(way[0]+" to "+way[1], func(t *testing.T) {
			length := 12 * time.Second
			if *soakFor > 0 {
				length = *soakFor / 2
			}
			transfers(t, way[0], way[1], length)
		})
	}
}

// stores is how many there are, half of them with odd numbers.
const stores = 2000

// yard is one side's server and database.
type yard struct {
	db    *sql.DB
	add   contract.NewDatabase
	cut   func(context.Context) // ends our connections there
	crash func(context.Context) error
}

func newYard(t *testing.T, engine, name string) yard {
	t.Helper()
	disable := contract.Disable
	ctx := t.Context()
	open := func(driver, dsn string) *sql.DB {
		db, err := sql.Open(driver, dsn)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = db.Close() })
		return db
	}
	if engine == "mariadb" {
		m, err := localserver.StartMariaDB(ctx, localserver.Options{Password: "thyme & clover", Durable: true})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(m.Stop)
		maria(t, open("mysql", m.DSN("")), "CREATE DATABASE marsh CHARACTER SET utf8mb4")
		db := open("mysql", m.DSN("marsh"))
		return yard{db: db,
			crash: func(ctx context.Context) error {
				err := m.Crash(ctx)
				if err == nil {
					endOrphans(t, db)
				}
				return err
			},
			add: contract.NewDatabase{Name: name, Engine: "mariadb", Host: m.Host, Port: m.Port, Database: "marsh", User: m.User,
				Password: m.Password, Tls: &disable},
			cut: func(ctx context.Context) {
				rows, err := db.QueryContext(ctx, "SELECT id FROM information_schema.processlist WHERE command LIKE 'Binlog Dump%'")
				if err != nil {
					return
				}
				defer func() { _ = rows.Close() }()
				for rows.Next() {
					var id int64
					if rows.Scan(&id) == nil {
						_, _ = db.ExecContext(ctx, fmt.Sprintf("KILL %d", id))
					}
				}
			}}
	}
	p, err := localserver.StartPostgres(ctx, localserver.Options{Password: "honey & salt", Durable: true,
		Settings: map[string]string{"max_prepared_transactions": "20"}})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Stop)
	exec1(t, p.URL("postgres"), "CREATE DATABASE marsh")
	db := open("pgx", p.URL("marsh"))
	return yard{db: db, crash: func(ctx context.Context) error { return p.Crash(ctx, 0) },
		add: contract.NewDatabase{Name: name, Engine: "postgres", Host: p.Host, Port: p.Port, Database: "marsh", User: p.User,
			Password: p.Password, Tls: &disable},
		cut: func(ctx context.Context) {
			_, _ = db.ExecContext(ctx, `SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid()
  AND application_name LIKE 'dusty-ferry%'`)
		}}
}

// endOrphans is what a transaction manager does when a MariaDB server is back: it ends what is
// prepared there and belongs to nobody any more. That may be what was committed before, and
// is prepared again: the end that stands in the log was not on the disk of the tables.
func endOrphans(t *testing.T, db *sql.DB) {
	t.Helper()
	prepared := func() (names []string) {
		rows, err := db.QueryContext(t.Context(), "XA RECOVER")
		if err != nil {
			t.Fatal(err)
		}
		defer func() { _ = rows.Close() }()
		for rows.Next() {
			var format, a, b int
			var name string
			check(t, rows.Scan(&format, &a, &b, &name))
			names = append(names, name)
		}
		return names
	}
	before := prepared()
	time.Sleep(2 * time.Second) // whoever has lost the connection ends its own
	for _, name := range prepared() {
		if slices.Contains(before, name) {
			end := []string{"XA COMMIT '", "XA ROLLBACK '"}[rand.IntN(2)] + name + "'"
			_, err := db.ExecContext(t.Context(), end)
			t.Logf("%s: %v", end, err)
		}
	}
}

// account is what became of a run.
type account struct {
	way                      string
	transfers, reads, pauses atomic.Int64
	twoPhases                atomic.Int64
	faults                   map[string]int
	lags                     []float64
	took                     time.Duration
}

func transfers(t *testing.T, from, to string, length time.Duration) {
	ctx := t.Context()
	source, target := newYard(t, from, "old"), newYard(t, to, "new")
	do := func(statements ...string) {
		for _, q := range statements {
			if _, err := source.db.ExecContext(ctx, q); err != nil {
				t.Fatalf("%.80s: %v", q, err)
			}
		}
	}
	numbers := map[string]string{"postgres": "generate_series(1, %d) g(seq)", "mariadb": "seq_1_to_%d"}[from]
	do("CREATE TABLE stores (id integer PRIMARY KEY, kg integer NOT NULL, slot integer NOT NULL UNIQUE, label text)")
	long := 10 // MariaDB logs whole rows, twice
	if from == "postgres" {
		long = 200
		do("ALTER TABLE stores ALTER label SET STORAGE EXTERNAL") // out of line, and unsaid in the log
	}
	do("CREATE TABLE movements (id varchar(40) PRIMARY KEY, kg integer)",
		"CREATE TABLE totals (id integer PRIMARY KEY, n integer NOT NULL)",
		"INSERT INTO stores SELECT seq, 1000, seq, repeat(concat('shelf ', seq, ' of the marsh store '), "+itoa(long)+
			") FROM "+fmt.Sprintf(numbers, stores),
		"INSERT INTO totals SELECT seq, 0 FROM "+fmt.Sprintf(numbers, 8))
	control, err := localserver.StartPostgres(ctx, localserver.Options{Durable: true})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(control.Stop)
	f := startFleetOn(t, control.URL("postgres"), 2)
	for _, y := range []yard{source, target} {
		if _, err := client.Do[contract.Database](f.API.AddDatabaseWithResponse(ctx, y.add)); err != nil {
			t.Fatal(err)
		}
	}
	rule, schema := []contract.Rule{}, "public"
	if from == "mariadb" {
		rule = []contract.Rule{{Tables: "*.*", Schema: &schema}}
	}
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(ctx, contract.NewCrossing{Name: "spring",
		Source: "old", Target: "new", Rules: &rule})); err != nil {
		t.Fatal(err)
	}
	a := &account{way: from + " to " + to, faults: map[string]int{}}
	writing, stop := context.WithCancel(ctx)
	var wg sync.WaitGroup
	defer wg.Wait()
	defer stop()
	for w := range 3 {
		wg.Go(func() { a.write(writing, source.db, w, long) })
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	reading, stopReading := context.WithCancel(ctx)
	defer stopReading()
	for range 2 {
		wg.Go(func() { a.read(reading, t, target.db) })
	}
	wg.Go(func() { a.watch(reading, f.ferry) })

	faults := map[string]func(){
		"a process killed":      func() { f.strike(rand.IntN(len(f.all))) },
		"whole fleet killed":    func() { f.strike(0); f.strike(1); f.strike(2) },
		"connections cut":       func() { source.cut(ctx); target.cut(ctx) },
		"source server crashes": func() { check(t, source.crash(ctx)) },
		"target server crashes": func() { check(t, target.crash(ctx)) },
		"records crash":         func() { check(t, control.Crash(ctx, 0)) },
		"a worker is frozen past its lease": func() {
			p := f.all[1+rand.IntN(len(f.all)-1)].cmd.Process
			_ = p.Signal(syscall.SIGSTOP)
			time.Sleep(10 * time.Second)
			_ = p.Signal(syscall.SIGCONT)
		},
	}
	var order []string
	for name := range faults {
		order = append(order, name)
	}
	slices.Sort(order)
	began := time.Now()
	for n := 0; time.Since(began) < length || n < len(order); n++ {
		if n%len(order) == 0 {
			rand.Shuffle(len(order), func(i, j int) { order[i], order[j] = order[j], order[i] })
		}
		name := order[n%len(order)]
		t.Logf("%s after %d transfers", name, a.transfers.Load())
		faults[name]()
		a.faults[name]++
		least, spread := time.Second, 3*time.Second
		if *soakFor > 0 {
			spread = 15 * time.Second // time to come back and to go wrong quietly
		}
		time.Sleep(least + rand.N(spread))
	}
	stop()
	f.await(3*time.Minute, "in step at the end", func(c contract.Crossing) bool {
		return c.Phase == contract.PhaseInStep && c.Condition == contract.ConditionRunning &&
			c.Progress.Capture != "waiting" && c.Progress.LagSeconds < 2
	})
	time.Sleep(500 * time.Millisecond)
	stopReading()
	wg.Wait()
	a.took = time.Since(began)
	settle(t, f.ferry)
	for _, q := range []string{"SELECT concat_ws('|', id, kg, slot, md5(label)) FROM stores ORDER BY id",
		"SELECT concat_ws('|', id, kg) FROM movements ORDER BY id", "SELECT concat_ws('|', id, n) FROM totals ORDER BY id"} {
		left, right := texts(t, source.db, q), texts(t, target.db, q)
		slices.Sort(left)
		slices.Sort(right)
		if !slices.Equal(left, right) {
			t.Errorf("%s: the sides differ (%d and %d rows)", q, len(left), len(right))
		}
	}
	if a.transfers.Load() < 500 || a.reads.Load() < 100 || a.twoPhases.Load() < 20 {
		t.Errorf("hardly anything happened: %d transfers, %d reads, %d in two phases", a.transfers.Load(), a.reads.Load(),
			a.twoPhases.Load())
	}
	t.Log(a.String())
	if *soakReport != "" {
		out, err := os.OpenFile(*soakReport, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
		if err == nil {
			_, err = fmt.Fprintln(out, a.String())
			_ = out.Close()
		}
		check(t, err)
	}
}

func check(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// write is an application whose every transaction keeps the sums.
func (a *account) write(ctx context.Context, db *sql.DB, writer, long int) {
	r := rand.New(rand.NewPCG(uint64(writer), 5))
	for n := 0; ctx.Err() == nil; n++ {
		x, y, kg := 1+r.IntN(stores), 1+r.IntN(stores), r.IntN(50)
		if x > y {
			x, y = y, x
		}
		move := []string{fmt.Sprintf("UPDATE stores SET kg = kg - %d WHERE id IN (%d, %d)", kg, x, x+1_000_000),
			fmt.Sprintf("UPDATE stores SET kg = kg + %d WHERE id IN (%d, %d)", kg, y, y+1_000_000)}
		booked := []string{fmt.Sprintf("INSERT INTO movements VALUES ('%d-%d-%d', %d)", writer, n, r.Int64(), kg),
			fmt.Sprintf("UPDATE totals SET n = n + 1 WHERE id = %d", 1+r.IntN(8))}
		var list []string
		switch k := r.IntN(100); {
		case x == y:
			continue
		case k < 60:
			if r.IntN(20) == 0 {
				continue
			}
			list = append(move, booked...)
		case k < 70: // two places change hands
			list = []string{fmt.Sprintf("UPDATE stores SET slot = -slot WHERE id IN (%d, %d)", x, y),
				fmt.Sprintf("UPDATE stores SET slot = -slot WHERE id IN (%d, %d)", x, y)}
		case k < 80: // a row gets another key, its label unsaid in the log
			list = []string{fmt.Sprintf("UPDATE stores SET id = id + 1000000 WHERE id = %d", x),
				fmt.Sprintf("UPDATE stores SET id = id - 1000000 WHERE id = %d", y+1_000_000)}
		case k < 90: // part of it is rolled back
			list = append([]string{"SAVEPOINT s", fmt.Sprintf("UPDATE stores SET kg = kg + 999 WHERE id = %d", x),
				"INSERT INTO movements VALUES ('never', 0)", "ROLLBACK TO SAVEPOINT s"}, append(move, booked...)...)
		case k < 99:
			list = append(booked, fmt.Sprintf("UPDATE stores SET label = repeat('moved %d ', %d) WHERE id = %d", n, long, x))
		default: // everything at once
			list = []string{"UPDATE stores SET kg = kg + CASE WHEN mod(id, 2) = 0 THEN 1 ELSE -1 END"}
		}
		if n%8 == 0 && len(list) < 6 { // no savepoints in it: MariaDB has none in two phases
			if a.twoPhase(ctx, db, fmt.Sprintf("keeper-%d-%d", writer, n), list, time.Duration(r.IntN(40))*time.Millisecond,
				r.IntN(6) > 0) {
				a.transfers.Add(1)
				a.twoPhases.Add(1)
			}
			continue
		}
		tx, err := db.BeginTx(ctx, nil)
		if err != nil {
			time.Sleep(50 * time.Millisecond)
			continue
		}
		if carryOut(tx, list) != nil || tx.Commit() != nil {
			_ = tx.Rollback()
			continue
		}
		a.transfers.Add(1)
	}
}

type execer interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}

// carryOut runs a transaction's statements. A transfer needs both of its stores.
func carryOut(tx execer, list []string) error {
	for _, q := range list {
		res, err := tx.ExecContext(context.Background(), q)
		if err != nil {
			return err
		}
		if strings.HasPrefix(q, "UPDATE stores SET kg = kg - ") || strings.HasPrefix(q, "UPDATE stores SET kg = kg + ") &&
			!strings.Contains(q, "999") && !strings.Contains(q, "CASE") {
			if touched, err := res.RowsAffected(); err != nil || touched != 1 {
				return fmt.Errorf("%d rows, %w", touched, err)
			}
		}
	}
	return nil
}

// twoPhase prepares a transaction, lets its session go, and ends it after a while. It is
// ended whatever happens meanwhile, as its locks would stop everybody.
func (a *account) twoPhase(ctx context.Context, db *sql.DB, name string, list []string, wait time.Duration,
	commit bool) bool {
	begin, prepare, end, forget := "BEGIN", "PREPARE TRANSACTION '"+name+"'", "COMMIT PREPARED '"+name+"'",
		"ROLLBACK PREPARED '"+name+"'"
	if strings.HasPrefix(a.way, "mariadb") {
		begin, prepare, end, forget = "XA START '"+name+"'", "XA PREPARE '"+name+"'", "XA COMMIT '"+name+"'",
			"XA ROLLBACK '"+name+"'"
		list = append(slices.Clip(list), "XA END '"+name+"'")
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		time.Sleep(50 * time.Millisecond)
		return false
	}
	failed := carryOut(conn, append([]string{begin}, list...))
	if failed == nil {
		_, failed = conn.ExecContext(context.Background(), prepare)
	}
	_ = conn.Raw(func(any) error { return driver.ErrBadConn }) // the session ends
	if failed != nil || !commit {
		end = forget
	}
	time.Sleep(wait)
	unknown := 0
	for range 600 {
		if _, err = db.Exec(end); err == nil {
			return end != forget
		}
		if text := err.Error(); strings.Contains(text, "does not exist") || strings.Contains(text, "XAE04") {
			// MariaDB does not know it either as long as its session has not quite ended.
			if unknown++; unknown > 60 && (failed != nil || end == forget) {
				return false
			}
		} else {
			end = forget
		}
		time.Sleep(50 * time.Millisecond)
	}
	return false
}

// read reads the sums again and again, each time in one snapshot.
func (a *account) read(ctx context.Context, t *testing.T, db *sql.DB) {
	for ctx.Err() == nil {
		var kg, rows, moved, total int64
		err := db.QueryRowContext(ctx, "SELECT (SELECT sum(kg) FROM stores), (SELECT count(*) FROM stores), (SELECT "+
			"count(*) FROM movements), (SELECT sum(n) FROM totals)").Scan(&kg, &rows, &moved, &total)
		if err != nil {
			a.pauses.Add(1)
			time.Sleep(100 * time.Millisecond)
			continue
		}
		if kg != stores*1000 || rows != stores {
			t.Errorf("the target shows %d kg in %d stores: part of a transaction", kg, rows)
			return
		}
		if moved != total {
			t.Errorf("the target shows %d movements where %d were counted: part of a transaction", moved, total)
			return
		}
		a.reads.Add(1)
	}
}

// watch keeps what the service says of its lag.
func (a *account) watch(ctx context.Context, f *ferry) {
	for ctx.Err() == nil {
		if c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(ctx, "spring")); err == nil {
			a.lags = append(a.lags, c.Progress.LagSeconds)
		}
		time.Sleep(500 * time.Millisecond)
	}
}

// String is an account for people.
func (a *account) String() string {
	var names []string
	all := 0
	for name, n := range a.faults {
		names = append(names, fmt.Sprintf("%s: %d", name, n))
		all += n
	}
	slices.Sort(names)
	slices.Sort(a.lags)
	at := func(share float64) float64 {
		if len(a.lags) == 0 {
			return 0
		}
		return a.lags[int(share*float64(len(a.lags)-1))]
	}
	return fmt.Sprintf("## %s\n\n%s of transfers under faults: %d transactions of the application (%d of them in two "+
		"phases), %d reads of all sums on the target (%d more failed, as its server was away), %d faults.\nLag as the "+
		"service told it: median %.2f s, nine tenths below %.1f s, at most %.1f s. No sum was ever wrong; both sides were "+
		"equal at the end by plain SQL.\n\n- %s\n",
		a.way, a.took.Round(time.Second), a.transfers.Load(), a.twoPhases.Load(), a.reads.Load(), a.pauses.Load(), all,
		at(0.5), at(0.9), at(1), strings.Join(names, "\n- "))
}

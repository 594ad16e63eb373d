package test

import (
	"bufio"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
	"dustyferry/internal/localserver"
)

// process is the program running as its own process, to be killed.
type process struct {
	t    *testing.T
	args []string
	cmd  *exec.Cmd
	line chan string
}

func (p *process) start() {
	p.t.Helper()
	p.cmd = exec.Command(binary(p.t), p.args...)
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	p.cmd.Env = append(os.Environ(), "DUSTYFERRY_ALLOW_ROOT=true")
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		p.t.Fatal(err)
	}
	if testing.Verbose() {
		p.cmd.Stderr = os.Stderr
	}
	if err := p.cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	p.line = make(chan string, 100)
	go func() {
		for s := bufio.NewScanner(out); s.Scan(); {
			p.line <- s.Text()
		}
		_, _ = io.Copy(io.Discard, out)
		close(p.line)
	}()
}

// until returns the line that contains what.
func (p *process) until(what string) string {
	p.t.Helper()
	limit := time.After(40 * time.Second)
	for {
		select {
		case l, ok := <-p.line:
			if !ok {
				p.t.Fatalf("the process ended before it said %q", what)
			}
			if strings.Contains(l, what) {
				return strings.TrimSpace(l)
			}
		case <-limit:
			p.t.Fatalf("the process never said %q", what)
		}
	}
}

func (p *process) kill() {
	_ = p.cmd.Process.Kill()
	_ = p.cmd.Wait()
}

// fleet is a service and workers as processes of their own.
type fleet struct {
	*ferry
	all []*process
}

func startFleet(t *testing.T, workers int) *fleet {
	t.Helper()
	control := fmt.Sprintf("control_%d", counter.Add(1))
	exec1(t, dbURL(servers.target, "postgres"), "CREATE DATABASE "+control)
	return startFleetOn(t, dbURL(servers.target, control), workers)
}

// startFleetOn starts processes with a control database that stands.
func startFleetOn(t *testing.T, url string, workers int) *fleet {
	t.Helper()
	dir := t.TempDir()
	// The address has to stay the same over restarts.
	port, err := localserver.FreePort()
	if err != nil {
		t.Fatal(err)
	}
	f := &fleet{ferry: &ferry{t: t}}
	serve := &process{t: t, args: []string{"serve", "--listen", fmt.Sprintf("127.0.0.1:%d", port), "--control-url", url,
		"--data-dir", dir, "--process-lanes", "2"}}
	serve.start()
	f.token = serve.until("dft_")
	f.url = strings.TrimPrefix(serve.until("Ready at"), "Ready at ")
	f.signIn()
	f.all = append(f.all, serve)
	for range workers {
		w := &process{t: t, args: []string{"worker", "--control-url", url, "--key-file", filepath.Join(dir, "key"),
			"--data-dir", dir, "--process-lanes", "2"}}
		w.start()
		w.until("Ready")
		f.all = append(f.all, w)
	}
	t.Cleanup(func() {
		for _, p := range f.all {
			p.kill()
		}
	})
	return f
}

// strike kills one process with SIGKILL and starts it again.
func (f *fleet) strike(i int) {
	f.t.Helper()
	f.all[i].kill()
	time.Sleep(time.Duration(rand.IntN(400)) * time.Millisecond)
	f.all[i].start()
	f.all[i].until("Ready")
}

// TestKilledAtRandomMoments kills the service and its workers with SIGKILL again
// and again during load, capture and cutover, and compares with plain SQL.
func TestKilledAtRandomMoments(t *testing.T) {
	p := newPair(t)
	if err := demo.Fill(t.Context(), p.sourceURL(), 120_000); err != nil {
		t.Fatal(err)
	}
	f := startFleet(t, 2)
	app := demo.StartApp(t.Context(), demo.Postgres(p.sourceURL()), 2, 3*time.Millisecond)
	defer app.Stop()
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(256 << 10)), Lanes: ptr(4), SpeedLimit: ptr(int64(400 << 10)),
		PauseBudgetSeconds: ptr(30.0)}, "saltmarsh.*")
	f.startCrossing()
	f.await(time.Minute, "loading", func(c contract.Crossing) bool { return c.Progress.ChunksLanded > 2 })
	for range 6 {
		time.Sleep(time.Duration(300+rand.IntN(1500)) * time.Millisecond)
		f.strike(rand.IntN(len(f.all)))
	}
	if c := f.show(); c.Phase != contract.PhaseLoading {
		t.Logf("the load ended before the last strike (%s)", c.Phase)
	}
	if _, err := client.Do[contract.Crossing](f.API.ChangeCrossingWithResponse(t.Context(), "spring",
		contract.Settings{SpeedLimit: ptr(int64(0))})); err != nil {
		t.Fatal(err)
	}
	f.awaitPhase(contract.PhaseInStep)
	carriers(t, f.ferry)
	for range 3 { // capture moves to another process
		f.strike(rand.IntN(len(f.all)))
		time.Sleep(time.Duration(rand.IntN(1000)) * time.Millisecond)
	}
	f.awaitPhase(contract.PhaseInStep)
	// A worker frozen past its lease and woken again must not do harm.
	frozen := f.all[1].cmd.Process
	_ = frozen.Signal(syscall.SIGSTOP)
	time.Sleep(10 * time.Second)
	_ = frozen.Signal(syscall.SIGCONT)

	undone := 0
	for try := 0; ; try++ {
		f.awaitPhase(contract.PhaseInStep)
		name := "spring"
		if _, err := client.Do[contract.Cutover](f.API.CutoverWithResponse(t.Context(), name,
			contract.NewCutover{Confirm: &name})); err != nil {
			if try < 20 { // capture may be on its way to another process
				time.Sleep(time.Second)
				continue
			}
			f.story()
			t.Fatal(err)
		}
		if undone < 2 { // strike in the middle: it must undo itself or be complete
			time.Sleep(time.Duration(rand.IntN(150)) * time.Millisecond)
			for i := range f.all {
				f.strike(i)
			}
		}
		k := f.cutOverEnd()
		if k.State == "done" {
			break
		}
		if strings.Contains(k.Error, "differences") { // drained to the end, both sides are equal
			f.story()
			t.Fatal(k.Error)
		}
		undone++
		before := app.Written()
		eventually(t, 20*time.Second, func() bool { return app.Written() > before })
		if undone > 5 {
			t.Fatalf("no cutover came through: %+v", k)
		}
	}
	app.Stop()
	t.Logf("%d cutovers were undone, then one came through; %d transactions written", undone, app.Written())
	f.awaitPhase(contract.PhaseCutOver)
	sameEverywhere(t, p, "saltmarsh")
}

// carriers checks that the load was shared by several processes and that every
// chunk landed.
func carriers(t *testing.T, f *ferry) {
	t.Helper()
	tables, err := client.Do[contract.TablePage](f.API.ListTablesWithResponse(t.Context(), "spring",
		&contract.ListTablesParams{}))
	if err != nil {
		t.Fatal(err)
	}
	workers := map[string]bool{}
	for _, tab := range tables.Tables {
		chunks, err := client.Do[[]contract.Chunk](f.API.ListChunksWithResponse(t.Context(), "spring", tab.Id,
			&contract.ListChunksParams{}))
		if err != nil {
			t.Fatal(err)
		}
		rows := int64(0)
		for _, k := range chunks {
			workers[k.Worker] = true
			rows += k.Rows
			if k.State != "landed" || k.Position == nil || *k.Position == "" {
				t.Errorf("chunk %d of %s: %+v", k.Ordinal, tab.Name, k)
			}
		}
		if rows != tab.Rows || len(chunks) != tab.ChunksLanded {
			t.Errorf("%s: the ledger has %d rows in %d chunks, the table says %d in %d", tab.Name, rows, len(chunks), tab.Rows,
				tab.ChunksLanded)
		}
	}
	if len(workers) < 2 {
		t.Errorf("only %d process carried chunks", len(workers))
	}
}

// TestPauseResumeRestart stops and goes on in the middle, begins one table and
// then everything again.
func TestPauseResumeRestart(t *testing.T) {
	p := newPair(t)
	if err := demo.Fill(t.Context(), p.sourceURL(), 60_000); err != nil {
		t.Fatal(err)
	}
	f := start(t)
	app := demo.StartApp(t.Context(), demo.Postgres(p.sourceURL()), 2, 5*time.Millisecond)
	defer app.Stop()
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(256 << 10)), SpeedLimit: ptr(int64(1 << 20))}, "saltmarsh.*")
	f.startCrossing()
	f.await(time.Minute, "loading", func(c contract.Crossing) bool { return c.Progress.ChunksLanded > 2 })
	if _, err := client.Do[contract.Crossing](f.API.PauseCrossingWithResponse(t.Context(), "spring",
		contract.PauseCrossingJSONRequestBody{})); err != nil {
		t.Fatal(err)
	}
	time.Sleep(4 * time.Second) // chunks in flight are handed back
	paused := f.show().Progress.ChunksLanded
	time.Sleep(2 * time.Second)
	if now := f.show(); now.Progress.ChunksLanded != paused || now.Progress.Capture != "waiting" {
		t.Errorf("paused at %d chunks, now %d, capture %s", paused, now.Progress.ChunksLanded, now.Progress.Capture)
	}
	if _, err := client.Do[contract.Crossing](f.API.ResumeCrossingWithResponse(t.Context(), "spring")); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Do[contract.Crossing](f.API.ChangeCrossingWithResponse(t.Context(), "spring",
		contract.Settings{SpeedLimit: ptr(int64(0))})); err != nil {
		t.Fatal(err)
	}
	f.awaitPhase(contract.PhaseInStep)
	again := func(table string) {
		t.Helper()
		begin := contract.RestartCrossingJSONRequestBody{Table: &table, Confirm: &table}
		if table == "" {
			begin = contract.RestartCrossingJSONRequestBody{All: ptr(true), Confirm: ptr("spring")}
		}
		if _, err := client.Do[contract.Crossing](f.API.RestartCrossingWithResponse(t.Context(), "spring",
			begin)); err != nil {
			t.Fatal(err)
		}
		f.await(30*time.Second, "begun again", func(c contract.Crossing) bool {
			return c.Phase == contract.PhaseLoading || c.Phase == contract.PhaseCatchingUp
		})
		f.awaitPhase(contract.PhaseInStep)
	}
	again("saltmarsh.hives")
	again("")
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		f.story()
		t.Errorf("%+v", r)
	}
	app.Stop()
	settle(t, f)
	sameEverywhere(t, p, "saltmarsh")
}

// TestAnOverlongPauseIsUndone: a long transaction keeps the locks from us; the
// budget runs out and the source takes writes again.
func TestAnOverlongPauseIsUndone(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.a (id integer PRIMARY KEY)`)
	f := start(t)
	f.cross(p, contract.Settings{}, "public.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	long := connect(t, p.sourceURL())
	if _, err := long.Exec(t.Context(), `BEGIN; INSERT INTO public.a VALUES (1)`); err != nil {
		t.Fatal(err)
	}
	k := f.cutOver(false, contract.Settings{PauseBudgetSeconds: ptr(2.0)})
	if k.State != "undone" || !strings.Contains(k.Error, "long transactions on the source") &&
		!strings.Contains(k.Error, "budget") {
		t.Errorf("%+v", k)
	}
	if _, err := long.Exec(t.Context(), `COMMIT; INSERT INTO public.a VALUES (2)`); err != nil {
		t.Errorf("the source takes no writes: %v", err)
	}
	f.awaitPhase(contract.PhaseInStep)
	if c := f.show(); c.Condition != contract.ConditionRunning {
		t.Errorf("after the undo: %s %s", c.Condition, c.Reason)
	}
}

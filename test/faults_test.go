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

	"dustyferry/internal/contract"
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

package test

import (
	"bytes"
	"io"
	"os/exec"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
)

// terminal runs a command in a terminal of its own, 80 columns wide.
type terminal struct {
	t    *testing.T
	cmd  *exec.Cmd
	keys io.Writer
	mu   sync.Mutex
	out  bytes.Buffer
}

func (x *terminal) Write(b []byte) (int, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.out.Write(b)
}

func (x *terminal) text() string {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.out.String()
}

func inTerminal(t *testing.T, env []string, command string) *terminal {
	t.Helper()
	x := &terminal{t: t, cmd: exec.CommandContext(t.Context(), "script", "-qfec", "stty cols 80 rows 24; exec "+command,
		"/dev/null")}
	x.cmd.Env = append(env, "TERM=xterm-256color", "HOME="+t.TempDir(), "PATH=/usr/bin:/bin", "LANG=C.UTF-8")
	x.cmd.Stdout = x
	var err error
	if x.keys, err = x.cmd.StdinPipe(); err != nil {
		t.Fatal(err)
	}
	if err := x.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	return x
}

func (x *terminal) shows(want string) {
	x.t.Helper()
	for end := time.Now().Add(patience * 30 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if strings.Contains(x.text(), want) {
			return
		}
	}
	x.t.Fatalf("the terminal never showed %q:\n%q", want, x.text())
}

func (x *terminal) press(key string) {
	x.t.Helper()
	if _, err := io.WriteString(x.keys, key); err != nil {
		x.t.Fatal(err)
	}
}

// TestTheWatchInATerminal: the live view in a real terminal, without colour,
// pausing and resuming by keys; and as lines where there is no terminal.
func TestTheWatchInATerminal(t *testing.T) {
	p := newPair(t)
	if err := demo.Fill(t.Context(), p.sourceURL(), 40_000); err != nil {
		t.Fatal(err)
	}
	f := start(t)
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(256 << 10)), SpeedLimit: ptr(int64(300_000))}, "saltmarsh.*")
	f.startCrossing()
	f.awaitPhase(contract.PhaseLoading)
	bin := binary(t)
	env := []string{"DUSTYFERRY_SERVICE=" + f.url, "DUSTYFERRY_TOKEN=" + f.token}
	x := inTerminal(t, append(env, "NO_COLOR=1"), bin+" watch spring")
	x.shows("load")
	x.shows("saltmarsh.scale_readings")
	x.shows("lanes")
	x.shows("stuck nothing")
	x.shows("lag over the last")
	x.press("p")
	x.shows("y/n")
	x.press("y")
	f.await(10*time.Second, "paused", func(c contract.Crossing) bool { return c.Condition == contract.ConditionPaused })
	x.shows("paused by admin")
	x.press("r")
	x.press("y")
	f.await(10*time.Second, "resumed", func(c contract.Crossing) bool { return c.Condition == contract.ConditionRunning })
	x.press("q")
	if err := x.cmd.Wait(); err != nil {
		t.Errorf("leaving the watch: %v", err)
	}
	if colour := regexp.MustCompile(`\x1b\[[0-9;]*(3[0-7]|38;5;[0-9]+)m`).FindString(x.text()); colour != "" {
		t.Errorf("NO_COLOR, and yet %q", colour)
	}
	x = inTerminal(t, env, bin+" watch spring")
	x.shows("\x1b[3")
	x.press("q")
	if err := x.cmd.Wait(); err != nil {
		t.Errorf("leaving the watch in colour: %v", err)
	}

	lines := exec.CommandContext(t.Context(), bin, "watch", "spring")
	lines.Env = env
	var out bytes.Buffer
	lines.Stdout = &out
	if err := lines.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(4 * time.Second)
	_ = lines.Process.Kill()
	_ = lines.Wait()
	if n := strings.Count(out.String(), "\n"); n < 2 || strings.Contains(out.String(), "\x1b") ||
		!strings.Contains(out.String(), "spring: loading, running;") {
		t.Errorf("without a terminal it prints %d lines:\n%s", n, out.String())
	}
	// A long command draws how far it is on the error output, and takes it away.
	if _, err := client.Do[contract.Crossing](f.API.ChangeCrossingWithResponse(t.Context(), "spring",
		contract.Settings{SpeedLimit: ptr(int64(0))})); err != nil {
		t.Fatal(err)
	}
	f.awaitPhase(contract.PhaseInStep)
	x = inTerminal(t, env, bin+" reconcile spring")
	x.shows("bringing both sides to one log position")
	x.shows("clean")
	if err := x.cmd.Wait(); err != nil {
		t.Errorf("reconcile in a terminal: %v\n%s", err, x.text())
	}
}

package localserver

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// process is a server's process with its guard: a shell that stops the server
// when we are gone.
type process struct {
	cmd       *exec.Cmd
	end       syscall.Signal
	dir       string
	temporary bool // the directory goes with the process

	guard  *exec.Cmd
	hold   io.WriteCloser // while it is open, the guard leaves the server alone
	exited chan struct{}
}

func (p *process) start(cmd *exec.Cmd, end syscall.Signal, dir string, temporary bool) error {
	p.cmd, p.end, p.dir, p.temporary = cmd, end, dir, temporary
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting the server: %w", err)
	}
	p.exited = make(chan struct{})
	go func() { _ = cmd.Wait(); close(p.exited) }()
	return p.watch()
}

// watch starts the guard: it waits for the end of a pipe that only this process
// holds open, which also comes when this process is killed.
func (p *process) watch() error {
	clean := "true"
	if p.temporary {
		clean = `for i in 1 2 3 4 5 6 7 8 9 10; do kill -0 ` + strconv.Itoa(p.cmd.Process.Pid) + ` 2>/dev/null || break; sleep 0.3; done; rm -rf "$1"`
	}
	p.guard = exec.Command("/bin/sh", "-c", fmt.Sprintf("read _; kill -%d %d 2>/dev/null; %s", p.end, p.cmd.Process.Pid, clean), "sh", p.dir)
	p.guard.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	hold, err := p.guard.StdinPipe()
	if err != nil {
		return err
	}
	p.hold = hold
	if err := p.guard.Start(); err != nil {
		return fmt.Errorf("starting the server's guard: %w", err)
	}
	go func() { _ = p.guard.Wait() }()
	return nil
}

// crash kills the server and its guard; the directory stays.
func (p *process) crash() {
	_ = p.guard.Process.Kill()
	_ = p.hold.Close()
	_ = p.cmd.Process.Kill()
	<-p.exited
}

// stop ends the server cleanly, or at once when that takes too long.
func (p *process) stop() {
	if p.cmd == nil {
		return
	}
	_ = p.cmd.Process.Signal(p.end)
	select {
	case <-p.exited:
	case <-time.After(20 * time.Second):
		_ = p.cmd.Process.Signal(syscall.SIGQUIT)
		select {
		case <-p.exited:
		case <-time.After(5 * time.Second):
			_ = p.cmd.Process.Kill()
			<-p.exited
		}
	}
	if p.hold != nil {
		_ = p.hold.Close()
	}
	if p.temporary {
		_ = os.RemoveAll(p.dir)
	}
}

// lastLines returns the end of a server's log.
func lastLines(dir string) string {
	f, err := os.Open(filepath.Join(dir, "server.log"))
	if err != nil {
		return ""
	}
	defer func() { _ = f.Close() }()
	var last []string
	for s := bufio.NewScanner(f); s.Scan(); {
		if last = append(last, s.Text()); len(last) > 10 {
			last = last[1:]
		}
	}
	return strings.Join(last, "\n")
}

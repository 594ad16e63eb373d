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
	remove    string // a directory beside dir that goes with the process, or ""
	temporary bool   // the directory goes with the process

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
	if err := p.watch(); err != nil {
		return err
	}
	guard := p.guard
	go func() {
		_ = cmd.Wait()
		_ = guard.Process.Kill() // it has nothing to end any more, and the number may be another's soon
		close(p.exited)
	}()
	if err := remember(dir, cmd.Process.Pid); err != nil {
		return fmt.Errorf("noting which process the server is: %w", err)
	}
	return nil
}

// watch starts the guard: it waits for the end of a pipe that only this process
// holds open, which also comes when this process is killed. It ends the server only if
// the process of that number is still the one that was started: field 22 of
// /proc/PID/stat is when it was (proc(5)).
func (p *process) watch() error {
	pid := strconv.Itoa(p.cmd.Process.Pid)
	began, err := startTime(p.cmd.Process.Pid)
	if err != nil {
		return err
	}
	script := `
is_it() { [ "$(sed 's/.*) //' /proc/` + pid + `/stat 2>/dev/null | cut -d' ' -f20)" = "` + began + `" ]; }
read _
is_it && kill -` + strconv.Itoa(int(p.end)) + ` ` + pid + ` 2>/dev/null
`
	remove := []string{}
	if p.temporary {
		remove = append(remove, p.dir)
	}
	if p.remove != "" {
		remove = append(remove, p.remove)
	}
	if len(remove) > 0 {
		script += `for i in 1 2 3 4 5 6 7 8 9 10; do is_it || break; sleep 0.3; done; rm -rf "$@"`
	}
	p.guard = exec.Command("/bin/sh", append([]string{"-c", script, "sh"}, remove...)...)
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

// crash kills the server with its children, and its guard; the directory stays. A child that
// is busy would notice the server's end only later, and keep it from being started again.
func (p *process) crash() {
	_ = p.guard.Process.Kill()
	_ = p.hold.Close()
	pid := strconv.Itoa(p.cmd.Process.Pid)
	children, _ := os.ReadFile("/proc/" + pid + "/task/" + pid + "/children")
	_ = p.cmd.Process.Kill()
	for _, c := range strings.Fields(string(children)) {
		if n, err := strconv.Atoi(c); err == nil && n > 1 {
			_ = syscall.Kill(n, syscall.SIGKILL)
		}
	}
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
	if p.remove != "" {
		_ = os.RemoveAll(p.remove)
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

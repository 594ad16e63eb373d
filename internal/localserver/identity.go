package localserver

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// identity says which process a number meant: numbers are given again.
type identity struct {
	PID        int    `json:"pid"`
	Started    string `json:"started"`    // clock ticks after the machine's start
	Boot       string `json:"boot"`       // which start of the machine
	Executable string `json:"executable"` // what ran
}

// startTime is when a process was started, field 22 of /proc/PID/stat (proc(5)).
func startTime(pid int) (string, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return "", fmt.Errorf("process %d: %w", pid, err)
	}
	// The second field is a name in brackets that may hold blanks and brackets itself.
	fields := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	if len(fields) < 20 {
		return "", fmt.Errorf("process %d: its state cannot be read", pid)
	}
	return fields[19], nil
}

// identify describes the process of that number as it is now. A link that cannot be read
// (another user's process) stays empty, and equals no known one.
func identify(pid int) (identity, error) {
	began, err := startTime(pid)
	if err != nil {
		return identity{}, err
	}
	boot, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return identity{}, err
	}
	exe, _ := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid))
	return identity{PID: pid, Started: began, Boot: strings.TrimSpace(string(boot)), Executable: strings.TrimSuffix(exe,
		" (deleted)")}, nil
}

func startedFile(dir string) string { return filepath.Join(dir, "process.json") }

// remember keeps which process was started, once it runs the server's program.
func remember(dir string, pid int) error {
	id, err := identify(pid)
	if err != nil {
		return nil // it ended at once; whoever waits for it says so
	}
	b, err := json.Marshal(id)
	if err != nil {
		return err
	}
	return os.WriteFile(startedFile(dir), b, 0o600)
}

// ours reports whether the process of that number is the server that was started for the
// directory, and not one that was given its number since.
func ours(dir string, pid int) bool {
	var was identity
	b, err := os.ReadFile(startedFile(dir))
	if err != nil || json.Unmarshal(b, &was) != nil {
		return false
	}
	now, err := identify(pid)
	return err == nil && now.Executable != "" && now == was
}

// serves reports whether the process of that number works in the data directory, as a
// PostgreSQL server does in its own.
func serves(pid int, data string) bool {
	cwd, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid))
	if err != nil {
		return false
	}
	want, err := filepath.EvalSymlinks(data)
	return err == nil && cwd == want
}

// waitForOld lets a server of a process that was killed finish its shutdown, and ends it
// when it does not. A server that somebody else started there is left alone, and so is
// a stranger who was given the number in a stale file.
func waitForOld(ctx context.Context, dir, data string) error {
	file := filepath.Join(data, "postmaster.pid")
	for try := 0; ; try++ {
		b, err := os.ReadFile(file)
		if err != nil {
			return nil
		}
		line, _, _ := strings.Cut(string(b), "\n")
		pid, err := strconv.Atoi(strings.TrimSpace(line))
		if err != nil || pid <= 0 || syscall.Kill(pid, 0) == syscall.ESRCH {
			return nil
		}
		switch {
		case ours(dir, pid):
		case serves(pid, data):
			return fmt.Errorf("a PostgreSQL server that was not started by Dusty Ferry runs in %s (process %d); stop it first",
				data, pid)
		default: // the server itself would take it for the old one, and not start
			if err := os.Remove(file); err != nil {
				return fmt.Errorf("removing %s, which names a process that is no database server any more: %w", file, err)
			}
			return nil
		}
		if try == 20 {
			_ = syscall.Kill(pid, syscall.SIGINT)
		}
		if try == 150 {
			return fmt.Errorf("the server in %s (process %d) is still running; stop it first", data, pid)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

package service

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

func makeDataDir(dir string) error {
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return fmt.Errorf("making the data directory: %w", err)
	}
	return nil
}

// lockDir makes this process the only one that runs a control database in the data
// directory. The lock ends with the process, however it ends.
func lockDir(dir string) (*os.File, error) {
	path := filepath.Join(dir, "lock")
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("locking the data directory: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		who, _ := io.ReadAll(io.LimitReader(f, 100))
		_ = f.Close()
		if !errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, fmt.Errorf("locking the data directory: %w", err)
		}
		return nil, fmt.Errorf("another service (process %s) runs on the data directory %s; stop it first, or give this "+
			"one a directory of its own with --data-dir",
			strings.TrimSpace(string(who)), dir)
	}
	if err := f.Truncate(0); err == nil {
		_, _ = f.WriteAt(fmt.Appendf(nil, "%d\n", os.Getpid()), 0)
	}
	return f, nil
}

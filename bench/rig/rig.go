// Package rig is what the measurements share.
package rig

import (
	"context"
	"log/slog"
	"os"
	"slices"
	"syscall"
	"time"

	"dustyferry/internal/service"
)

// Serve starts a service on loopback with a data folder of its own, and returns
// it with an admin's token and a function that ends it and removes the folder. It opens files of the folders
// that are named.
func Serve(ctx context.Context, files ...string) (svc *service.Service, token string, end func(), err error) {
	dir, err := os.MkdirTemp("", "dusty-ferry-bench-")
	if err != nil {
		return nil, "", nil, err
	}
	defer func() {
		if err != nil {
			_ = os.RemoveAll(dir)
		}
	}()
	if err := os.Chmod(dir, 0o711); err != nil { // the database server runs as another user
		return nil, "", nil, err
	}
	svc, err = service.Start(ctx, service.Settings{Listen: "127.0.0.1:0", DataDir: dir, Lanes: 2, Serve: true,
		AllowRoot: true, Version: "bench", Files: files,
		Log: slog.New(slog.DiscardHandler), FirstToken: func(t string) { token = t }})
	if err != nil {
		return nil, "", nil, err
	}
	return svc, token, func() { svc.Stop(); _ = os.RemoveAll(dir) }, nil
}

// Median is the middle one, of an even number the upper.
func Median(v []float64) float64 {
	s := slices.Sorted(slices.Values(v))
	return s[len(s)/2]
}

// CPU is the share of a core that this process uses while it waits so long.
func CPU(wait time.Duration) float64 {
	used := func() time.Duration {
		var u syscall.Rusage
		_ = syscall.Getrusage(syscall.RUSAGE_SELF, &u)
		return time.Duration(u.Utime.Nano() + u.Stime.Nano())
	}
	before, from := used(), time.Now()
	time.Sleep(wait)
	return (used() - before).Seconds() / time.Since(from).Seconds()
}

package rig

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// FromFile starts a PostgreSQL server, "new", and a service that opens files of a folder and knows one of them
// as "old".
func FromFile(ctx context.Context, folder, path string) (f Ferry, pg *localserver.Postgres, end func(), err error) {
	pg, err = localserver.StartPostgres(ctx, localserver.Options{Settings: map[string]string{"max_wal_size": "8GB"}})
	if err != nil {
		return f, nil, nil, err
	}
	svc, token, stop, err := Serve(ctx, folder)
	if err != nil {
		pg.Stop()
		return f, nil, nil, err
	}
	end = func() { stop(); pg.Stop() }
	if f, err = Open(svc.URL(), token); err == nil {
		err = f.Register(ctx, contract.NewDatabase{Name: "old", Engine: "file", Database: path}, Postgres("new", pg))
	}
	if err != nil {
		end()
	}
	return f, pg, end, err
}

// Psql runs statements by psql one after the other, and says how long the last one took, in seconds.
func Psql(ctx context.Context, pg *localserver.Postgres, statements ...string) (float64, error) {
	psql, err := localserver.Bin("psql")
	if err != nil {
		return 0, err
	}
	began := time.Now()
	for _, q := range statements {
		began = time.Now()
		cmd := exec.CommandContext(ctx, psql, "-q", "-h", pg.Host, "-p", strconv.Itoa(pg.Port), "-U", pg.User, "postgres",
			"-c", q)
		cmd.Env = append(os.Environ(), "PGPASSWORD="+pg.Password)
		if out, err := cmd.CombinedOutput(); err != nil {
			return 0, fmt.Errorf("%w: %s", err, out)
		}
	}
	return time.Since(began).Seconds(), nil
}

package localserver_test

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"dustyferry/internal/localserver"
)

// When it is started with this variable, the test binary only starts a server
// and waits to be killed.
const alone = "DUSTYFERRY_TEST_SERVER"

func TestMain(m *testing.M) {
	if os.Getenv(alone) != "" {
		p, err := localserver.StartPostgres(context.Background(), localserver.Options{})
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		fmt.Println(p.PID(), p.Dir)
		select {}
	}
	os.Exit(m.Run())
}

func TestAServerDoesNotOutliveItsProcess(t *testing.T) {
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), alone+"=1")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	s := bufio.NewScanner(out)
	s.Scan()
	text, dir, ok := strings.Cut(s.Text(), " ")
	pid, err := strconv.Atoi(text)
	if !ok || err != nil {
		t.Fatalf("the server did not start: %s", s.Text())
	}
	if syscall.Kill(pid, 0) != nil {
		t.Fatal("the server does not run")
	}
	_ = cmd.Process.Kill() // SIGKILL: no code of ours runs any more
	_ = cmd.Wait()
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		if syscall.Kill(pid, 0) != nil {
			if _, err := os.Stat(dir); os.IsNotExist(err) {
				return
			}
		}
	}
	t.Errorf("server %d or its directory %s is still there", pid, dir)
}

func TestPasswordsAndRestart(t *testing.T) {
	dir, err := os.MkdirTemp("", "dusty-ferry-test-")
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	start := func() *localserver.Postgres {
		p, err := localserver.StartPostgres(t.Context(), localserver.Options{Dir: dir, Password: "thyme & clover"})
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	p := start()
	c, err := pgx.Connect(t.Context(), p.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.Exec(t.Context(), `CREATE TABLE kept (id integer)`); err != nil {
		t.Fatal(err)
	}
	_ = c.Close(t.Context())
	p.Stop()
	p = start()
	defer p.Stop()
	if c, err = pgx.Connect(t.Context(), p.URL("postgres")); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Exec(t.Context(), `SELECT * FROM kept`); err != nil {
		t.Errorf("after a restart: %v", err)
	}
	_ = c.Close(t.Context())
	p.Password = "wrong"
	if _, err := pgx.Connect(t.Context(), p.URL("postgres")); err == nil {
		t.Error("a wrong password was taken")
	}
}

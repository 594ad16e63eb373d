package hunt

import (
	"bufio"
	"bytes"
	"context"
	"dustyferry/internal/localserver"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// product is a process of the product and a client of its HTTP interface, which knows no
// more of it than its documents say, so that older builds can be hunted as well.
type product struct {
	binary, dir, control string
	address              string
	token                string
	cmd                  *exec.Cmd
	log                  *os.File
}

func launch(ctx context.Context, binary, dir, control string) (*product, error) {
	port, err := localserver.FreePort()
	if err != nil {
		return nil, err
	}
	p := &product{binary: binary, dir: dir, control: control, address: fmt.Sprintf("127.0.0.1:%d", port)}
	if p.log, err = os.Create(filepath.Join(dir, "service.log")); err != nil {
		return nil, err
	}
	return p, p.start(ctx)
}

func (p *product) start(ctx context.Context) error {
	args := []string{"serve", "--listen", p.address, "--data-dir", filepath.Join(p.dir, "data"), "--control-url",
		p.control}
	if help, _ := exec.Command(p.binary, "serve", "--help").Output(); bytes.Contains(help, []byte("--allow-root")) {
		args = append(args, "--allow-root")
	}
	p.cmd = exec.Command(p.binary, args...)
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
	p.cmd.Stderr = p.log
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := p.cmd.Start(); err != nil {
		return err
	}
	token := make(chan string, 1)
	go func() {
		in := bufio.NewScanner(out)
		after := false
		for in.Scan() {
			line := strings.TrimSpace(in.Text())
			if after && line != "" {
				token <- line
				after = false
			}
			after = after || strings.HasPrefix(line, "The first admin token")
		}
	}()
	for end := time.Now().Add(time.Minute); time.Now().Before(end); {
		select {
		case p.token = <-token:
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
		if p.token == "" {
			continue
		}
		if code, _, err := p.call(ctx, "GET", "/api/crossings", nil); err == nil && code == 200 {
			return nil
		}
	}
	return fmt.Errorf("the service did not come up; see %s", p.log.Name())
}

// kill ends the process as the kernel would.
func (p *product) kill() {
	_ = p.cmd.Process.Kill()
	_ = p.cmd.Wait()
}

// freeze stops the process for a while, as a paused machine would.
func (p *product) freeze(d time.Duration) {
	_ = p.cmd.Process.Signal(syscall.SIGSTOP)
	time.Sleep(d)
	_ = p.cmd.Process.Signal(syscall.SIGCONT)
}

func (p *product) stop() {
	p.kill()
	_ = p.log.Close()
}

// answer is a decoded body.
type answer = map[string]any

func (p *product) call(ctx context.Context, method, path string, body any) (int, []byte, error) {
	var in io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return 0, nil, err
		}
		in = bytes.NewReader(b)
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, "http://"+p.address+path, in)
	if err != nil {
		return 0, nil, err
	}
	req.Header.Set("Authorization", "Bearer "+p.token)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, nil, err
	}
	defer func() { _ = res.Body.Close() }()
	b, err := io.ReadAll(res.Body)
	return res.StatusCode, b, err
}

// refusal is an answer that says no.
type refusal struct {
	code int
	text string
}

func (r *refusal) Error() string { return r.text }

// do calls until the service answers, as an operator would who finds it starting.
func (p *product) do(ctx context.Context, method, path string, body any) (any, error) {
	var last error
	for end := time.Now().Add(40 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		code, b, err := p.call(ctx, method, path, body)
		switch {
		case ctx.Err() != nil:
			return nil, ctx.Err()
		case err != nil:
			last = err
			continue
		case code == 503 || code == 429 || code == 502 && strings.Contains(string(b), "; try again"):
			last = &refusal{code, string(b)}
			continue
		case code >= 300:
			if code == 500 {
				return nil, fault("%s %s: %s", method, path, b)
			}
			return nil, &refusal{code, string(b)}
		case len(b) == 0:
			return nil, nil
		}
		var v any
		return v, json.Unmarshal(b, &v)
	}
	return nil, last
}

func (p *product) get(ctx context.Context, path string) (answer, error) {
	v, err := p.do(ctx, "GET", path, nil)
	a, _ := v.(answer)
	return a, err
}

func (p *product) list(ctx context.Context, path string) ([]answer, error) {
	v, err := p.do(ctx, "GET", path, nil)
	l, _ := v.([]any)
	var out []answer
	for _, x := range l {
		if a, ok := x.(answer); ok {
			out = append(out, a)
		}
	}
	return out, err
}

func str(a answer, k string) string {
	s, _ := a[k].(string)
	return s
}

func escape(name string) string { return url.PathEscape(name) }

// Command gateway measures sessions that pass through a gateway beside the same ones straight to the
// server and through a forwarder that only copies bytes: pgbench's reads, its connections, and many rows
// at once. Each round measures all three; the ratios are medians of the rounds.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"time"

	"dustyferry/bench/rig"
	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/gateway"
	"dustyferry/internal/localserver"
)

func main() {
	rounds := flag.Int("rounds", 5, "rounds")
	seconds := flag.Int("seconds", 5, "of each run of pgbench")
	flag.Parse()
	if err := run(context.Background(), *rounds, *seconds); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// ways are where a client connects to.
var ways = []string{"straight", "forwarder", "gateway"}

func run(ctx context.Context, rounds, seconds int) error {
	old, err := localserver.StartPostgres(ctx, localserver.Options{})
	if err != nil {
		return err
	}
	defer old.Stop()
	fresh, err := localserver.StartPostgres(ctx, localserver.Options{})
	if err != nil {
		return err
	}
	defer fresh.Stop()
	svc, token, end, err := rig.Serve(ctx)
	if err != nil {
		return err
	}
	defer end()
	f, err := rig.Open(svc.URL(), token)
	if err != nil {
		return err
	}
	if err := f.Register(ctx, rig.Postgres("old", old), rig.Postgres("new", fresh)); err != nil {
		return err
	}
	if err := f.Add(ctx, contract.NewCrossing{Name: "spring", Tables: &[]string{"public.*"}}); err != nil {
		return err
	}
	k, err := client.Do[contract.Token](f.API.AddTokenWithResponse(ctx, contract.NewToken{Name: "gate",
		Role: contract.RoleGateway}))
	if err != nil {
		return err
	}
	own, err := client.New(svc.URL(), *k.Token)
	if err != nil {
		return err
	}
	g, err := gateway.Start(ctx, gateway.Settings{Service: own, Crossing: "spring", Name: "gate", Listen: "127.0.0.1:0",
		HoldAt: time.Minute, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	defer g.Stop()
	at := map[string]string{"straight": fmt.Sprintf("127.0.0.1:%d", old.Port), "gateway": g.Address()}
	if at["forwarder"], err = forward(at["straight"]); err != nil {
		return err
	}
	if _, err := pgbench(old, at["straight"], "-i", "-q", "-s", "10"); err != nil {
		return err
	}
	measures := []struct {
		name string
		of   func(at string) (float64, error)
	}{
		{"reads a second, 1 client", func(at string) (float64, error) { return tps(old, at, seconds, "-S", "-c", "1") }},
		{"reads a second, 4 clients", func(at string) (float64, error) { return tps(old, at, seconds, "-S", "-c", "4") }},
		{"reads a second, 4 clients, prepared", func(at string) (float64, error) {
			return tps(old, at, seconds, "-S", "-c", "4", "-M", "prepared")
		}},
		{"connections a second, 4 clients", func(at string) (float64, error) {
			return tps(old, at, seconds, "-S", "-C", "-c", "4")
		}},
		{"a million rows, MB/s", func(at string) (float64, error) { return rows(old, at) }},
	}
	result := map[string]map[string]float64{}
	for _, m := range measures {
		values := map[string][]float64{}
		for range rounds {
			for _, way := range ways {
				v, err := m.of(at[way])
				if err != nil {
					return fmt.Errorf("%s, %s: %w", m.name, way, err)
				}
				values[way] = append(values[way], v)
			}
		}
		var straight, forwarder []float64
		for i, v := range values["gateway"] {
			straight = append(straight, v/values["straight"][i])
			forwarder = append(forwarder, v/values["forwarder"][i])
		}
		result[m.name] = map[string]float64{"gateway": rig.Median(values["gateway"]), "of straight": rig.Median(straight),
			"of forwarder": rig.Median(forwarder)}
		fmt.Printf("%-36s straight %8.0f  forwarder %8.0f  gateway %8.0f: %.2f of straight, %.2f of the forwarder\n", m.name,
			rig.Median(values["straight"]), rig.Median(values["forwarder"]), rig.Median(values["gateway"]),
			rig.Median(straight), rig.Median(forwarder))
	}
	out, err := json.Marshal(result)
	fmt.Println(string(out))
	return err
}

// forward copies bytes between who connects and a server, and does nothing else.
func forward(to string) (string, error) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				s, err := net.Dial("tcp", to)
				if err != nil {
					_ = c.Close()
					return
				}
				go func() { _, _ = io.Copy(s, c); _ = s.Close() }()
				_, _ = io.Copy(c, s)
				_ = c.Close()
			}()
		}
	}()
	return ln.Addr().String(), nil
}

func pgbench(s *localserver.Postgres, at string, args ...string) (string, error) {
	bin, err := localserver.Bin("pgbench")
	if err != nil {
		return "", err
	}
	return tool(s, at, bin, append(args, "postgres")...)
}

func tool(s *localserver.Postgres, at, bin string, args ...string) (string, error) {
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return "", err
	}
	cmd := exec.Command(bin, append([]string{"-h", host, "-p", port, "-U", s.User}, args...)...)
	cmd.Env = append(os.Environ(), "PGPASSWORD="+s.Password)
	out, err := cmd.CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return string(out), nil
}

var inTPS = regexp.MustCompile(`tps = ([0-9.]+)`)

func tps(s *localserver.Postgres, at string, seconds int, args ...string) (float64, error) {
	out, err := pgbench(s, at, append([]string{"-n", "-T", strconv.Itoa(seconds)}, args...)...)
	if err != nil {
		return 0, err
	}
	m := inTPS.FindStringSubmatch(out)
	if m == nil {
		return 0, fmt.Errorf("pgbench says no rate: %s", out)
	}
	return strconv.ParseFloat(m[1], 64)
}

// rows reads the accounts, MB/s.
func rows(s *localserver.Postgres, at string) (float64, error) {
	bin, err := localserver.Bin("psql")
	if err != nil {
		return 0, err
	}
	began := time.Now()
	out, err := tool(s, at, bin, "-q", "-c", "COPY pgbench_accounts TO STDOUT", "postgres")
	return float64(len(out)) / 1e6 / time.Since(began).Seconds(), err
}

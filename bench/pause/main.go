// Command pause measures how long a cutover pauses writes, with rows of any number, beside what a
// rehearsal right before it predicted. It goes forth, back, forth again, so that each pause is a real
// cutover's: of the demo's data under its writers, or of pgbench at full speed. What hashing all rows once
// takes both servers stands beside, which a pause would cost at least that compared everything.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strconv"
	"time"

	"dustyferry/bench/rig"
	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/demo"
	"dustyferry/internal/localserver"
)

func main() {
	rows := flag.Int("rows", 3_000_000, "rows of the demo's large table")
	cuts := flag.Int("cuts", 7, "cutovers, each behind a rehearsal")
	writers := flag.Int("writers", 3, "writers of the demo's application")
	bench := flag.Int("pgbench", 0, "instead: pgbench at full speed, with this scale")
	clients := flag.Int("clients", 4, "of pgbench")
	depth := flag.String("depth", "vouched", "what is compared inside the pause: vouched, hashes, counts or none")
	flag.Parse()
	if err := run(context.Background(), *rows, *cuts, *writers, *bench, *clients, *depth); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// load is an application that writes on one side.
type load interface {
	moveTo(old bool) error
	stop()
}

type app struct {
	*demo.App
	old, new demo.House
}

func (a app) moveTo(old bool) error {
	a.MoveTo(map[bool]demo.House{true: a.old, false: a.new}[old])
	return nil
}
func (a app) stop() { a.Stop() }

// hammer is pgbench, which ends where a side is closed and begins anew on the other.
type hammer struct {
	old, new *localserver.Postgres
	clients  int
	cmd      *exec.Cmd
}

func pgbench(s *localserver.Postgres, args ...string) (*exec.Cmd, error) {
	bin, err := localserver.Bin("pgbench")
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(bin, append(args, "-h", s.Host, "-p", strconv.Itoa(s.Port), "-U", s.User, "postgres")...)
	cmd.Env = append(os.Environ(), "PGPASSWORD="+s.Password)
	return cmd, nil
}

func (h *hammer) moveTo(old bool) (err error) {
	h.stop()
	s := map[bool]*localserver.Postgres{true: h.old, false: h.new}[old]
	if h.cmd, err = pgbench(s, "-n", "-c", strconv.Itoa(h.clients), "-j", "1", "-T", "3600"); err != nil {
		return err
	}
	return h.cmd.Start()
}

func (h *hammer) stop() {
	if h.cmd != nil {
		_ = h.cmd.Process.Kill()
		_ = h.cmd.Wait()
		h.cmd = nil
	}
}

func run(ctx context.Context, rows, cuts, writers, scale, clients int, depth string) error {
	var old, fresh *localserver.Postgres
	for _, s := range []**localserver.Postgres{&old, &fresh} {
		var err error
		if *s, err = localserver.StartPostgres(ctx, localserver.Options{Settings: map[string]string{
			"max_wal_size": "8GB"}}); err != nil {
			return err
		}
		defer (*s).Stop()
	}
	var shop load
	pattern := "saltmarsh.*"
	if scale > 0 {
		pattern = "public.*"
		cmd, err := pgbench(old, "-i", "-q", "-s", strconv.Itoa(scale))
		if err != nil {
			return err
		}
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("pgbench: %w\n%s", err, out)
		}
		h := &hammer{old: old, new: fresh, clients: clients}
		defer h.stop()
		if err := h.moveTo(true); err != nil {
			return err
		}
		shop = h
	} else {
		if err := demo.Fill(ctx, old.URL("postgres"), rows); err != nil {
			return err
		}
		a := app{old: demo.Postgres(old.URL("postgres")), new: demo.Postgres(fresh.URL("postgres"))}
		a.App = demo.StartApp(ctx, a.old, writers, 5*time.Millisecond)
		defer a.stop()
		shop = a
	}
	hook := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var to struct {
			Target string `json:"target"`
		}
		if err := json.NewDecoder(r.Body).Decode(&to); err != nil || shop.moveTo(to.Target == "old") != nil {
			http.Error(w, "cannot go over", http.StatusInternalServerError)
		}
	}))
	defer hook.Close()
	f, end, err := rig.Start(ctx)
	if err != nil {
		return err
	}
	defer end()
	if err := f.Register(ctx, rig.Postgres("old", old), rig.Postgres("new", fresh)); err != nil {
		return err
	}
	back, guard, how := contract.SettingsReturnPathOpen, contract.SettingsGuardTargetRefuse,
		contract.SettingsCutoverDepth(depth)
	if err := f.Add(ctx, contract.NewCrossing{Name: "spring", Tables: &[]string{pattern},
		Settings: &contract.Settings{ReturnPath: &back, GuardTarget: &guard, CutoverDepth: &how,
			HandoverUrl: &hook.URL}}); err != nil {
		return err
	}
	if err := f.Go(ctx, "spring"); err != nil {
		return err
	}
	m := &measured{f: f}
	name := "spring"
	for n := range cuts {
		if err := m.cut(ctx, name); err != nil {
			return fmt.Errorf("cutover %d, of %s: %w", n+1, name, err)
		}
		c, err := f.Get(ctx, name)
		if err != nil {
			return err
		}
		if c.ReturnBy == nil {
			return fmt.Errorf("%s has no return path", name)
		}
		name = *c.ReturnBy
	}
	return m.tell(rows, scale, depth)
}

// measured is what cutovers and their rehearsals came to, in seconds.
type measured struct {
	f              rig.Ferry
	pauses, hashes []float64
	off            []float64 // how far a rehearsal was off, as a part of the pause
	rows           int64
}

// cut compares all once, rehearses, and cuts over.
func (m *measured) cut(ctx context.Context, name string) error {
	if err := m.f.Await(ctx, name, 100*time.Millisecond, rig.InStep); err != nil {
		return err
	}
	began := time.Now()
	r, err := client.Do[contract.Reconciliation](m.f.API.ReconcileWithResponse(ctx, name,
		contract.NewReconciliation{Depth: contract.NewReconciliationDepthHashes}))
	for ; err == nil && r.EndedAt == nil; time.Sleep(100 * time.Millisecond) {
		r, err = client.Do[contract.Reconciliation](m.f.API.GetReconciliationWithResponse(ctx, name, r.Id))
	}
	if err != nil {
		return err
	}
	if r.State != contract.ReconciliationStateClean {
		return fmt.Errorf("the comparison is %s: %s", r.State, r.Error)
	}
	m.rows = r.SourceRows
	m.hashes = append(m.hashes, time.Since(began).Seconds())
	predicted, err := m.once(ctx, name, true)
	if err != nil {
		return err
	}
	if err := m.f.Await(ctx, name, 100*time.Millisecond, rig.InStep); err != nil {
		return err
	}
	pause, err := m.once(ctx, name, false)
	if err != nil {
		return err
	}
	m.pauses, m.off = append(m.pauses, pause), append(m.off, math.Abs(predicted-pause)/pause)
	fmt.Printf("%-16s rehearsed %6.0f ms, paused %6.0f ms, %d rows, hashing all took %.2f s\n", name, 1e3*predicted,
		1e3*pause, m.rows, m.hashes[len(m.hashes)-1])
	return nil
}

// once carries one out. What was undone, as locks were not to be had, is tried again.
func (m *measured) once(ctx context.Context, name string, rehearsal bool) (float64, error) {
	for try := 0; ; try++ {
		k, err := client.Do[contract.Cutover](m.f.API.CutoverWithResponse(ctx, name, contract.NewCutover{
			Rehearsal: rehearsal, Confirm: &name}))
		for err == nil && k.EndedAt == nil {
			time.Sleep(50 * time.Millisecond)
			var list []contract.Cutover
			if list, err = client.Do[[]contract.Cutover](m.f.API.ListCutoversWithResponse(ctx, name)); err == nil {
				k = list[0]
			}
		}
		switch {
		case err == nil && k.State == "done":
			for _, s := range k.Steps {
				if s.Seconds != nil && *s.Seconds > 0.03 && s.Name != "check readiness" && s.Name != "prepare return path" {
					fmt.Fprintf(os.Stderr, "  %s %.0f ms", s.Name, 1e3**s.Seconds)
				}
			}
			fmt.Fprintln(os.Stderr)
			return *k.WritePauseSeconds, nil
		case try == 5 && err == nil:
			return 0, fmt.Errorf("it was undone: %s", k.Error)
		case try == 5:
			return 0, err
		}
		fmt.Fprintln(os.Stderr, "again:", k.Error, err)
		time.Sleep(2 * time.Second)
	}
}

func (m *measured) tell(rows, scale int, depth string) error {
	within := 0
	for _, off := range m.off {
		if off <= 0.25 {
			within++
		}
	}
	var out bytes.Buffer
	if err := json.NewEncoder(&out).Encode(map[string]any{"what": map[bool]string{true: "pgbench",
		false: "demo"}[scale > 0],
		"large_table_rows": rows, "scale": scale, "rows": m.rows, "depth": depth, "pause_median_s": rig.Median(m.pauses),
		"pauses_s": m.pauses, "hash_all_median_s": rig.Median(m.hashes),
		"ratio_to_hashing": rig.Median(m.pauses) / rig.Median(m.hashes), "rehearsal_off_median": rig.Median(m.off),
		"rehearsals_within_a_quarter": within, "cutovers": len(m.pauses)}); err != nil {
		return err
	}
	fmt.Print(out.String())
	return nil
}

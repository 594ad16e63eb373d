package test

import (
	"fmt"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestPaceOfALoad: nothing begins in quiet hours, a limit of rows holds, and the load
// finds its number of lanes within bounds, saying why.
func TestPaceOfALoad(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.readings (id integer PRIMARY KEY, grams integer, note text);
INSERT INTO public.readings SELECT g, g, repeat('clover ', 12) FROM generate_series(1, 60000) g; ANALYZE`)
	f := start(t)
	f.cross(p, contract.Settings{Lanes: ptr(4), LeastLanes: ptr(1), ChunkBytes: ptr(int64(256 << 10)),
		QuietHours: &[]string{"00:00-24:00"}}, "public.*")
	f.startCrossing()
	f.await(time.Minute, "loading", func(c contract.Crossing) bool { return c.Phase == contract.PhaseLoading })
	time.Sleep(3 * time.Second)
	if c := f.show(); c.Progress.ChunksLanded != 0 {
		t.Errorf("%d chunks landed in quiet hours that let nothing begin", c.Progress.ChunksLanded)
	}
	// Out of them, by rows: 60,000 rows at 10,000 a second, the first second for nothing.
	began := time.Now()
	if a := f.cli("crossing", "set", "spring", "--quiet-hours", "", "--row-limit", "10000"); a.code != 0 {
		t.Fatal(a.err)
	}
	f.awaitPhase(contract.PhaseInStep)
	if took := time.Since(began); took < 4*time.Second {
		t.Errorf("60,000 rows at 10,000 rows/s landed in %s", took)
	}
	sameEverywhere(t, p, "public")
	list, err := client.Do[[]contract.JournalEntry](f.API.ListJournalWithResponse(t.Context(),
		&contract.ListJournalParams{}))
	if err != nil {
		t.Fatal(err)
	}
	said := false
	for _, e := range list {
		said = said || e.Act == "lanes" && strings.HasPrefix(e.Message, "1 lane of 4: ")
	}
	if !said {
		t.Error("the journal says nothing of the lanes")
	}
}

// TestOnlyLabelledWorkersCarry: chunks and changes of a crossing that asks for a label
// wait for a worker that has it.
func TestOnlyLabelledWorkersCarry(t *testing.T) {
	p := newPair(t)
	exec1(t, p.sourceURL(), `CREATE TABLE public.readings (id integer PRIMARY KEY, grams integer);
INSERT INTO public.readings SELECT g, g FROM generate_series(1, 5000) g; ANALYZE`)
	f := start(t)
	f.cross(p, contract.Settings{WorkerLabel: ptr("near-source")}, "public.*")
	if a := f.cli("survey", "spring"); !strings.Contains(a.out, "near-source") {
		t.Errorf("the survey does not say that no worker has the label:\n%s", a.out)
	}
	f.startCrossing()
	f.await(time.Minute, "loading", func(c contract.Crossing) bool { return c.Phase == contract.PhaseLoading })
	time.Sleep(2 * time.Second)
	if c := f.show(); c.Progress.ChunksLanded != 0 || c.Progress.Capture == "live" {
		t.Errorf("carried without the label: %+v", c.Progress)
	}
	worker := &process{t: t, args: []string{"worker", "--control-url", f.set.ControlURL, "--data-dir", f.set.DataDir,
		"--label", "near-source,spare"}}
	worker.start()
	t.Cleanup(worker.kill)
	worker.until("Ready")
	f.awaitPhase(contract.PhaseInStep)
	sameEverywhere(t, p, "public")
	if a := f.cli("workers"); !strings.Contains(a.out, "near-source, spare") {
		t.Errorf("%s", a.out)
	}
}

// TestTwoVersionsSideBySide: a program older than the records does not start, and one
// that runs ends by itself when a newer one has changed them, giving back what it held.
func TestTwoVersionsSideBySide(t *testing.T) {
	f := startFleet(t, 1)
	control := strings.Split(f.all[0].args[4], "?")[0]
	exec1(t, control, "INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, true)")
	ended := make(chan error, 1)
	go func() { ended <- f.all[1].cmd.Wait() }()
	select {
	case err := <-ended:
		if err == nil {
			t.Error("the older program ended as if all were well")
		}
	case <-time.After(20 * time.Second):
		t.Fatal("the older program runs on")
	}
	old := exec.Command(binary(t), f.all[1].args...)
	old.Env = append(os.Environ(), "DUSTYFERRY_ALLOW_ROOT=true")
	out, err := old.CombinedOutput()
	if err == nil || !strings.Contains(string(out), "version 9999 by a newer program") {
		t.Errorf("started anew: %v\n%s", err, out)
	}
}

// TestCrossingsTakeTurns: a process with one lane carries a long load; a short one that
// comes later does not wait for its end.
func TestCrossingsTakeTurns(t *testing.T) {
	f := start(t)
	f.svc.Stop()
	f.set.Lanes = 1
	f.again()
	f.signIn()
	for i, rows := range []int{120_000, 50} {
		p := newPair(t)
		exec1(t, p.sourceURL(), fmt.Sprintf(`CREATE TABLE public.readings (id integer PRIMARY KEY, note text);
INSERT INTO public.readings SELECT g, repeat('clover ', 20) FROM generate_series(1, %d) g; ANALYZE`, rows))
		n := itoa(i)
		f.register("old"+n, servers.source, p.source)
		f.register("new"+n, servers.target, p.target)
		args := []string{"crossing", "create", "load" + n, "--follow-changes=false", "--source", "old" + n, "--target",
			"new" + n, "--table", "public.*", "--chunk-size", "256KB"}
		if i == 0 {
			args = append(args, "--speed-limit", "300KB")
		}
		for _, a := range []answer{f.cli(args...), f.cli("crossing", "start", "load"+n)} {
			if a.code != 0 {
				t.Fatal(a.err)
			}
		}
		time.Sleep(2 * time.Second)
	}
	state := func(name string) contract.Crossing {
		t.Helper()
		c, err := client.Do[contract.Crossing](f.API.GetCrossingWithResponse(t.Context(), name))
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	for end := time.Now().Add(patience * 40 * time.Second); state("load1").Progress.ChunksLanded == 0; time.Sleep(
		200 * time.Millisecond) {
		if time.Now().After(end) {
			f.story()
			t.Fatal("the short load waits for the end of the long one")
		}
	}
	if c := state("load0"); c.Phase != contract.PhaseLoading {
		t.Errorf("the long load is %s already: the test shows nothing", c.Phase)
	}
	if a := f.cli("crossing", "set", "load0", "--speed-limit", "0"); a.code != 0 {
		t.Fatal(a.err)
	}
	for end := time.Now().Add(patience * 40 * time.Second); state("load0").Phase != contract.PhaseInStep; time.Sleep(
		200 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("the long load does not come to its end")
		}
	}
}

package test

import (
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/contract"
)

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

package test

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"testing"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

// followFor is how long pgbench and sysbench go on at full speed once a crossing is in step.
var followFor = flag.Duration("follow", 0, "how long pgbench and sysbench are followed before the cutover; 0: as "+
	"long as a test should")

// TestPgbenchThroughTheWholeJourney runs Debian's own pgbench, a workload nobody
// here wrote, at full speed against the source from the load to the cutover.
func TestPgbenchThroughTheWholeJourney(t *testing.T) {
	pgbench, err := localserver.Bin("pgbench")
	if err != nil {
		t.Fatal(err)
	}
	p := newPair(t)
	run := func(args ...string) *exec.Cmd {
		cmd := exec.CommandContext(t.Context(), pgbench, append(args, "-h", servers.source.Host, "-p",
			fmt.Sprint(servers.source.Port), "-U", "postgres", p.source)...)
		cmd.Env = append(os.Environ(), "PGPASSWORD="+servers.source.Password)
		return cmd
	}
	if out, err := run("-i", "-q", "-s", "6").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	f := start(t)
	load := run("-n", "-c", "4", "-j", "1", "-T", "600", "-P", "5")
	var out bytes.Buffer
	load.Stdout, load.Stderr = &out, &out
	if err := load.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- load.Wait() }()
	defer func() { _ = load.Process.Kill() }()
	time.Sleep(time.Second)
	f.cross(p, contract.Settings{ChunkBytes: ptr(int64(16 << 20))}, "public.*")
	f.startCrossing()
	c := f.awaitPhase(contract.PhaseInStep)
	t.Logf("in step after %d rows and %d changes, lag %.2f s", c.Progress.Rows, c.Progress.Changes, c.Progress.LagSeconds)
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		f.story()
		t.Errorf("reconciliation with pgbench running: %+v", r)
	}
	longest := f.goOn(*followFor)
	f.awaitPhase(contract.PhaseInStep)
	k := f.cutOver(false, contract.Settings{CutoverDepth: ptr(contract.SettingsCutoverDepth("counts"))})
	if k.State != "done" {
		f.story()
		t.Fatalf("cutover: %+v", k)
	}
	select {
	case <-ended: // every client met the closed source
	case <-time.After(20 * time.Second):
		t.Error("pgbench went on writing after the cutover")
	}
	n := one[int64](t, p.sourceURL(), `SELECT count(*) FROM pgbench_history`)
	t.Logf("pgbench committed %d transactions; the longest lag meanwhile was %.2f s, the write pause %.3f s", n, longest,
		*k.WritePauseSeconds)
	if n < 1000 {
		t.Errorf("pgbench hardly ran:\n%s", out.String())
	}
	sameEverywhere(t, p, "public")
}

// goOn lets time pass and returns the longest lag that the service told of meanwhile, seconds.
func (f *ferry) goOn(wait time.Duration) (longest float64) {
	f.t.Helper()
	for end := time.Now().Add(wait); time.Now().Before(end); time.Sleep(500 * time.Millisecond) {
		longest = max(longest, f.show().Progress.LagSeconds)
	}
	return longest
}

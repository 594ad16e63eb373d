package test

import (
	"fmt"
	"os/exec"
	"strconv"
	"testing"
	"time"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

// TestSysbenchThroughACrossing runs sysbench's oltp_read_write against the source
// from before the start to the cutover, which ends it, and compares every row in
// plain SQL.
func TestSysbenchThroughACrossing(t *testing.T) {
	const tables, rows = 3, 15_000
	p := newPair(t)
	name, db := newMaria(t)
	maria(t, db, "CREATE USER 'bench_"+name+"'@'127.0.0.1'", "GRANT ALL ON "+name+".* TO 'bench_"+name+"'@'127.0.0.1'")
	m := mariaDB(t)
	bench := func(act string, more ...string) *exec.Cmd {
		return exec.CommandContext(t.Context(), "sysbench", append([]string{"oltp_read_write", "--mysql-host=127.0.0.1",
			"--mysql-port=" + strconv.Itoa(m.Port), "--mysql-user=bench_" + name, "--mysql-db=" + name,
			"--tables=" + strconv.Itoa(tables), "--table-size=" + strconv.Itoa(rows), "--threads=3", "--db-ps-mode=disable",
			act}, more...)...)
	}
	if out, err := bench("prepare").CombinedOutput(); err != nil {
		t.Fatalf("sysbench prepare: %v\n%s", err, out)
	}
	pace := "--rate=150"
	if *followFor > 0 {
		pace = "--rate=0" // as fast as it can
	}
	run := bench("run", "--time=1200", pace, "--report-interval=0")
	if err := run.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 1)
	go func() { ended <- run.Wait() }()
	f := start(t)
	f.registerMaria("old", name, db, sourceRights(name)...)
	f.register("new", servers.target, p.target)
	method := contract.ReadOnly
	if _, err := client.Do[contract.Crossing](f.API.AddCrossingWithResponse(t.Context(),
		contract.NewCrossing{Name: "spring", Source: "old", Target: "new",
			Settings: &contract.Settings{StopMethod: &method, Lanes: ptr(2), ChunkBytes: ptr(int64(256 << 10)),
				SpeedLimit: ptr(int64(2_000_000))}})); err != nil {
		t.Fatal(err)
	}
	f.startCrossing()
	f.awaitPhase(contract.PhaseInStep)
	longest := f.goOn(max(*followFor, 3*time.Second))
	if r := f.reconcile(contract.NewReconciliationDepthHashes); r.State != "clean" {
		f.findings(r.Id)
		t.Errorf("with sysbench running: %+v", r)
	}
	select {
	case err := <-ended:
		t.Fatalf("sysbench ended before the cutover: %v", err)
	default:
	}
	f.awaitPhase(contract.PhaseInStep)
	k := f.cutOver(false, contract.Settings{})
	if k.State != "done" {
		f.story()
		t.Fatalf("cutover: %+v", k)
	}
	select {
	case <-ended: // its writes were refused
	case <-time.After(20 * time.Second):
		t.Error("sysbench still writes to the source that has moved")
	}
	maria(t, db, "SET GLOBAL read_only = OFF")
	changes := f.show().Progress.Changes
	if changes < 1000 {
		t.Errorf("only %d changes were followed", changes)
	}
	t.Logf("%d changes of sysbench were followed; the longest lag meanwhile was %.2f s, the write pause %.3f s", changes,
		longest, *k.WritePauseSeconds)
	target := connect(t, p.targetURL())
	for i := range tables {
		q := "SELECT concat_ws('|', id, k, c, pad) FROM %ssbtest" + strconv.Itoa(i+1)
		list := collect(t, target, fmt.Sprintf(q, name+"."))
		source := texts(t, db, fmt.Sprintf(q, ""))
		if len(source) < rows-100 {
			t.Errorf("the source's table %d has %d rows", i+1, len(source))
		}
		sameTexts(t, fmt.Sprint("sbtest", i+1), source, list)
	}
}

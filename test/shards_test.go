package test

import (
	_ "embed"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// The tests spend most of their time waiting for servers, so they run in several processes
// side by side, each with servers of its own: nothing that a test does to its servers is felt
// by another that runs meanwhile.

// shards is how many processes there are: most of a test is waiting, so that four keep two cores busy.
const shards = 4

// seconds is about how long tests take, so that all processes end at about the same time.
// One that is not in the list counts as ten.
//
//go:embed seconds.txt
var seconds string

// shard names the process by the environment.
const shard = "DUSTYFERRY_TEST_SHARD"

// alone reports whether this process runs tests itself: it is one of several, or was asked
// for certain tests.
func alone() bool {
	flag.Parse()
	given := func(name string) bool { f := flag.Lookup(name); return f != nil && f.Value.String() != f.DefValue }
	return os.Getenv(shard) != "" || given("test.run") || given("test.list") || given("test.bench") || given("test.fuzz")
}

// inShards runs all tests in processes side by side and returns the exit code.
func inShards() int {
	self, err := os.Executable()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	list, err := exec.Command(self, "-test.list", ".").Output()
	if err != nil {
		fmt.Fprintln(os.Stderr, "listing the tests:", err)
		return 1
	}
	dir, err := os.MkdirTemp("", "shards-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer func() { _ = os.RemoveAll(dir) }()
	var all sync.WaitGroup
	failed := make([]bool, shards)
	for i, names := range deal(strings.Fields(string(list)), shards) {
		all.Go(func() {
			began := time.Now()
			path := filepath.Join(dir, fmt.Sprint(i))
			out, err := os.Create(path)
			if err != nil {
				failed[i] = true
				return
			}
			args := []string{"-test.run", "^(" + strings.Join(names, "|") + ")$", "-test.v"}
			for _, f := range []string{"test.timeout", "test.count", "test.short"} {
				if v := flag.Lookup(f); v != nil {
					args = append(args, "-"+f+"="+v.Value.String())
				}
			}
			cmd := exec.Command(self, args...)
			cmd.Env = append(os.Environ(), shard+"="+fmt.Sprint(i+1))
			cmd.Stdout, cmd.Stderr = out, out
			failed[i] = cmd.Run() != nil
			_ = out.Close()
			fmt.Printf("process %d of %d: %d tests in %s, %s\n", i+1, shards, len(names), time.Since(began).Round(time.Second),
				map[bool]string{false: "all pass", true: "FAILED"}[failed[i]])
		})
	}
	all.Wait()
	code := 0
	for i := range failed {
		if failed[i] {
			code = 1
			show(filepath.Join(dir, fmt.Sprint(i)))
		}
	}
	return code
}

// show prints what a process said, but for the service's own log.
func show(path string) {
	b, err := os.ReadFile(path)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return
	}
	for line := range strings.Lines(string(b)) {
		if !strings.HasPrefix(line, "time=") {
			_, _ = io.WriteString(os.Stdout, line)
		}
	}
}

// deal gives each test to the process that has the least to do so far, the longest first.
func deal(names []string, n int) [][]string {
	takes := map[string]int{}
	for line := range strings.Lines(seconds) {
		var s int
		var name string
		if _, err := fmt.Sscan(line, &s, &name); err == nil {
			takes[name] = s
		}
	}
	of := func(name string) int {
		if s, ok := takes[name]; ok {
			return s
		}
		return 10
	}
	names = slices.Clone(names)
	slices.SortStableFunc(names, func(a, b string) int { return of(b) - of(a) })
	out, load := make([][]string, n), make([]int, n)
	for _, name := range names {
		if !strings.HasPrefix(name, "Test") {
			continue
		}
		least := slices.Index(load, slices.Min(load))
		out[least] = append(out[least], name)
		load[least] += of(name)
	}
	return out
}

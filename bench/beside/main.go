// Command beside runs one of the measurements of bench/ for this tree and for the tree of an
// earlier commit, by turns on one machine, and prints how the figures of the two compare. The
// last line is one JSON object: by figure, the median of both and the median ratio of the
// rounds. Each round runs both, and who goes first changes from round to round.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"

	"dustyferry/bench/rig"
)

// tree is one of the two builds.
type tree struct {
	name, dir, program string
	figures            []map[string]float64 // by round
}

func main() {
	commit := flag.String("commit", "HEAD", "the commit to compare with")
	name := flag.String("bench", "capture", "the measurement: a folder of bench/")
	rounds := flag.Int("rounds", 3, "how often each is run")
	flag.Usage = func() {
		fmt.Fprintln(flag.CommandLine.Output(), "go run ./bench/beside -commit COMMIT -bench NAME [flags] [-- flags of the "+
			"measurement]")
		flag.PrintDefaults()
	}
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := compare(ctx, *commit, *name, *rounds, flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func compare(ctx context.Context, commit, bench string, rounds int, args []string) error {
	here, err := os.Getwd()
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "dusty-ferry-beside-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	old := filepath.Join(dir, "tree")
	if err := run(ctx, here, "git", "worktree", "add", "--quiet", "--detach", old, commit); err != nil {
		return err
	}
	defer func() {
		_ = run(context.WithoutCancel(ctx), here, "git", "worktree", "remove", "--force", old)
	}()
	// The console is embedded, and its build is no part of what is measured.
	dist := filepath.Join("internal", "console", "dist")
	if err := os.RemoveAll(filepath.Join(old, dist)); err != nil {
		return err
	}
	if err := os.CopyFS(filepath.Join(old, dist), os.DirFS(filepath.Join(here, dist))); err != nil {
		return fmt.Errorf("%w; build the console first: make build", err)
	}
	trees := []*tree{{name: "before", dir: old, program: filepath.Join(dir, "before")}, {name: "now", dir: here,
		program: filepath.Join(dir, "now")}}
	for _, t := range trees {
		if err := run(ctx, t.dir, "go", "build", "-o", "bin/dustyferry", "./cmd/dustyferry"); err != nil {
			return err
		}
		if err := run(ctx, t.dir, "go", "build", "-o", t.program, "./bench/"+bench); err != nil {
			return err
		}
	}
	for n := range rounds {
		for _, t := range trees {
			if err := t.measure(ctx, n, args); err != nil {
				return fmt.Errorf("%s: %w", t.name, err)
			}
		}
		slices.Reverse(trees)
	}
	if trees[0].name != "before" {
		slices.Reverse(trees)
	}
	return tell(bench, rounds, trees[0], trees[1])
}

// measure runs the measurement once, and keeps the figures of its last line.
func (t *tree) measure(ctx context.Context, round int, args []string) error {
	c := exec.CommandContext(ctx, t.program, args...)
	c.Dir, c.Stderr = t.dir, os.Stderr
	out, err := c.Output()
	if err != nil {
		return err
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	last := lines[len(lines)-1]
	fmt.Printf("round %d %-6s %s\n", round+1, t.name, last)
	var said map[string]any
	if err := json.Unmarshal([]byte(last), &said); err != nil {
		return fmt.Errorf("the last line is no JSON object: %w", err)
	}
	into := map[string]float64{}
	flatten("", said, into)
	t.figures = append(t.figures, into)
	return nil
}

// flatten collects the numbers of a JSON object by their path.
func flatten(path string, v any, into map[string]float64) {
	switch v := v.(type) {
	case float64:
		into[path] = v
	case map[string]any:
		for k, inner := range v {
			flatten(strings.TrimPrefix(path+"."+k, "."), inner, into)
		}
	}
}

// tell prints the medians of both, and the median of the rounds' ratios.
func tell(bench string, rounds int, before, now *tree) error {
	type figure struct {
		Before float64 `json:"before"`
		Now    float64 `json:"now"`
		Ratio  float64 `json:"ratio"`
	}
	all := map[string]figure{}
	for _, k := range slices.Sorted(maps.Keys(now.figures[0])) {
		var b, n, r []float64
		for i := range now.figures {
			was, ok := before.figures[i][k]
			if !ok || was == 0 {
				continue
			}
			b, n, r = append(b, was), append(n, now.figures[i][k]), append(r, now.figures[i][k]/was)
		}
		if len(r) == 0 {
			continue
		}
		all[k] = figure{rig.Median(b), rig.Median(n), rig.Median(r)}
		fmt.Printf("%-28s before %14.3f, now %14.3f, ratio %.3f\n", k, all[k].Before, all[k].Now, all[k].Ratio)
	}
	return json.NewEncoder(os.Stdout).Encode(map[string]any{"bench": "beside " + bench, "rounds": rounds, "figures": all})
}

func run(ctx context.Context, dir, name string, args ...string) error {
	c := exec.CommandContext(ctx, name, args...)
	c.Dir = dir
	var out bytes.Buffer
	c.Stdout, c.Stderr = &out, &out
	if err := c.Run(); err != nil {
		return fmt.Errorf("%s %s: %w\n%s", name, strings.Join(args, " "), err, out.String())
	}
	return nil
}

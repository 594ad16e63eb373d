// Package hunt looks for rows that get lost in silence. From a seed it makes a script:
// settings, schemas, what an application does and what befalls the servers meanwhile. The
// script is carried out on real servers, the product is driven through its HTTP interface
// and its process alone, and what came of it is judged by plain SQL that knows nothing of
// ours: equal, or told with a reason that names the right table, or a fault.
package hunt

import (
	"bufio"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
)

// Step is one thing that happens.
type Step struct {
	// Do is what kind of thing: see the constants.
	Do string
	// On is where: of SQL "source" or "target" and the session, such as "source a"; of a
	// server its name.
	On string
	// Text is the statement, or what the product or the server is to do.
	Text string
	// May are tables that the product may tell of, once this has happened; "*" stands for
	// any. A word about others, or without this, is a word for nothing.
	May []string
}

// Kinds of step.
const (
	SQL    = "sql"    // Text on the session On, whose errors are the application's own affair
	Set    = "set"    // Text on On, which must work: what the world is before the crossing
	Loop   = "loop"   // Text again and again on the session On, until Quiet
	Quiet  = "quiet"  // ends loops and open transactions
	Ferry  = "ferry"  // what the operator does: start, pause, resume, restart T, …
	Server = "server" // what befalls the server On: crash, cut
)

// Script is what a seed stands for.
type Script struct {
	Seed  uint64
	Pair  string // of engines, as a world's
	Steps []Step
	// Source and Target are how the two databases are made, after CREATE DATABASE x.
	Source, Target string
	// Settings of the crossing, by the names of the interface.
	Settings map[string]any
	// Tables that the crossing carries, schema.table; empty: all.
	Tables []string
	// Kind of the crossing; empty: load and capture.
	Kind string
	// Where is a condition of a table, by its name.
	Where map[string]string
}

// May lists the tables that may be told of, all steps up to n taken together.
func (s *Script) May(n int) []string {
	var out []string
	for i := 0; i < n && i < len(s.Steps); i++ {
		out = append(out, s.Steps[i].May...)
	}
	return out
}

// Without returns the script without the steps from i up to j.
func (s *Script) Without(i, j int) *Script {
	t := *s
	t.Steps = append(slices.Clone(s.Steps[:i]), s.Steps[j:]...)
	return &t
}

// Write prints the script in the form that [Read] takes.
func (s *Script) Write(w io.Writer) {
	fmt.Fprintf(w, "seed %d\npair %s\nsource %s\ntarget %s\n", s.Seed, s.Pair, s.Source, s.Target)
	if s.Kind != "" {
		fmt.Fprintf(w, "kind %s\n", s.Kind)
	}
	for _, k := range sortedKeys(s.Settings) {
		fmt.Fprintf(w, "setting %s %v\n", k, s.Settings[k])
	}
	for _, t := range s.Tables {
		fmt.Fprintf(w, "table %s\n", t)
	}
	for _, k := range sortedKeys(s.Where) {
		fmt.Fprintf(w, "where %s %s\n", k, s.Where[k])
	}
	for _, st := range s.Steps {
		fmt.Fprintf(w, "\n%s | %s", st.Do, st.On)
		if len(st.May) > 0 {
			fmt.Fprintf(w, " | may tell of %s", strings.Join(st.May, " "))
		}
		fmt.Fprintf(w, "\n%s\n", strings.TrimSpace(st.Text))
	}
}

// Read takes a script that [Script.Write] printed.
func Read(r io.Reader) (*Script, error) {
	s := &Script{Settings: map[string]any{}, Where: map[string]string{}}
	in := bufio.NewScanner(r)
	in.Buffer(nil, 64<<20)
	var now *Step
	for in.Scan() {
		line := in.Text()
		if do, rest, ok := strings.Cut(line, " | "); ok && slices.Contains([]string{SQL, Set, Loop, Quiet, Ferry, Server},
			do) {
			on, may, _ := strings.Cut(rest, " | may tell of ")
			s.Steps = append(s.Steps, Step{Do: do, On: on, May: strings.Fields(may)})
			now = &s.Steps[len(s.Steps)-1]
			continue
		}
		if now != nil {
			now.Text += line + "\n"
			continue
		}
		word, rest, _ := strings.Cut(line, " ")
		switch word {
		case "seed":
			if _, err := fmt.Sscan(rest, &s.Seed); err != nil {
				return nil, err
			}
		case "kind":
			s.Kind = rest
		case "pair":
			s.Pair = rest
		case "source":
			s.Source = rest
		case "target":
			s.Target = rest
		case "setting":
			k, v, _ := strings.Cut(rest, " ")
			s.Settings[k] = setting(v)
		case "table":
			s.Tables = append(s.Tables, rest)
		case "where":
			k, v, _ := strings.Cut(rest, " ")
			s.Where[k] = v
		case "":
		default:
			return nil, fmt.Errorf("not a line of a script: %s", line)
		}
	}
	for i := range s.Steps {
		s.Steps[i].Text = strings.TrimSpace(s.Steps[i].Text)
	}
	return s, in.Err()
}

// setting reads a number where there is one.
func setting(v string) any {
	if n, err := strconv.ParseInt(v, 10, 64); err == nil {
		return n
	}
	var n float64
	if _, err := fmt.Sscanf(v, "%g", &n); err == nil && fmt.Sprint(n) == v {
		return n
	}
	return v
}

func sortedKeys[V any](m map[string]V) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// has reports whether a step of the script says so.
func (s *Script) has(text string) bool {
	return slices.ContainsFunc(s.Steps, func(st Step) bool { return strings.Contains(st.Text, text) })
}

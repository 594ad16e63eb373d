package follow_test

import (
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/core/follow"
	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
)

// TestStories reads testdata/stories.txt: protocols of what a machine is given and asks for.
func TestStories(t *testing.T) {
	text, err := os.ReadFile("testdata/stories.txt")
	if err != nil {
		t.Fatal(err)
	}
	told := 0
	for story := range strings.SplitSeq(strings.TrimSpace(string(text)), "\n\n") {
		name, lines, _ := strings.Cut(story, "\n")
		if strings.HasPrefix(name, "#") {
			continue
		}
		told++
		t.Run(name, func(t *testing.T) { tell(t, strings.Split(lines, "\n")) })
	}
	if told < 20 {
		t.Fatalf("only %d stories were told", told)
	}
}

// teller tells one story.
type teller struct {
	t    *testing.T
	m    *follow.Machine
	tx   domain.Tx
	now  time.Time
	line string
}

func tell(t *testing.T, lines []string) {
	tables := plans("CASCADE")
	if slices.ContainsFunc(lines, func(l string) bool { return strings.Contains(l, " pots") }) {
		byDisk := *tables[3].Plan
		byDisk.ReadOrder = domain.ByDisk
		tables = append(tables, follow.Table{ID: pots, Plan: &byDisk})
	}
	s := &teller{t: t, m: follow.New(tables, follow.Options{Copies: true, BatchChanges: 4}),
		now: time.Unix(100, 0)}
	defer s.m.Close()
	s.step(follow.Input{}) // where the source's log stands: at its beginning
	if !slices.ContainsFunc(lines, func(l string) bool { return strings.Contains(l, ", loading") }) {
		s.loaded()
	}
	for _, s.line = range lines {
		word, rest, _ := strings.Cut(s.line, " ")
		switch word {
		case "log":
			s.more()
			s.m.Take(s.event(strings.Fields(rest)))
		case "quiet":
			s.more()
			s.step(follow.Input{})
		case "aim":
			f := append(strings.Fields(rest), "stop", "0")
			s.m.Aim(domain.PositionAt(s.number(f[0])), follow.Stop{At: domain.PositionAt(s.number(f[2]))})
		case "reached":
			if b, is := s.m.Ready().(follow.Between); is && b.Reached == follow.NotYet {
				s.step(follow.Input{})
			}
			b, is := s.m.Ready().(follow.Between)
			if want := map[string]follow.Reached{"goal": follow.Goal, "stop": follow.Stopped}[rest]; !is || b.Reached != want {
				t.Fatalf("%q: it is at %#v", s.line, s.m.Ready())
			}
		case "asks":
			want, answer, _ := strings.Cut(rest, " => ")
			if got := s.words(s.m.Ready()); got != want {
				t.Fatalf("the machine asks %q, the story says %q", got, want)
			}
			s.answer(s.m.Ready(), answer)
		default:
			t.Fatalf("the story says %q", s.line)
		}
	}
	if _, more := s.m.Ready().(*follow.More); !more {
		if _, between := s.m.Ready().(follow.Between); !between && !s.over(lines) {
			t.Errorf("the story ends, and the machine asks %q", s.words(s.m.Ready()))
		}
	}
}

// over reports whether the story ends with what ends a machine.
func (s *teller) over(lines []string) bool {
	last := lines[len(lines)-1]
	return strings.HasPrefix(last, "asks amend") || strings.HasPrefix(last, "asks hold") ||
		strings.HasPrefix(last, "asks fail")
}

// loaded brings the machine to where it knows that all rows are loaded.
func (s *teller) loaded() {
	s.more()
	s.step(follow.Input{})
	if _, is := s.m.Ready().(follow.AskLoad); !is {
		s.t.Fatalf("a quiet machine does not look at the load: %#v", s.m.Ready())
	}
	s.step(follow.Input{Load: lifecycle.View{Chunks: 3, Landed: 3, Phase: domain.PhaseCatchingUp}})
}

func (s *teller) step(in follow.Input) {
	in.Now = s.now
	s.m.Step(in)
}

// more lets the machine begin a batch, and requires that it waits for an event.
func (s *teller) more() {
	if _, between := s.m.Ready().(follow.Between); between {
		s.step(follow.Input{})
	}
	if _, more := s.m.Ready().(*follow.More); !more {
		s.t.Fatalf("%q, but the machine asks %q", s.line, s.words(s.m.Ready()))
	}
}

func (s *teller) number(text string) uint64 {
	n, err := strconv.ParseUint(text, 10, 64)
	if err != nil {
		s.t.Fatalf("%q: %v", s.line, err)
	}
	return n
}

var named = map[string]int64{"hives": hives, "frames": frames, "cells": cells, "lots": lots, "visits": visits,
	"pots": pots}

// pots are what lots are, but read in the order of the disk.
const pots = int64(6)

func nameOf(id int64) string {
	for name, of := range named {
		if of == id {
			return name
		}
	}
	return fmt.Sprint(id)
}

func (s *teller) row(text string) domain.Row {
	if text == "gone" {
		return nil
	}
	var r domain.Row
	for v := range strings.SplitSeq(text, "|") {
		switch v {
		case "~":
			r = append(r, domain.Value{Kind: domain.Unchanged})
		case "-":
			r = append(r, domain.Value{})
		default:
			r = append(r, domain.Value{Kind: domain.Present, Data: []byte(v)})
		}
	}
	return r
}

func rowText(r domain.Row) string {
	var out []string
	for _, v := range r {
		out = append(out, map[domain.ValueKind]string{domain.Null: "-", domain.Present: string(v.Data),
			domain.Unchanged: "~"}[v.Kind])
	}
	return strings.Join(out, "|")
}

// event reads what the log brings: a verb, and what it is about.
func (s *teller) event(f []string) *domain.Event {
	e := &domain.Event{Kind: domain.EventChange, Size: 10}
	switch f[0] {
	case "begin":
		at := s.number(f[3])
		s.tx = domain.Tx{ID: s.number(f[1]), Commit: domain.PositionAt(at), End: domain.PositionAt(at + 5), At: int64(at)}
		e.Kind = domain.EventBegin
	case "commit":
		e.Kind = domain.EventCommit
	case "void":
		e.Kind = domain.EventVoid
	case "progress":
		return &domain.Event{Kind: domain.EventProgress, Position: domain.PositionAt(s.number(f[1]))}
	default:
		e.Change = domain.Change{Table: named[f[1]]}
	}
	e.Tx = s.tx
	switch c := &e.Change; f[0] {
	case "insert":
		c.Kind, c.New = domain.Insert, s.row(f[2])
	case "update":
		c.Kind, c.New = domain.Update, s.row(f[2])
	case "unsure":
		c.Kind, c.New, c.Unsure = domain.Update, s.row(f[2]), true
	case "delete":
		c.Kind, c.Old = domain.Delete, s.row(f[2])
	case "rekey":
		c.Kind, c.Old, c.New = domain.Update, s.row(f[2]+"|-|-"), s.row(f[4])
	case "truncate":
		c.Kind, c.Group = domain.Truncate, int(s.number(f[3]))
	case "redefine":
		c.Kind = domain.Redefine
	case "unread":
		c.Kind = domain.Unread
	}
	return e
}

// words are how a story says what a machine asks.
func (s *teller) words(ask follow.Ask) string {
	list := func(head string, ids []int64) string {
		for _, id := range ids {
			head += " " + nameOf(id)
		}
		return head
	}
	switch a := ask.(type) {
	case follow.Between:
		return "between two transactions"
	case *follow.More:
		return "more"
	case follow.AskLoad:
		return "load"
	case follow.AskSnapshot:
		return "snapshot"
	case follow.Pause:
		if s.m.Why() == "" {
			return "pause"
		}
		return "pause, as " + s.m.Why()
	case follow.AskChunks:
		return strings.TrimRight(fmt.Sprintf("chunks %s %s", nameOf(a.Table), strings.Trim(fmt.Sprint(a.Only), "[]")), " ")
	case follow.AskLocate:
		return fmt.Sprintf("locate %s %v", nameOf(a.Table), a.Keys)
	case follow.AskRow:
		return fmt.Sprintf("row %s %s", nameOf(a.Table), a.Key[0])
	case follow.AskReferring:
		return fmt.Sprintf("referring %s %s=%s", nameOf(a.Table), plans("")[a.Table-1].Plan.Columns[a.Cols[0]].Name,
			a.Values[0].Data)
	case follow.AskRemembered:
		return "remembered " + nameOf(a.Table)
	case follow.Remember:
		text := "remember " + nameOf(a.Table)
		for _, k := range a.Keep {
			text += " " + k[0]
		}
		if len(a.Forget) > 0 {
			text += ", forget"
		}
		for _, k := range a.Forget {
			text += " " + k[0]
		}
		return text
	case follow.Unswept:
		return map[bool]string{true: "unswept", false: "swept"}[a.Yes]
	case follow.Write:
		var parts []string
		for word, rows := range map[string][]domain.Row{"remove": a.Net.Removes, "patch": a.Net.Patches, "put": a.Net.Puts} {
			for _, r := range rows {
				parts = append(parts, word+" "+rowText(r))
			}
		}
		slices.Sort(parts)
		return fmt.Sprintf("write %s %s", nameOf(a.Table), strings.Join(parts, "; "))
	case follow.WriteWhole:
		var parts []string
		for _, c := range a.Changes {
			parts = append(parts, map[domain.ChangeKind]string{domain.Insert: "insert ", domain.Delete: "delete ",
				domain.Update: "update "}[c.Kind]+rowText(c.New))
		}
		return fmt.Sprintf("write %s %s", nameOf(a.Table), strings.Join(parts, "; "))
	case follow.Move:
		return fmt.Sprintf("move %s %s to %s", nameOf(a.Table), a.Change.Old[0].Data, rowText(a.Change.New))
	case follow.Truncate:
		return list("truncate", a.Tables)
	case follow.Commit:
		return fmt.Sprintf("commit %s", a.Last.End)
	case follow.Abort:
		return "abort"
	case follow.Restart:
		return list("restart", a.With)
	case follow.NoteSchemaChange:
		return fmt.Sprintf("note %s at %s", nameOf(a.Table), a.At)
	case follow.AskSchemaChange:
		return "weigh " + nameOf(a.Change.Table)
	case follow.ApplySchemaChange:
		if a.With == nil {
			return "amend " + nameOf(a.Change.Table)
		}
		return list("amend "+nameOf(a.Change.Table)+", loading again", a.With)
	case follow.Hold:
		return "hold " + nameOf(a.Table)
	case follow.Fail:
		return "fail: " + a.Text
	}
	return fmt.Sprintf("%T", ask)
}

// snapshot reads "sees below N".
func (s *teller) snapshot(f []string) domain.Snapshot {
	if len(f) < 3 {
		return domain.Snapshot{}
	}
	n := s.number(f[2])
	return domain.Snapshot{Xmin: n, Xmax: n}
}

func (s *teller) answer(ask follow.Ask, text string) {
	var in follow.Input
	f := strings.Fields(text)
	switch ask.(type) {
	case follow.ApplySchemaChange, follow.Hold, follow.Fail:
		return // the machine is done with
	case follow.AskLoad:
		in.Load = lifecycle.View{Landed: int(s.number(f[0])), Chunks: 3, Phase: domain.PhaseCatchingUp}
		if strings.HasSuffix(text, ", loading") {
			in.Load.Phase = domain.PhaseLoading
		}
	case follow.AskSnapshot:
		in.Snapshot = s.snapshot(f)
	case follow.AskChunks:
		for part := range strings.SplitSeq(text, ", ") {
			f := strings.Fields(part)
			c := domain.Chunk{Ordinal: int(s.number(f[0])), State: domain.ChunkState(f[1]), Snapshot: s.snapshot(f[2:])}
			c.ID = int64(c.Ordinal) + 1
			if c.Ordinal > 0 {
				c.Lower = domain.KeyValue{strconv.Itoa(c.Ordinal * perChunk)}
			}
			in.Chunks = append(in.Chunks, c)
		}
	case follow.AskRow:
		in.Row = s.row(text)
	case follow.AskReferring, follow.AskRemembered:
		for _, k := range f {
			if k != "none" {
				in.Keys = append(in.Keys, domain.KeyValue{k})
			}
		}
	case follow.Write:
		if len(f) > 0 {
			in.Rows = []domain.Row{s.row(f[1])}
		}
	case follow.Move:
		in.Yes = text == "was there"
	case follow.AskSchemaChange:
		in.Yes = text == "nothing to be done"
	}
	s.step(in)
}

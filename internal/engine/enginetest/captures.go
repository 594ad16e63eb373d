package enginetest

import (
	"context"
	"slices"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// capture prepares capture of the table.
func (k *contract) capture() (name string, from domain.Position) {
	k.Helper()
	k.target()
	name = (&domain.Crossing{UID: k.crossing}).ObjectName()
	from, err := k.from.PrepareCapture(k.Context(), name, []domain.TablePlan{k.plan})
	k.ok(err)
	k.Cleanup(func() { _ = k.from.DropCapture(context.Background(), name, nil) })
	return name, from
}

// read reads events from a place until everything that was committed by now has come, as words.
func (k *contract) read(name string, from domain.Position) (words []string, ends []domain.Position) {
	k.Helper()
	end, err := k.from.Heartbeat(k.Context())
	k.ok(err)
	ctx, cancel := context.WithTimeout(k.Context(), time.Minute)
	defer cancel()
	c, err := k.from.OpenCapture(ctx, name, from, []engine.CaptureTable{{ID: 1, Plan: &k.plan}}, "")
	k.ok(err)
	defer c.Close()
	value := func(v domain.Value) string {
		return map[domain.ValueKind]string{domain.Null: "-", domain.Present: string(v.Data), domain.Unchanged: "~"}[v.Kind]
	}
	var last domain.Position
	open, quiet := false, true
	for {
		select {
		case e, more := <-c.Events():
			if !more {
				k.Fatalf("the stream ended: %v", c.Err())
			}
			c.Took(&e)
			switch e.Kind {
			case domain.EventBegin:
				if open || e.Tx.Commit.Before(last) {
					k.Errorf("a transaction begins inside another, or at %s after one at %s", e.Tx.Commit, last)
				}
				open, quiet, last = true, true, e.Tx.Commit
			case domain.EventChange:
				if !open {
					k.Error("a change belongs to no transaction")
				}
				quiet = false
				switch e.Change.Kind {
				case domain.Insert:
					words = append(words, "insert "+value(e.Change.New[0])+" "+value(e.Change.New[1]))
				case domain.Update:
					words = append(words, "update "+value(e.Change.New[0])+" "+value(e.Change.New[1]))
				case domain.Delete:
					words = append(words, "delete "+value(e.Change.Old[0]))
				case domain.Truncate:
					words = append(words, "truncate")
				}
			case domain.EventCommit:
				open = false
				if !quiet {
					words, ends = append(words, "commit"), append(ends, e.Tx.End)
				}
				if !e.Tx.Commit.Before(end) {
					return words, ends
				}
			case domain.EventProgress:
				if !e.Position.Before(end) {
					return words, ends
				}
			}
		case <-ctx.Done():
			k.Fatalf("a minute is over, and this has come: %v", words)
		}
	}
}

// work is what an application writes.
var work = []string{
	"INSERT INTO hives VALUES (5001, 'new', 1)",
	"UPDATE hives SET name = 'renamed' WHERE id = 5001",
	"UPDATE hives SET id = 5002 WHERE id = 5001",
	"INSERT INTO hives VALUES (5003, NULL, 3), (5004, 'x', 4)",
	"DELETE FROM hives WHERE id = 5003",
}

var worked = []string{"insert 5001 new", "commit", "update 5001 renamed", "commit", "update 5002 renamed", "commit",
	"insert 5003 -", "insert 5004 x", "commit", "delete 5003", "commit"}

func (k *contract) work() {
	k.Helper()
	for _, q := range work {
		k.run(q)
		if k.s.Marked {
			_, err := k.from.Heartbeat(k.Context())
			k.ok(err)
		}
	}
}

func (k *contract) captures() {
	name, from := k.capture()
	k.work()
	if got, _ := k.read(name, from); !slices.Equal(got, worked) {
		k.Errorf("came\n%q, was\n%q", got, worked)
	}
}

func (k *contract) goesOn() {
	name, from := k.capture()
	k.work()
	all, ends := k.read(name, from)
	if len(ends) != len(work) {
		k.Fatalf("%d transactions came: %q", len(ends), all)
	}
	for i, at := range ends[:len(ends)-1] {
		rest, _ := k.read(name, at)
		var want []string // what stands behind the commit of that transaction
		for n, w := range worked {
			if w == "commit" {
				if i--; i < 0 {
					want = worked[n+1:]
					break
				}
			}
		}
		if !slices.Equal(rest, want) {
			k.Errorf("after %d came %q, was %q", at, rest, want)
		}
	}
}

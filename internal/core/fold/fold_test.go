package fold_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"strings"
	"testing"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
)

func row(vals ...string) domain.Row {
	var r domain.Row
	for _, v := range vals {
		switch v {
		case "~":
			r = append(r, domain.Value{})
		case "=":
			r = append(r, domain.Value{Kind: domain.Unchanged})
		default:
			r = append(r, domain.Value{Kind: domain.Present, Data: []byte(v)})
		}
	}
	return r
}

func show(rows []domain.Row) string {
	var out []string
	for _, r := range rows {
		var f []string
		for _, v := range r {
			f = append(f, map[domain.ValueKind]string{domain.Null: "~", domain.Unchanged: "="}[v.Kind]+string(v.Data))
		}
		out = append(out, strings.Join(f, " "))
	}
	return strings.Join(out, "; ")
}

func TestNetEffect(t *testing.T) {
	ins := func(v ...string) domain.Change { return domain.Change{Kind: domain.Insert, New: row(v...)} }
	upd := func(v ...string) domain.Change { return domain.Change{Kind: domain.Update, New: row(v...)} }
	del := func(v ...string) domain.Change { return domain.Change{Kind: domain.Delete, Old: row(v...)} }
	move := func(from string, v ...string) domain.Change {
		return domain.Change{Kind: domain.Update, Old: row(from, "~", "~"), New: row(v...)}
	}
	for _, c := range []struct {
		name                   string
		changes                []domain.Change
		removes, patches, puts string
	}{
		{"the last update of a row wins", []domain.Change{upd("1", "a", "x"), upd("1", "b", "y")}, "", "", "1 b y"},
		{"an inserted and removed row is only removed", []domain.Change{ins("1", "a", "x"), del("1", "~", "~")}, "1 ~ ~", "",
			""},
		{"a removed and inserted row is put", []domain.Change{del("1", "~", "~"), ins("1", "b", "y")}, "", "", "1 b y"},
		{"an unchanged value stays unsaid", []domain.Change{upd("1", "a", "=")}, "", "1 a =", ""},
		{"an unchanged value is filled from the batch", []domain.Change{ins("1", "a", "large"), upd("1", "b", "=")}, "", "",
			"1 b large"},
		{"two patches merge", []domain.Change{upd("1", "=", "x"), upd("1", "b", "=")}, "", "", "1 b x"},
		{"a patch on a patch stays a patch", []domain.Change{upd("1", "a", "="), upd("1", "b", "=")}, "", "1 b =", ""},
		{"a move is a removal and a putting", []domain.Change{move("1", "2", "a", "x")}, "1 ~ ~", "", "2 a x"},
		{"a row moved away and another moved in", []domain.Change{move("1", "9", "a", "x"), move("2", "1", "b", "y")},
			"2 ~ ~", "", "1 b y; 9 a x"},
		{"NULL is not an empty string", []domain.Change{upd("1", "~", ""), upd("2", "", "~")}, "", "", "1 ~ ; 2  ~"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := fold.New([]int{0})
			for _, ch := range c.changes {
				for _, a := range fold.Split(ch, []int{0}) {
					f.Add(a)
				}
			}
			n := f.Net()
			if show(n.Removes) != c.removes || show(n.Patches) != c.patches || show(n.Puts) != c.puts {
				t.Errorf("removes [%s] patches [%s] puts [%s], want [%s] [%s] [%s]",
					show(n.Removes), show(n.Patches), show(n.Puts), c.removes, c.patches, c.puts)
			}
		})
	}
}

func TestMovesNeedTheOldRow(t *testing.T) {
	move := domain.Change{Kind: domain.Update, Old: row("1", "~"), New: row("2", "=")}
	if !fold.Moves(move, []int{0}) {
		t.Error("a move with an unchanged value must be told apart")
	}
	move.Old, move.OldWhole = row("1", "large"), true
	fold.Complete(&move, []int{0})
	if fold.Moves(move, []int{0}) || string(move.New[1].Data) != "large" {
		t.Error("a whole old row completes the new one")
	}
}

// A key whose values lie out of line is logged as unchanged: it is the old row's, or not known.
func TestAKeyOutOfLineIsTheOldRows(t *testing.T) {
	same := domain.Change{Kind: domain.Update, Old: row("long", "~"), New: row("=", "new")}
	if !fold.Complete(&same, []int{0}) || string(same.New[0].Data) != "long" || fold.Moves(same, []int{0}) {
		t.Errorf("an unchanged key is taken for %q", same.New[0].Data)
	}
	if atoms := fold.Split(same, []int{0}); len(atoms) != 1 || !atoms[0].Patch {
		t.Errorf("a change beside the key became %v", atoms)
	}
	none := domain.Change{Kind: domain.Update, New: row("=", "new")}
	if fold.Complete(&none, []int{0}) {
		t.Error("a change whose key nothing says must not pass")
	}
}

// Folding a random run of changes must leave what applying them one by one leaves.
func TestFoldEqualsOneByOne(t *testing.T) {
	for seed := range uint64(3000) {
		rng := rand.New(rand.NewPCG(seed, 1))
		start := map[string][2]string{}
		for k := range 4 {
			start[fmt.Sprint(k)] = [2]string{"s", "large" + fmt.Sprint(k)}
		}
		one, f := maps.Clone(start), fold.New([]int{0})
		for n := range 12 {
			k, v := fmt.Sprint(rng.IntN(6)), fmt.Sprint("v", n)
			cur, has := one[k]
			var c domain.Change
			switch {
			case !has:
				c = domain.Change{Kind: domain.Insert, New: row(k, v, "L"+v)}
				one[k] = [2]string{v, "L" + v}
			case rng.IntN(3) == 0:
				c = domain.Change{Kind: domain.Delete, Old: row(k, "~", "~")}
				delete(one, k)
			default:
				c = domain.Change{Kind: domain.Update, New: row(k, v, "=")}
				one[k] = [2]string{v, cur[1]}
			}
			for _, a := range fold.Split(c, []int{0}) {
				f.Add(a)
			}
		}
		folded, net := maps.Clone(start), f.Net()
		for _, r := range net.Removes {
			delete(folded, string(r[0].Data))
		}
		for _, r := range append(net.Patches, net.Puts...) {
			cur := folded[string(r[0].Data)]
			for i := range 2 {
				if r[i+1].Kind != domain.Unchanged {
					cur[i] = string(r[i+1].Data)
				}
			}
			folded[string(r[0].Data)] = cur
		}
		if !maps.Equal(one, folded) {
			t.Fatalf("seed %d: one by one %v, folded %v", seed, one, folded)
		}
	}
}

func BenchmarkFold(b *testing.B) {
	rows := make([]domain.Change, 10_000)
	for i := range rows {
		rows[i] = domain.Change{Kind: domain.Update, New: row(fmt.Sprint(i%4000), "some text", "12.50", "2026-11-23")}
	}
	b.ReportAllocs()
	for b.Loop() {
		f := fold.New([]int{0})
		for _, c := range rows {
			for _, a := range fold.Split(c, []int{0}) {
				f.Add(a)
			}
		}
		if f.Len() != 4000 {
			b.Fatal("wrong net")
		}
	}
	b.ReportMetric(float64(b.N)*float64(len(rows))/b.Elapsed().Seconds(), "changes/s")
}

// TestWhichRowsStand: a row that was changed first in a batch was there before it; one that
// was removed in it, or came in it, may not be.
func TestWhichRowsStand(t *testing.T) {
	row := func(id string) domain.Row {
		return domain.Row{{Kind: domain.Present, Data: []byte(id)}, {Kind: domain.Present, Data: []byte("v")}}
	}
	insert := func(id string) domain.Change { return domain.Change{Kind: domain.Insert, New: row(id)} }
	update := func(id string) domain.Change { return domain.Change{Kind: domain.Update, New: row(id)} }
	remove := func(id string) domain.Change { return domain.Change{Kind: domain.Delete, Old: row(id)} }
	f := fold.New([]int{0})
	for _, c := range []domain.Change{insert("new"), update("new"), update("changed"), update("changed"),
		update("made anew"), remove("made anew"), insert("made anew"), remove("gone"), insert("gone"), update("gone")} {
		for _, a := range fold.Split(c, []int{0}) {
			f.Add(a)
		}
	}
	n := f.Net()
	if len(n.Puts) != 4 || n.Standing != 1 || string(n.Puts[0][0].Data) != "changed" {
		t.Errorf("%d of %d rows stand: %v", n.Standing, len(n.Puts), n.Puts)
	}
}

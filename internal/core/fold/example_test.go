package fold_test

import (
	"fmt"

	"dustyferry/internal/core/fold"
	"dustyferry/internal/domain"
)

func text(s string) domain.Value { return domain.Value{Kind: domain.Present, Data: []byte(s)} }

// Five changes of two hives come down to one removal and one row to put.
func ExampleFold() {
	hive := func(id, site string) domain.Row { return domain.Row{text(id), text(site)} }
	f := fold.New([]int{0}) // the first column is the key
	for _, c := range []domain.Change{
		{Kind: domain.Insert, New: hive("1", "marsh")},
		{Kind: domain.Update, Old: hive("1", "marsh"), New: hive("1", "dike")},
		{Kind: domain.Insert, New: hive("2", "orchard")},
		{Kind: domain.Update, Old: hive("1", "dike"), New: hive("1", "meadow")},
		{Kind: domain.Delete, Old: hive("2", "")},
	} {
		for _, a := range fold.Split(c, []int{0}) {
			f.Add(a)
		}
	}
	n := f.Net()
	fmt.Println("remove:", len(n.Removes), string(n.Removes[0][0].Data))
	fmt.Println("put:", len(n.Puts), string(n.Puts[0][0].Data), string(n.Puts[0][1].Data))
	// Output:
	// remove: 1 2
	// put: 1 1 meadow
}

// Rows of a table without a key are known by all their values: one that came and went is not
// written at all, and two that are alike are counted.
func ExampleBagOf() {
	note := func(s string) domain.Row { return domain.Row{text(s)} }
	b, _ := fold.BagOf([]domain.Change{
		{Kind: domain.Insert, New: note("swarm")},
		{Kind: domain.Delete, Old: note("queen seen")},
		{Kind: domain.Delete, Old: note("queen seen")},
		{Kind: domain.Update, Old: note("swarm"), New: note("swarm caught")},
	})
	fmt.Println("remove:", b.Removes[0].N, "times", string(b.Removes[0].Row[0].Data))
	fmt.Println("put:", len(b.Puts), string(b.Puts[0][0].Data))
	// Output:
	// remove: 2 times queen seen
	// put: 1 swarm caught
}

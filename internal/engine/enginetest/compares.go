package enginetest

import (
	"slices"
	"time"

	"dustyferry/internal/core/narrow"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

func (k *contract) compares() {
	k.target()
	_, err := k.copied(1, nil, nil, 1)
	k.ok(err)
	part := engine.Part{Bounds: []domain.KeyValue{{"0"}, {"100"}, {"300"}}}
	look := func() (source, target engine.View, differ []int) {
		a, _, err := k.from.OpenView(k.Context(), false, time.Minute)
		k.ok(err)
		b, _, err := k.to.OpenView(k.Context(), false, time.Minute)
		k.ok(err)
		mine, err := a.Sums(k.Context(), &k.plan, part, func(int64) {})
		k.ok(err)
		theirs, err := b.Sums(k.Context(), &k.there, part, func(int64) {})
		k.ok(err)
		if len(mine) != 4 || len(theirs) != 4 {
			k.Fatalf("4 parts have %d and %d sums", len(mine), len(theirs))
		}
		for i := range mine {
			if mine[i] != theirs[i] {
				differ = append(differ, i)
			}
		}
		k.hashed(a, b, part, differ)
		return a, b, differ
	}
	a, b, differ := look()
	n, err := a.Count(k.Context(), &k.plan)
	k.ok(err)
	m, err := b.Count(k.Context(), &k.there)
	k.ok(err)
	if len(differ) > 0 || n != 200 || m != 200 {
		k.Errorf("of equal tables the parts %v differ, with %d and %d rows", differ, n, m)
	}
	a.Close()
	b.Close()
	k.run("UPDATE hives SET name = 'else' WHERE id = 113", "DELETE FROM hives WHERE id = 401")
	a, b, differ = look()
	defer a.Close()
	defer b.Close()
	if !slices.Equal(differ, []int{2, 3}) {
		k.Fatalf("the parts %v differ, it is 2 and 3", differ)
	}
	rows := func(v engine.View, p *domain.TablePlan) map[string]uint64 {
		out := map[string]uint64{}
		k.ok(v.Rows(k.Context(), p, part, differ, func(key []byte, hash uint64) { out[string(key)] = hash }))
		return out
	}
	here, there := rows(a, &k.plan), rows(b, &k.there)
	var keys []string
	for key, hash := range there {
		if here[key] != hash {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	if len(keys) != 2 || len(there)-len(here) != 1 {
		k.Fatalf("%d rows differ: %q; %d here, %d there", len(keys), keys, len(here), len(there))
	}
	got, err := a.Fetch(k.Context(), &k.plan, part, keys)
	k.ok(err)
	were, err := b.Fetch(k.Context(), &k.there, part, keys)
	k.ok(err)
	names := map[string]bool{}
	for _, key := range keys {
		for _, r := range got[key] {
			names["here "+string(r[1].Data)] = true
		}
		for _, r := range were[key] {
			names["there "+string(r[1].Data)] = true
		}
	}
	if !names["here else"] || !names["there hive 71"] || !names["there hive 167"] || len(names) != 3 {
		k.Errorf("the rows that differ are %v", names)
	}
}

// hashed: where servers hash rows by themselves, the same parts differ.
func (k *contract) hashed(a, b engine.View, part engine.Part, want []int) {
	here, ok := a.(engine.Hashes)
	there, too := b.(engine.Hashes)
	if !ok || !too {
		return
	}
	if form := here.HashForm(&k.plan); form == "" || form != there.HashForm(&k.there) {
		k.Errorf("the sides hash as %q and %q", form, there.HashForm(&k.there))
	}
	mine, err := here.HashThere(k.Context(), &k.plan, part, []int{0, 1, 2, 3}, func(int64) {})
	k.ok(err)
	theirs, err := there.HashThere(k.Context(), &k.there, part, []int{0, 1, 2, 3}, func(int64) {})
	k.ok(err)
	if len(mine) != 4 || len(theirs) != 4 {
		k.Fatalf("4 parts have %d and %d sums of the servers", len(mine), len(theirs))
	}
	if differ := narrow.Parts(mine, theirs); !slices.Equal(differ, want) || mine[2].Hash == mine[3].Hash {
		k.Errorf("by the servers' sums the parts %v differ, it is %v: %v, %v", differ, want, mine, theirs)
	}
	tried, err := here.TryHashes(k.Context(), &k.plan, part, 2, 50)
	if err != nil || tried.Rows != 50 || tried.Here <= 0 || tried.There <= 0 {
		k.Errorf("tried on rows it is %+v, %v", tried, err)
	}
	if trip, err := here.RoundTrip(k.Context()); err != nil || trip <= 0 {
		k.Errorf("the server is %s away, %v", trip, err)
	}
}

package narrow_test

import (
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"testing"

	"dustyferry/internal/core/narrow"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
)

func TestDamageIsFoundWhateverTheOrder(t *testing.T) {
	const n, parts = 5000, 16
	source, target := map[string]string{}, map[string]string{}
	for i := range n {
		k := fmt.Sprint("hive-", i)
		source[k], target[k] = fmt.Sprint("weight ", i), fmt.Sprint("weight ", i)
	}
	target["hive-17"] = "weight 17 "
	delete(target, "hive-400")
	target["hive-x"] = "extra"
	// Two rows that swap their values: counts and plain sums of values agree.
	target["hive-1"], target["hive-2"] = target["hive-2"], target["hive-1"]

	sums := func(rows map[string]string) []rowhash.Sum {
		out := make([]rowhash.Sum, parts)
		for k, v := range rows {
			out[narrow.Bucket([]byte(k), parts)].Add([]byte(k + "\x00" + v))
		}
		return out
	}
	differing := narrow.Parts(sums(source), sums(target))
	if len(differing) == 0 || len(differing) > 5 {
		t.Fatalf("differing parts %v", differing)
	}
	p := narrow.NewPairs()
	in := map[int]bool{}
	for _, d := range differing {
		in[d] = true
	}
	for k, v := range source {
		if in[narrow.Bucket([]byte(k), parts)] {
			p.Source([]byte(k), rowhash.Of([]byte(v)))
		}
	}
	for k, v := range target {
		if in[narrow.Bucket([]byte(k), parts)] {
			p.Target([]byte(k), rowhash.Of([]byte(v)))
		}
	}
	want := map[string]domain.FindingKind{
		"hive-17": domain.Differing, "hive-1": domain.Differing, "hive-2": domain.Differing,
		"hive-400": domain.MissingOnTarget, "hive-x": domain.ExtraOnTarget,
	}
	got := p.Candidates()
	if len(got) != len(want) {
		t.Fatalf("candidates %+v", got)
	}
	for _, c := range got {
		if want[c.Key] != c.Kind {
			t.Errorf("%s is %s, want %s", c.Key, c.Kind, want[c.Key])
		}
	}
}

func TestCopiesOfEqualRowsAreCounted(t *testing.T) {
	p := narrow.NewPairs()
	for range 3 {
		p.Source([]byte("same"), 9)
	}
	p.Target([]byte("same"), 9)
	if c := p.Candidates(); len(c) != 1 || c[0].Kind != domain.MissingOnTarget || c[0].Copies != 2 {
		t.Errorf("three against one: %+v", c)
	}
}

func TestColumns(t *testing.T) {
	a, b, empty := "1.0", "1.00", ""
	got := narrow.Columns([]string{"n", "same", "null"},
		map[string]*string{"n": &a, "same": &a, "null": nil},
		map[string]*string{"n": &b, "same": &a, "null": &empty})
	if fmt.Sprint(got) != "[n null]" {
		t.Errorf("differing columns %v", got)
	}
}

// TestKeysGoBothWays: what a row is paired by gives its values back, whatever
// they hold, and no two keys of the same columns are written alike.
func TestKeysGoBothWays(t *testing.T) {
	keys := []domain.KeyValue{{"1", "2"}, {"12", ""}, {"", "12"}, {"\x00\x00\x00\x01", "a"}, {"ñ|☕", "'; --"},
		{strings.Repeat("x", 70_000), "y"}}
	seen := map[string]bool{}
	for _, k := range keys {
		// The key's columns stand second and first in the row.
		fields := [][]byte{[]byte(k[1]), []byte("no key"), []byte(k[0])}
		b := string(narrow.AppendKey([]byte("kept"), nil, fields, []int{2, 0}))
		if b != "kept"+narrow.JoinKey(k) {
			t.Errorf("%.20q: a row's key is not that of its values", k)
		}
		if got := narrow.SplitKey(b[4:], 2); !slices.Equal(got, k) {
			t.Errorf("%.20q comes back as %.20q", k, got)
		}
		if seen[b] {
			t.Errorf("%.20q is written as another key is", k)
		}
		seen[b] = true
	}
	row := []byte("a row of a table without a key")
	if b := narrow.AppendKey(nil, row, nil, nil); len(b) != 8 || binary.BigEndian.Uint64(b) != rowhash.Of(row) {
		t.Errorf("without a key: %x", b)
	}
}

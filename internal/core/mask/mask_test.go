package mask

import (
	"regexp"
	"strconv"
	"testing"
)

func TestMask(t *testing.T) {
	key, other := []byte("the meadow's key"), []byte("another")
	text := New(key, Text, 12)
	one := string(text.Append(nil, []byte("ada@saltmarsh.example")))
	if len(one) != 12 || one != string(text.Append(nil, []byte("ada@saltmarsh.example"))) {
		t.Errorf("%q is not what it was", one)
	}
	if one == string(text.Append(nil, []byte("eda@saltmarsh.example"))) ||
		one == string(New(other, Text, 12).Append(nil, []byte("ada@saltmarsh.example"))) {
		t.Error("another value or another key gives the same")
	}
	// RFC 4231, test case 2.
	if got := string(New([]byte("Jefe"), Text, 64).Append([]byte("x"),
		[]byte("what do ya want for nothing?"))); got != "x5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843" {
		t.Errorf("%s", got)
	}
	seen := map[string]bool{}
	for i := range 1000 {
		n := string(New(key, Whole, 1<<31).Append(nil, strconv.AppendInt(nil, int64(i), 10)))
		if x, err := strconv.ParseInt(n, 10, 32); err != nil || x < 0 {
			t.Fatalf("%s is no number of 31 bits", n)
		}
		seen[n] = true
	}
	if len(seen) < 990 {
		t.Errorf("only %d of 1000 numbers stay apart", len(seen))
	}
	if u := string(New(key, UUID, 0).Append(nil, []byte("7"))); !regexp.MustCompile(
		`^[0-9a-f]{8}-[0-9a-f]{4}-8[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$`).MatchString(u) {
		t.Errorf("%s is no UUID", u)
	}
}

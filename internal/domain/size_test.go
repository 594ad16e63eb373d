package domain

import "testing"

func TestUnitsMeanWhatTheySay(t *testing.T) {
	for text, want := range map[string]Size{"7": 7, "7 B": 7, "16MB": 16_000_000, "16MiB": 16 << 20, "1kB": 1000,
		"1KB": 1000, "1KiB": 1024, "2 GB": 2_000_000_000, "2gib": 2 << 30, "512k": 512_000, "16M": 16_000_000, "4Mi": 4 << 20,
		"1TB": 1_000_000_000_000} {
		if n, err := ParseSize(text); n != want || err != nil {
			t.Errorf("%s is %d (%v), want %d", text, n, err, want)
		}
	}
	for _, bad := range []string{"", "MB", "1.5MB", "-1MB", "16m b", "16 potatoes", "99999999999TB", "16MBB"} {
		if n, err := ParseSize(bad); err == nil {
			t.Errorf("%q was taken for %d", bad, n)
		}
	}
	for n, want := range map[Size]string{16 << 20: "16MiB", 16_000_000: "16MB", 1000: "1kB", 1001: "1001", 0: "0",
		3 << 40: "3TiB"} {
		if got := n.String(); got != want {
			t.Errorf("%d is written %s, want %s", n, got, want)
		}
		if back, err := ParseSize(want); back != n || err != nil {
			t.Errorf("%s is read as %d (%v)", want, back, err)
		}
	}
}

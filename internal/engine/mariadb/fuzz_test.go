package mariadb

import "testing"

// FuzzSignIn: whatever answers at a server's address says, nothing panics.
func FuzzSignIn(f *testing.F) {
	f.Add([]byte{})
	f.Add([]byte{10})
	f.Add(append([]byte{10}, "10.11.0\x00\x01\x00\x00\x0012345678\x00"...))
	f.Add([]byte{0xff, 1})
	f.Add([]byte{0xff, 1, 2, '#', '1'})
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _, _ = greeting(b)
		_ = serverSaid(b).Error()
		if len(b) >= 32 {
			_, _ = attributesOf(b, 32)
		}
	})
}

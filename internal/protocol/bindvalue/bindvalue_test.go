package bindvalue

import (
	"bytes"
	"strings"
	"testing"
)

func TestValues(t *testing.T) {
	for _, c := range []struct {
		base, text, want string
	}{
		{"int", "-1", "\xff\xff\xff\xff"},
		{"int unsigned", "4294967295", "\xff\xff\xff\xff"},
		{"bigint", "-9223372036854775808", "\x00\x00\x00\x00\x00\x00\x00\x80"},
		{"bigint unsigned", "18446744073709551615", "\xff\xff\xff\xff\xff\xff\xff\xff"},
		{"float", "3.4028235e+38", "\xff\xff\x7f\x7f"},
		{"float", "-0", "\x00\x00\x00\x80"},
		{"double", "0.1", "\x9a\x99\x99\x99\x99\x99\xb9\x3f"},
		{"date", "2024-02-29", "\x04\xe8\x07\x02\x1d"},
		{"datetime", "2026-11-30 06:28:41", "\x07\xea\x07\x0b\x1e\x06\x1c\x29"},
		{"timestamp", "2026-11-30 06:28:41.000", "\x07\xea\x07\x0b\x1e\x06\x1c\x29"},
		{"datetime", "2026-11-30 00:00:00.5", "\x0b\xea\x07\x0b\x1e\x00\x00\x00\x20\xa1\x07\x00"},
		{"decimal", "12.500", "\x0612.500"},
		{"longtext", "honey", "\x05honey"},
		{"uuid", "", "\x00"},
	} {
		k, ok := Of(c.base)
		if !ok {
			t.Fatalf("%s goes as no parameter", c.base)
		}
		got, ok := k.Append([]byte("|"), []byte(c.text))
		if !ok || string(got) != "|"+c.want {
			t.Errorf("%s %s is % x (%v), want % x", c.base, c.text, got, ok, c.want)
		}
		back, err := k.Text(nil, got[1:])
		if again, _ := k.Append([]byte("|"), back); err != nil || !bytes.Equal(again, got) {
			t.Errorf("%s %s came back as %s (%v)", c.base, c.text, back, err)
		}
	}
}

// TestWhatIsNotPlain: everything else is left to the server, and nothing is added.
func TestWhatIsNotPlain(t *testing.T) {
	for base, texts := range map[string][]string{
		"int":             {"", "2147483648", "1.5", "0x10", "1_0", " 1", "ten"},
		"int unsigned":    {"-1", "4294967296"},
		"bigint unsigned": {"18446744073709551616"},
		"float":           {"NaN", "Infinity", "1e39", "0x1p-2", "1_0", ""},
		"double":          {"inf", "1e309"},
		"date": {"0000-00-00", "2023-02-29", "1900-02-29", "2025-00-10", "2025-02-31", "2025-13-01", "25-01-01",
			"2025-1-01", "+2025-01-01"},
		"datetime": {"2025-01-01T10:00:00", "2025-01-01 24:00:00", "2025-01-01 10:00", "2025-01-01 10:00:60",
			"2025-01-01 10:00:00.1234567", "2025-01-01 10:00:00.", "2025-01-01 10:00:00 x"},
	} {
		k, _ := Of(base)
		for _, text := range texts {
			if got, ok := k.Append([]byte("|"), []byte(text)); ok || string(got) != "|" {
				t.Errorf("%s %q was taken: % x", base, text, got)
			}
		}
	}
	for _, base := range []string{"bit", "geometry", "vector", "blob", ""} {
		if _, ok := Of(base); ok {
			t.Errorf("%q goes as a parameter by its text", base)
		}
	}
}

func TestLengths(t *testing.T) {
	for n, want := range map[int]string{0: "\x00", 250: "\xfa", 251: "\xfc\xfb\x00", 65535: "\xfc\xff\xff",
		65536: "\xfd\x00\x00\x01", 1 << 24: "\xfe\x00\x00\x00\x01\x00\x00\x00\x00"} {
		if got := Length(nil, n); string(got) != want {
			t.Errorf("%d is % x, want % x", n, got, want)
		}
	}
	long := []byte(strings.Repeat("x", 70_000))
	if got, ok := Bytes.Append(nil, long); !ok || !bytes.Equal(got[4:], long) {
		t.Errorf("%d bytes became %d", len(long), len(got))
	}
	if k, _ := Of("double"); k.Unsignedness() != 0 {
		t.Error("a float has no sign")
	}
	if k, _ := Of("tinyint unsigned"); k.Unsignedness() != 0x80 {
		t.Error("an unsigned number was signed")
	}
}

// TestFormsThatAreNone: what is no parameter of its kind has no text.
func TestFormsThatAreNone(t *testing.T) {
	for base, forms := range map[string][]string{
		"int": {"", "\x01\x02\x03"}, "bigint": {"\x01\x02\x03\x04"}, "float": {"12345"}, "double": {"1234"},
		"datetime": {"", "\x04\x01", "\x05\x01\x01\x01\x01\x01"},
		"longtext": {"", "\x05hone", "\x03honey", "\xfc\x01", "\xfe12345678"},
	} {
		k, _ := Of(base)
		for _, v := range forms {
			if got, err := k.Text([]byte("|"), []byte(v)); err == nil || string(got) != "|" {
				t.Errorf("%s % x has the text %q", base, v, got)
			}
		}
	}
	long := []byte(strings.Repeat("x", 70_000))
	v, _ := Bytes.Append(nil, long)
	if got, err := Bytes.Text(nil, v); err != nil || !bytes.Equal(got, long) {
		t.Errorf("%d bytes came back as %d (%v)", len(long), len(got), err)
	}
}

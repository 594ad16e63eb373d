package pgvalue

import (
	"bytes"
	"errors"
	"testing"
	"time"
)

// TestNumericsComeBack: what Numeric writes is read as the text that it was of.
func TestNumericsComeBack(t *testing.T) {
	for _, text := range []string{"0", "0.000", "1", "-1", "10", "9999", "10000", "-10000", "100000000", "12345678.9",
		"0.1", "0.0001", "0.00001", "-0.000000000000000001", "123456789012345678901234567890.123456789", "1.50",
		"99999.99990000", "10000.0001"} {
		raw, err := Numeric(nil, []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		if got, err := AppendNumeric([]byte("|"), raw); err != nil || string(got) != "|"+text {
			t.Errorf("%s came back as %s (%v)", text, got, err)
		}
	}
	for text, raw := range map[string]string{"NaN": "\xc0\x00", "Infinity": "\xd0\x00", "-Infinity": "\xf0\x00"} {
		if got, err := AppendNumeric(nil, []byte("\x00\x00\x00\x00"+raw+"\x00\x20")); err != nil || string(got) != text {
			t.Errorf("%s came as %s (%v)", text, got, err)
		}
	}
	for _, raw := range []string{"", "\x00\x00\x00\x00\x00\x00\x00", "\x00\x01\x00\x00\x00\x00\x00\x00",
		"\x00\x00\x00\x00\x12\x00\x00\x00"} {
		if got, err := AppendNumeric(nil, []byte(raw)); !errors.Is(err, ErrForm) || len(got) > 0 {
			t.Errorf("% x was read as %q (%v)", raw, got, err)
		}
	}
}

// TestDaysComeBack counts every day of ten thousand years, there and back.
func TestDaysComeBack(t *testing.T) {
	at := time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC)
	first, _ := Day(1, 1, 1)
	for n := first; at.Year() < 10000; n, at = n+1, at.AddDate(0, 0, 1) {
		if y, m, d := Civil(n); y != at.Year() || m != int(at.Month()) || d != at.Day() {
			t.Fatalf("day %d is %d-%d-%d, want %s", n, y, m, d, at.Format(time.DateOnly))
		}
	}
	if y, m, d := Civil(first - 1); y != 0 || m != 12 || d != 31 {
		t.Errorf("the day before the first year is %d-%d-%d", y, m, d)
	}
	if y, _, _ := Civil(-2451545); y != -4713 {
		t.Errorf("the first day of the server's calendar is of the year %d", y)
	}
}

func TestMoments(t *testing.T) {
	for _, c := range []struct {
		day    int32
		micros int64
	}{{0, 0}, {-1, 0}, {-1, dayMicros - 1}, {7, 1}, {-730119, 5}} {
		if day, micros := Moment(int64(c.day)*dayMicros + c.micros); day != c.day || micros != c.micros {
			t.Errorf("%v came back as %d, %d", c, day, micros)
		}
	}
	if raw := Timestamp(nil, 1, 2); !bytes.Equal(raw, []byte{0, 0, 0, 20, 29, 215, 96, 2}) {
		t.Errorf("a day and two microseconds are % x", raw)
	}
}

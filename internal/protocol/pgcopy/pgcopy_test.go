package pgcopy_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"testing"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/protocol/pgcopy"
)

func frame(body []byte) []byte {
	b := binary.BigEndian.AppendUint32([]byte{'d'}, uint32(len(body)+4))
	return append(b, body...)
}

// stream is what a server sends for the rows: the header with the first row,
// one row a frame, the trailer in a frame of its own, then CopyDone.
func stream(rows [][]byte) []byte {
	var b []byte
	for i, r := range rows {
		if i == 0 {
			r = append(pgcopy.Header(), r...)
		}
		b = append(b, frame(r)...)
	}
	if len(rows) == 0 {
		b = append(b, frame(append(pgcopy.Header(), pgcopy.Trailer...))...)
	} else {
		b = append(b, frame(pgcopy.Trailer)...)
	}
	return append(b, 'c', 0, 0, 0, 4)
}

func testRows(n int) ([][]byte, rowhash.Sum) {
	var rows [][]byte
	var sum rowhash.Sum
	for i := range n {
		r := pgcopy.AppendFields(nil, [][]byte{fmt.Append(nil, "hive ", i), nil, bytes.Repeat([]byte("x"), i*37%900)})
		rows = append(rows, r)
		sum.Add(r)
	}
	return rows, sum
}

func TestFramesCutAnywhere(t *testing.T) {
	rows, want := testRows(60)
	wire := stream(rows)
	for _, piece := range []int{1, 2, 3, 5, 19, 24, 64, 1000, len(wire)} {
		f := pgcopy.Frames{Binary: true}
		passed := 0
		var err error
		for at := 0; at < len(wire) && err == nil; at += piece {
			var n int
			n, err = f.Feed(wire[at:min(at+piece, len(wire))])
			passed += n
		}
		if !errors.Is(err, pgcopy.ErrEnd) || passed != len(wire)-5 || f.Sum != want || !f.AtBoundary() {
			t.Errorf("pieces of %d: %d of %d bytes, sum %+v want %+v, %v", piece, passed, len(wire)-5, f.Sum, want, err)
		}
	}
}

func TestAnEmptyTableHasNoRows(t *testing.T) {
	f := pgcopy.Frames{Binary: true}
	if _, err := f.Feed(stream(nil)); !errors.Is(err, pgcopy.ErrEnd) || f.Sum.Rows != 0 {
		t.Errorf("rows %d, %v", f.Sum.Rows, err)
	}
}

func TestFieldsThereAndBack(t *testing.T) {
	want := [][]byte{[]byte("a"), nil, {}, bytes.Repeat([]byte{0xff}, 300)}
	got, err := pgcopy.Fields(nil, pgcopy.AppendFields(nil, want))
	if err != nil || len(got) != 4 || got[1] != nil || got[2] == nil || !bytes.Equal(got[3], want[3]) {
		t.Errorf("%q %v", got, err)
	}
}

// TestBodiesCutAnywhere: a Cutter hands on the bodies of frames however their stream is cut.
func TestBodiesCutAnywhere(t *testing.T) {
	var stream []byte
	var want []string
	for _, n := range []int{0, 1, 4, 300, 5, 0, 70000, 2} {
		body := bytes.Repeat([]byte{byte('a' + len(want))}, n)
		stream = binary.BigEndian.AppendUint32(append(stream, 'd'), uint32(n+4))
		stream, want = append(stream, body...), append(want, string(body))
	}
	for _, size := range []int{1, 2, 3, 4, 5, 6, 7, 64, 1000, len(stream)} {
		var got []string
		c := pgcopy.Cutter{Row: func(b []byte) error { got = append(got, string(b)); return nil }}
		for rest := stream; len(rest) > 0; rest = rest[min(size, len(rest)):] {
			if err := c.Take(rest[:min(size, len(rest))]); err != nil {
				t.Fatal(err)
			}
		}
		if !slices.Equal(got, want) {
			t.Errorf("in pieces of %d: %d bodies, want %d", size, len(got), len(want))
		}
	}
	stop := errors.New("enough")
	c := pgcopy.Cutter{Row: func([]byte) error { return stop }}
	if err := c.Take(stream); !errors.Is(err, stop) {
		t.Errorf("the taker's word was lost: %v", err)
	}
}

func FuzzFrames(f *testing.F) {
	rows, _ := testRows(5)
	f.Add(stream(rows), 7)
	f.Fuzz(func(t *testing.T, b []byte, piece int) {
		if piece < 1 || piece > len(b)+1 {
			return
		}
		whole, cut := pgcopy.Frames{Binary: true}, pgcopy.Frames{Binary: true}
		n1, err1 := whole.Feed(b)
		n2, at := 0, 0
		var err2 error
		for at < len(b) && err2 == nil {
			var n int
			n, err2 = cut.Feed(b[at:min(at+piece, len(b))])
			n2 += n
			at += piece
		}
		if n1 != n2 || (err1 == nil) != (err2 == nil) || whole.Sum != cut.Sum {
			t.Fatalf("whole %d %v %+v, cut %d %v %+v", n1, err1, whole.Sum, n2, err2, cut.Sum)
		}
	})
}

func FuzzFields(f *testing.F) {
	f.Add(pgcopy.AppendFields(nil, [][]byte{[]byte("a"), nil}))
	f.Fuzz(func(t *testing.T, b []byte) {
		fields, err := pgcopy.Fields(nil, b)
		if err == nil && !bytes.Equal(pgcopy.AppendFields(nil, fields), b) {
			t.Fatalf("%x does not come back", b)
		}
	})
}

// FuzzText holds a row in COPY's text format against one written byte by byte.
func FuzzText(f *testing.F) {
	f.Add([]byte("heather\\and\tlime\n"), []byte("\x00\x01\x1f\b\f\v\r, and a longer text behind it \x7f\xff"))
	f.Fuzz(func(t *testing.T, a, b []byte) {
		var want []byte
		for i, field := range [][]byte{a, nil, b} {
			if i > 0 {
				want = append(want, '\t')
			}
			if field == nil {
				want = append(want, `\N`...)
			}
			for _, x := range field {
				if at := bytes.IndexByte([]byte("\\\n\r\t\b\f\v"), x); at >= 0 {
					want = append(want, '\\', `\nrtbfv`[at])
				} else {
					want = append(want, x)
				}
			}
		}
		if a == nil || b == nil {
			return
		}
		got := pgcopy.AppendText(nil, [][]byte{a, nil, b})
		if !bytes.Equal(got, append(want, '\n')) {
			t.Fatalf("%q, want %q", got, want)
		}
		back, err := pgcopy.TextFields(nil, got[:len(got)-1])
		if err != nil || len(back) != 3 || !bytes.Equal(back[0], a) || back[0] == nil || back[1] != nil ||
			!bytes.Equal(back[2], b) || back[2] == nil {
			t.Fatalf("%q, %q came back as %q (%v)", a, b, back, err)
		}
	})
}

func TestTextFields(t *testing.T) {
	for line, want := range map[string][]string{
		"":                       {""},
		"1\theather\t":           {"1", "heather", ""},
		`\N` + "\t" + `\\N`:      {"NULL", `\N`},
		`a\tb\\` + "\t" + `\n\r`: {"a\tb\\", "\n\r"},
		`\.`:                     nil,
		`x\`:                     nil,
		`\x41`:                   nil,
		`\Nothing`:               nil,
		"\t\t":                   {"", "", ""},
	} {
		got, err := pgcopy.TextFields(nil, []byte(line))
		if want == nil {
			if !errors.Is(err, pgcopy.ErrText) {
				t.Errorf("%q was read: %q, %v", line, got, err)
			}
			continue
		}
		if err != nil || len(got) != len(want) {
			t.Errorf("%q: %q, %v", line, got, err)
			continue
		}
		for i, f := range got {
			if f == nil && want[i] != "NULL" || f != nil && string(f) != want[i] {
				t.Errorf("%q: field %d is %q, want %q", line, i, f, want[i])
			}
		}
	}
}

// BenchmarkTextFields cuts lines; beside it the limit, finding their tabs.
func BenchmarkTextFields(b *testing.B) {
	line := []byte("4711\tdyke-17\t3\t2025-01-01 10:00:00\t12.500\t3\t4.33333\t55\t3700\tscale-fw-3\tcalibrated by hand " +
		"calibrated by hand calibrated by hand")
	b.Run("fields", func(b *testing.B) {
		b.SetBytes(int64(len(line)))
		var fields [][]byte
		for b.Loop() {
			fields, _ = pgcopy.TextFields(fields[:0], line)
		}
	})
	b.Run("limit: tabs", func(b *testing.B) {
		b.SetBytes(int64(len(line)))
		for b.Loop() {
			for rest, n := line, 0; n >= 0; rest = rest[n+1:] {
				n = bytes.IndexByte(rest, '\t')
			}
		}
	})
}

// BenchmarkFrames counts and hashes a stream of rows; beside it the limit, the
// same bytes only copied.
func BenchmarkFrames(b *testing.B) {
	rows, _ := testRows(5000)
	wire := stream(rows)
	b.Run("count and hash", func(b *testing.B) {
		b.SetBytes(int64(len(wire)))
		for b.Loop() {
			f := pgcopy.Frames{Binary: true}
			_, _ = f.Feed(wire)
		}
	})
	b.Run("limit: copy", func(b *testing.B) {
		to := make([]byte, len(wire))
		b.SetBytes(int64(len(wire)))
		for b.Loop() {
			copy(to, wire)
		}
	})
}

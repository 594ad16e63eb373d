package resultset

import (
	"encoding/binary"
	"errors"
	"math"
	"strings"
	"testing"
)

// read takes a row apart and returns its texts, nil for NULL.
func read(d *Decoder, row []byte) ([][]byte, error) {
	if err := d.Cut(row); err != nil {
		return nil, err
	}
	texts := make([][]byte, len(d.Raw))
	for i, raw := range d.Raw {
		if raw == nil {
			continue
		}
		var err error
		if texts[i], err = d.Columns[i].AppendText([]byte{}, raw); err != nil {
			return nil, err
		}
	}
	return texts, nil
}

func column(kind byte, flags uint16, decimals byte) []byte {
	var b []byte
	for _, s := range []string{"def", "saltmarsh", "h", "hives", "n", "name"} {
		b = append(append(b, byte(len(s))), s...)
	}
	b = append(b, 0x0c)
	b = binary.LittleEndian.AppendUint16(b, 45)
	b = binary.LittleEndian.AppendUint32(b, 255)
	b = append(b, kind)
	b = binary.LittleEndian.AppendUint16(b, flags)
	return append(b, decimals, 0, 0)
}

var values = []struct {
	kind     byte
	flags    uint16
	decimals byte
	sent     []byte
	want     string
}{
	{typeTiny, 0, 0, []byte{0x80}, "-128"},
	{typeTiny, flagUnsigned, 0, []byte{0xff}, "255"},
	{typeShort, 0, 0, []byte{0, 0x80}, "-32768"},
	{typeYear, flagUnsigned, 0, []byte{0xe9, 7}, "2025"},
	{typeInt24, 0, 0, []byte{0, 0, 0x80, 0xff}, "-8388608"},
	{typeLong, flagUnsigned, 0, []byte{0xff, 0xff, 0xff, 0xff}, "4294967295"},
	{typeLongLong, 0, 0, []byte{0, 0, 0, 0, 0, 0, 0, 0x80}, "-9223372036854775808"},
	{typeLongLong, flagUnsigned, 0, []byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}, "18446744073709551615"},
	{typeDate, 0, 0, []byte{4, 0xe9, 7, 2, 28}, "2025-02-28"},
	{typeDate, 0, 0, []byte{0}, "0000-00-00"},
	{typeDateTime, 0, 0, []byte{7, 0xe9, 7, 12, 31, 23, 59, 58}, "2025-12-31 23:59:58"},
	{typeDateTime, 0, 3, []byte{0}, "0000-00-00 00:00:00.000"},
	{typeTimestamp, 0, 6, []byte{11, 0xe9, 7, 1, 2, 3, 4, 5, 0x40, 0xe2, 1, 0}, "2025-01-02 03:04:05.123456"},
	{typeDateTime, 0, 2, []byte{11, 0xe9, 7, 1, 2, 3, 4, 5, 0x38, 0xdc, 1, 0}, "2025-01-02 03:04:05.12"},
	{typeTime, 0, 0, []byte{8, 1, 34, 0, 0, 0, 22, 59, 59}, "-838:59:59"},
	{typeTime, 0, 1, []byte{0}, "00:00:00.0"},
	{typeTime, 0, 6, []byte{12, 0, 0, 0, 0, 0, 1, 2, 3, 1, 0, 0, 0}, "01:02:03.000001"},
	{0xf6, 0, 3, append([]byte{6}, "12.500"...), "12.500"}, // decimal
	{0xfd, 0, 0, []byte{0}, ""},
	{0xfc, 0, 0, append([]byte{0xfc, 44, 1}, strings.Repeat("heath ", 50)...), strings.Repeat("heath ", 50)},
}

// TestRows reads a row of every kind of value, and of as many NULLs.
func TestRows(t *testing.T) {
	var d Decoder
	n := len(values)
	sent, none := make([]byte, 1+(n+9)/8), make([]byte, 1+(n+9)/8)
	for i, v := range values {
		c, err := ParseColumn(column(v.kind, v.flags, v.decimals))
		if err != nil {
			t.Fatal(err)
		}
		d.Columns = append(d.Columns, c)
		sent = append(sent, v.sent...)
		none[1+(i+2)/8] |= 1 << ((i + 2) % 8)
	}
	for range 2 { // the second time nothing of the first must shine through
		texts, err := read(&d, sent)
		if err != nil {
			t.Fatal(err)
		}
		for i, v := range values {
			if got := string(texts[i]); texts[i] == nil || got != v.want {
				t.Errorf("value %d is %q, want %q", i, got, v.want)
			}
		}
		if texts, err = read(&d, none); err != nil {
			t.Fatal(err)
		}
		for i, f := range texts {
			if f != nil {
				t.Errorf("NULL %d is %q", i, f)
			}
		}
	}
	for cut := range sent {
		if _, err := read(&d, sent[:cut]); !errors.Is(err, ErrShort) {
			t.Errorf("a row cut at %d: %v", cut, err)
		}
	}
}

// TestSpelled names types as the server told of them.
func TestSpelled(t *testing.T) {
	for want, c := range map[string]Column{
		"tinyint unsigned": {kind: typeTiny, unsigned: true}, "bigint": {kind: typeLongLong},
		"decimal(10,3)":          {kind: typeDecimal, length: 12, scale: 3},
		"decimal(20,0) unsigned": {kind: typeDecimal, length: 20, unsigned: true}, "datetime(3)": {kind: typeDateTime,
			decimals: 3}, "time": {kind: typeTime}, "date": {kind: typeDate},
		"year": {kind: typeYear}, "bit(9)": {kind: typeBit, length: 9}, "geometry": {kind: typeGeometry, charset: 63},
		"varbinary(16)": {kind: 0xfe, charset: 63, length: 16},
		"longblob":      {kind: 0xfc, charset: 63, length: 1 << 24}, "varchar(40)": {kind: 0xfd, charset: 45, length: 160},
		"longtext": {kind: 0xfc, charset: 45, length: 1 << 30},
	} {
		if got := c.Spelled(); got != want {
			t.Errorf("%+v is %s, want %s", c, got, want)
		}
		if c.Text() != (c.charset == 45) {
			t.Errorf("%+v: text is %v", c, c.Text())
		}
	}
}

func TestFloats(t *testing.T) {
	f, _ := ParseColumn(column(typeFloat, 0, 31))
	g, _ := ParseColumn(column(typeDouble, 0, 31))
	d := Decoder{Columns: []Column{f, g}}
	row := binary.LittleEndian.AppendUint32([]byte{0, 0}, math.Float32bits(0.1))
	row = binary.LittleEndian.AppendUint64(row, math.Float64bits(1e300))
	if err := d.Cut(row); err != nil || f.Float(d.Raw[0]) != float64(float32(0.1)) || g.Float(d.Raw[1]) != 1e300 ||
		f.Form() != Real || f.Bits() != 32 || g.Bits() != 64 {
		t.Errorf("%x %v", d.Raw, err)
	}
}

func TestTexts(t *testing.T) {
	f := make([][]byte, 3)
	row := append([]byte{5}, "heath\xfb\x00"...)
	if err := Texts(f, row); err != nil || string(f[0]) != "heath" || f[1] != nil || f[2] == nil || len(f[2]) != 0 {
		t.Errorf("%q %v", f, err)
	}
	for cut := range row {
		if err := Texts(f, row[:cut]); !errors.Is(err, ErrShort) {
			t.Errorf("cut at %d: %v", cut, err)
		}
	}
	if err := Texts(f[:1], []byte{0xfe, 255, 255, 255, 255, 255, 255, 255, 255}); !errors.Is(err, ErrShort) {
		t.Errorf("a length beyond everything: %v", err)
	}
}

func FuzzRow(f *testing.F) {
	f.Add([]byte{typeDate, typeTime, typeLong}, []byte{0, 0, 4, 1, 2, 3, 4})
	f.Fuzz(func(_ *testing.T, kinds, row []byte) {
		var d Decoder
		for _, k := range kinds {
			d.Columns = append(d.Columns, Column{kind: k, decimals: int(k % 7)})
		}
		_, _ = read(&d, row) // must not fall over
	})
}

package binlog

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"math"
	"strings"
	"testing"
)

// event puts a body behind a header, with a checksum when summed.
func event(t Type, body []byte, summed bool) []byte {
	size := headerSize + len(body)
	if summed {
		size += checksumSize
	}
	b := binary.LittleEndian.AppendUint32(nil, 1_700_000_000)
	b = append(b, byte(t))
	b = binary.LittleEndian.AppendUint32(b, 7)
	b = binary.LittleEndian.AppendUint32(b, uint32(size))
	b = binary.LittleEndian.AppendUint32(b, 4711)
	b = append(append(b, 0x20, 0), body...)
	if summed {
		b = binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(b))
	}
	return b
}

func TestHeadersAndChecksums(t *testing.T) {
	r := Reader{Checksums: true}
	b := event(TypeXid, []byte{9, 0, 0, 0, 0, 0, 0, 0}, true)
	h, body, err := r.Event(b)
	if err != nil || h.Type != TypeXid || h.Next != 4711 || h.ServerID != 7 || !h.Artificial() {
		t.Fatalf("%+v (%v)", h, err)
	}
	if x, err := DecodeXid(body); err != nil || x != 9 {
		t.Errorf("xid %d (%v)", x, err)
	}
	b[20] ^= 1
	if _, _, err := r.Event(b); !errors.Is(err, ErrChecksum) {
		t.Errorf("a broken event: %v", err)
	}
	if _, _, err := r.Event(b[:30]); !errors.Is(err, ErrShort) {
		t.Errorf("half an event: %v", err)
	}
}

func pack(b []byte) []byte {
	out := []byte{0x82, byte(len(b) >> 8), byte(len(b))}
	var z bytes.Buffer
	w := zlib.NewWriter(&z)
	_, _ = w.Write(b)
	_ = w.Close()
	return append(out, z.Bytes()...)
}

func TestStatements(t *testing.T) {
	head := append([]byte{1, 0, 0, 0, 0, 0, 0, 0, 4, 0, 0, 2, 0, 0xaa, 0xbb}, "shop\x00"...)
	for typ, text := range map[Type][]byte{TypeQuery: []byte("TRUNCATE hives"),
		TypeQueryCompressed: pack([]byte("TRUNCATE hives"))} {
		q, err := DecodeQuery(typ, append(append([]byte{}, head...), text...))
		if err != nil || q.Database != "shop" || q.SQL != "TRUNCATE hives" {
			t.Errorf("%d: %+v (%v)", typ, q, err)
		}
	}
	if _, err := DecodeQuery(TypeQueryCompressed, append(append([]byte{}, head...), 0x81, 200, 1, 2)); err == nil {
		t.Error("a broken compressed statement was read")
	}
	two := append([]byte{6, 0, 0, 0, 0, 0, 0, 0, 3, 0, 0, 0, 2 | 64, 1, 2, 3, 4, 5, 6, 7, 8, 9, 0, 0, 0, 4, 1}, "honey"...)
	if g, err := DecodeGtid(two); err != nil || !g.Prepared || g.Completed ||
		g.XID != (XID{Format: 9, Global: 4, Data: "honey"}) || g.XID.String() != "X'686f6e65',X'79',9" {
		t.Errorf("%+v, %v", g, err)
	}
	if _, err := DecodeGtid(two[:len(two)-1]); err == nil {
		t.Error("a name that is cut short")
	}
	g, err := DecodeGtid([]byte{5, 0, 0, 0, 0, 0, 0, 0, 3, 0, 0, 0, 1 | 32})
	if err != nil || g.Sequence != 5 || g.Domain != 3 || !g.Standalone || !g.DDL || g.Prepared {
		t.Errorf("%+v (%v)", g, err)
	}
	rot, err := DecodeRotate(append([]byte{4, 0, 0, 0, 0, 0, 0, 0}, "log.000012"...))
	if err != nil || rot.File != "log.000012" || rot.Position != 4 {
		t.Errorf("%+v (%v)", rot, err)
	}
}

// one reads a single value of a column.
func one(t *testing.T, k Column, raw ...byte) string {
	t.Helper()
	out, err := k.appendText(nil, &cursor{b: raw})
	if err != nil {
		t.Fatalf("type %d: %v", k.Type, err)
	}
	return string(out)
}

func TestValuesOfEveryType(t *testing.T) {
	f32 := binary.LittleEndian.AppendUint32(nil, math.Float32bits(0.1))
	f64 := binary.LittleEndian.AppendUint64(nil, math.Float64bits(-1e300))
	for _, c := range []struct {
		name string
		k    Column
		raw  []byte
		want string
	}{
		{"tiny", Column{Type: ColTiny}, []byte{0xff}, "-1"},
		{"tiny, unsigned", Column{Type: ColTiny, Unsigned: true}, []byte{0xff}, "255"},
		{"short", Column{Type: ColShort}, []byte{0, 0x80}, "-32768"},
		{"medium", Column{Type: ColInt24}, []byte{0xff, 0xff, 0xff}, "-1"},
		{"medium, unsigned", Column{Type: ColInt24, Unsigned: true}, []byte{0xff, 0xff, 0xff}, "16777215"},
		{"long", Column{Type: ColLong}, []byte{1, 0, 0, 0}, "1"},
		{"longlong, unsigned", Column{Type: ColLongLong, Unsigned: true}, bytes.Repeat([]byte{0xff}, 8),
			"18446744073709551615"},
		{"float", Column{Type: ColFloat, Meta: 4}, f32, "0.1"},
		{"double", Column{Type: ColDouble, Meta: 8}, f64, "-1e+300"},
		{"decimal(10,4)", Column{Type: ColNewDecimal, Meta: 10<<8 | 4}, []byte{0x80, 0x04, 0xd2, 0x16, 0x2e}, "1234.5678"},
		{"decimal(10,4) below zero", Column{Type: ColNewDecimal, Meta: 10<<8 | 4}, []byte{0x7f, 0xfb, 0x2d, 0xe9, 0xd1},
			"-1234.5678"},
		{"decimal(2,2)", Column{Type: ColNewDecimal, Meta: 2<<8 | 2}, []byte{0x80 | 5}, "0.05"},
		{"year", Column{Type: ColYear}, []byte{126}, "2026"},
		{"year zero", Column{Type: ColYear}, []byte{0}, "0000"},
		{"date", Column{Type: ColDate}, []byte{0x77, 0xd4, 0x0f}, "2026-03-23"},
		{"old time", Column{Type: ColTime}, []byte{0x59, 0x0a, 0x80}, "-838:59:59"},
		{"bit(11)", Column{Type: ColBit, Meta: 1<<8 | 3}, []byte{7, 0xff}, "2047"},
		{"enum", Column{Type: ColEnum, Meta: 1}, []byte{3}, "3"},
		{"set", Column{Type: ColSet, Meta: 2}, []byte{5, 1}, "261"},
		{"varchar", Column{Type: ColVarchar, Meta: 40}, append([]byte{3}, "öl"...), "öl"},
		{"long varchar", Column{Type: ColVarchar, Meta: 400}, append([]byte{2, 0}, "ab"...), "ab"},
		{"blob", Column{Type: ColBlob, Meta: 2}, []byte{2, 0, 0, 255}, "\x00\xff"},
		{"timestamp zero", Column{Type: ColTimestamp2, Meta: 3}, []byte{0, 0, 0, 0, 0, 0}, "0000-00-00 00:00:00.000"},
		{"timestamp", Column{Type: ColTimestamp2}, []byte{0x65, 0x53, 0xf1, 0x00}, "2023-11-14 22:13:20"},
	} {
		if got := one(t, c.k, c.raw...); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func TestRowsNeedTheirMap(t *testing.T) {
	r := Reader{}
	table := &Table{ID: 42, Database: "shop", Name: "jars", Columns: []Column{{Type: ColLong}, {Type: ColVarchar, Meta: 20,
		Nullable: true}, {Type: ColEnum, Meta: 1}, {Type: ColString, Meta: 900}}}
	got, err := r.TableMap(table.AppendMap(nil))
	if err != nil || got.Name != "jars" || len(got.Columns) != 4 {
		t.Fatalf("%+v (%v)", got, err)
	}
	for i, k := range got.Columns {
		if k != table.Columns[i] {
			t.Errorf("column %d: %+v, want %+v", i, k, table.Columns[i])
		}
	}
	head := []byte{42, 0, 0, 0, 0, 0, 1, 0, 4, 0x0f, 0x0f}
	rows := []byte{0, 1, 0, 0, 0, 2, 'a', 'b', 2, 1, 0, 'x'} // before
	rows = append(rows, 2, 1, 0, 0, 0, 1, 0, 0)              // after: the second column NULL, an empty text
	for typ, data := range map[Type][]byte{TypeUpdateRows: rows, TypeUpdateRowsPacked: pack(rows)} {
		x, err := r.Rows(typ, append(append([]byte{}, head...), data...))
		if err != nil || x.Kind != TypeUpdateRows || !x.Last {
			t.Fatalf("%+v (%v)", x, err)
		}
		var before, after []Value
		var text []byte
		more, err := x.Next(&before, &after, &text)
		if err != nil || !more || string(before[1].Data) != "ab" || string(before[2].Data) != "2" ||
			string(before[3].Data) != "x" || !after[1].Null || string(after[0].Data) != "1" || len(after[3].Data) != 0 {
			t.Errorf("%d: before %+v, after %+v (%v)", typ, before, after, err)
		}
		if more, err := x.Next(&before, &after, &text); more || err != nil {
			t.Errorf("a second row comes out of one (%v)", err)
		}
	}
	if _, err := r.Rows(TypeWriteRows, []byte{41, 0, 0, 0, 0, 0, 0, 0, 1, 1}); err == nil || !strings.Contains(err.Error(),
		"before its map") {
		t.Errorf("rows without a map: %v", err)
	}
}

// FuzzEvents: whatever comes, nothing panics and nothing runs away.
func FuzzEvents(f *testing.F) {
	table := &Table{ID: 1, Database: "d", Name: "t", Columns: []Column{{Type: ColLong}, {Type: ColVarchar, Meta: 300,
		Nullable: true}, {Type: ColNewDecimal, Meta: 20<<8 | 6}, {Type: ColDatetime2, Meta: 6}, {Type: ColTime2, Meta: 3},
		{Type: ColBlob, Meta: 4}}}
	f.Add(byte(TypeTableMap), table.AppendMap(nil))
	f.Add(byte(TypeWriteRows), []byte{1, 0, 0, 0, 0, 0, 1, 0, 6, 0x3f, 0, 1, 0, 0, 0, 1, 0, 'a'})
	f.Add(byte(TypeQueryCompressed), pack([]byte("BEGIN")))
	f.Add(byte(TypeFormat), make([]byte, 80))
	for _, e := range recorded(f) {
		f.Add(byte(e.h.Type), e.body)
	}
	f.Fuzz(func(t *testing.T, typ byte, body []byte) {
		r := Reader{}
		if _, err := r.TableMap(table.AppendMap(nil)); err != nil {
			t.Fatal(err)
		}
		_, body, err := r.Event(event(Type(typ), body, false))
		if err != nil {
			return
		}
		switch k := Type(typ); k {
		case TypeFormat:
			_, _ = r.Format(body)
		case TypeTableMap:
			_, _ = r.TableMap(body)
		case TypeGtid:
			_, _ = DecodeGtid(body)
		case TypeRotate:
			_, _ = DecodeRotate(body)
		case TypeQuery, TypeQueryCompressed:
			_, _ = DecodeQuery(k, body)
		default:
			x, err := r.Rows(k, body)
			if err != nil {
				return
			}
			var before, after []Value
			var text []byte
			for n := 0; ; n++ {
				more, err := x.Next(&before, &after, &text)
				if err != nil || !more {
					return
				}
				if n > len(body)*9 {
					t.Fatal("more rows than bytes")
				}
			}
		}
	})
}

// FuzzAnyTable: rows of a table that the log itself makes up, of whatever types and sizes.
func FuzzAnyTable(f *testing.F) {
	table := &Table{ID: 1, Database: "d", Name: "t", Columns: []Column{{Type: ColDatetime2, Meta: 9},
		{Type: ColTime2, Meta: 200}, {Type: ColTimestamp2, Meta: 7}, {Type: ColBlob, Meta: 8},
		{Type: ColNewDecimal, Meta: 3<<8 | 9}, {Type: ColBit, Meta: 0xffff}, {Type: ColEnum, Meta: 900}}}
	f.Add(table.AppendMap(nil), append([]byte{1, 0, 0, 0, 0, 0, 1, 0, 7, 0x7f, 0}, bytes.Repeat([]byte{0xff}, 90)...))
	for kind := range 256 {
		one := &Table{ID: 1, Database: "d", Name: "t", Columns: []Column{{Type: ColumnType(kind), Meta: 0x0909}}}
		f.Add(one.AppendMap(nil), append([]byte{1, 0, 0, 0, 0, 0, 1, 0, 1, 1, 0}, bytes.Repeat([]byte{0x7f}, 40)...))
	}
	f.Fuzz(func(t *testing.T, mapped, body []byte) {
		r := Reader{}
		if _, err := r.TableMap(mapped); err != nil {
			return
		}
		for _, kind := range []Type{TypeWriteRows, TypeUpdateRows, TypeDeleteRows, TypeWriteRowsPacked} {
			x, err := r.Rows(kind, body)
			if err != nil {
				continue
			}
			var before, after []Value
			var text []byte
			for n := 0; n <= len(body)*9; n++ {
				if more, err := x.Next(&before, &after, &text); err != nil || !more {
					break
				}
			}
		}
	})
}

// TestWhatIsSaidTakesNoRoom: a compressed part that becomes, or says that it becomes, very
// large is refused, and so are digits of a second that no column has.
func TestWhatIsSaidTakesNoRoom(t *testing.T) {
	var z bytes.Buffer
	w := zlib.NewWriter(&z)
	chunk := make([]byte, 1<<20)
	for range (largest >> 20) + 1 {
		if _, err := w.Write(chunk); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if z.Len() > 1<<20 {
		t.Fatalf("the bomb has %d bytes", z.Len())
	}
	for name, c := range map[string]struct {
		size uint32
		want string
	}{"it says so": {largest + 1<<20, "log_bin_compress"}, "it says less": {1000, "holds"}} {
		head := binary.BigEndian.AppendUint32([]byte{0x84}, c.size)
		if _, err := unpack(append(head, z.Bytes()...)); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, kind := range []ColumnType{ColTime2, ColDatetime2, ColTimestamp2} {
		c := cursor{b: bytes.Repeat([]byte{0x80}, 40)}
		if _, err := (Column{Type: kind, Meta: 9}).appendText(nil, &c); err == nil || !strings.Contains(err.Error(),
			"9 digits") {
			t.Errorf("type %d with 9 digits of a second: %v", kind, err)
		}
	}
}

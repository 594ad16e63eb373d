package folder

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/parquet-go/parquet-go"

	"dustyferry/internal/domain"
)

// TestParquetHoldsWhatItSays: of each type, what comes back is what was written, or it is refused.
func TestParquetHoldsWhatItSays(t *testing.T) {
	for typ, c := range map[string]struct{ takes, refuses []string }{
		"smallint": {[]string{"0", "-32768", "32767"}, []string{"32768", "1.0", "", "+1", "01"}},
		"integer":  {[]string{"-2147483648", "2147483647"}, []string{"2147483648"}},
		"bigint":   {[]string{"-9223372036854775808", "9223372036854775807"}, []string{"9223372036854775808"}},
		"real": {[]string{"1.5", "3.4028235e+38", "1e-45", "-0", "NaN", "Infinity", "-Infinity", "0.1"},
			[]string{"1e39", "0.10"}},
		"double precision": {[]string{"1e+20", "5e-324", "NaN", "-0", "0.1", "123456789.125"}, []string{"1e400", "x"}},
		"numeric(12,3)": {[]string{"0.000", "-0.001", "999999999.999", "1.500"},
			[]string{"1.5", "NaN", "1", "1.5000", "-0.000"}},
		"numeric(18,0)": {[]string{"0", "-999999999999999999"}, []string{"1.0", "9999999999999999999"}},
		"numeric":       {[]string{"1.50", "NaN", "123456789012345678901234567890.5"}, nil},
		"numeric(30,2)": {[]string{"1.50", "1234567890123456789012345678.00"}, nil},
		"date": {[]string{"0001-01-01", "1970-01-01", "9999-12-31", "1969-12-31"},
			[]string{"infinity", "0044-03-15 BC", "10000-01-01", "2026-02-30"}},
		"timestamp without time zone": {[]string{"0001-01-01 00:00:00", "1969-12-31 23:59:59.999999", "2026-05-01 10:07:00",
			"2026-05-01 10:07:00.5"}, []string{"infinity", "2026-05-01", "2026-05-01 10:07:00.50", "2026-05-01 10:07:00.1234567",
			"2026-05-01 24:00:00"}},
		"timestamp with time zone": {[]string{"2026-05-01 10:07:00+00", "2026-05-01 10:07:00.000001+00"},
			[]string{"2026-05-01 10:07:00+02", "-infinity"}},
		"time without time zone": {[]string{"00:00:00", "23:59:59.999999"}, []string{"24:00:00", "25:00:00"}},
		"uuid": {[]string{"00000000-0000-0000-0000-0000000000ff"},
			[]string{"x", "00000000-0000-0000-0000-0000000000FF"}},
		"bytea":   {[]string{`\x`, `\x00ff`}, []string{"00", `\x0`, `\xFF`}},
		"boolean": {[]string{"true", "false"}, nil},
		"jsonb":   {[]string{`"x"`, "null", "{\n}"}, nil},
		"text":    {[]string{"", "a\x01\n", "æ"}, nil},
	} {
		t.Run(typ, func(t *testing.T) {
			base := typ
			if typ[:3] == "num" {
				base = "numeric"
			}
			form := newParquet([]domain.Column{{Name: "z", Type: typ, BaseType: base},
				{Name: "a", Type: "bigint", BaseType: "bigint"}})
			var out bytes.Buffer
			to := form.encoder(&out)
			for i, v := range c.takes {
				if err := to.add([][]byte{[]byte(v), fmt.Append(nil, i)}); err != nil {
					t.Errorf("%q: %v", v, err)
				}
			}
			for _, v := range c.refuses {
				if err := to.add([][]byte{[]byte(v), nil}); !domain.IsKind(err, domain.ProblemConflict) {
					t.Errorf("%q: %v", v, err)
				}
			}
			if err := to.close(); err != nil {
				t.Fatal(err)
			}
			if got := readAll(t, form, out.Bytes()); !slices.Equal(got, c.takes) {
				t.Errorf("%q came back as %q", c.takes, got)
			}
			f, err := parquet.OpenFile(bytes.NewReader(out.Bytes()), int64(out.Len()))
			if err != nil || f.NumRows() != int64(len(c.takes)) || f.Schema().Fields()[0].Name() != "z" {
				t.Errorf("another reader: %v, %v", f.Schema(), err)
			}
		})
	}
}

// readAll are the texts of the first column.
func readAll(t *testing.T, form form, content []byte) (out []string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "x")
	if err := os.WriteFile(path, content, 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer func() { _ = f.Close() }()
	rows, end, err := form.rows(f, "")
	if err != nil {
		t.Fatal(err)
	}
	defer end()
	for {
		fields, err := rows.next()
		if err != nil {
			if !errors.Is(err, io.EOF) {
				t.Fatal(err)
			}
			return out
		}
		out = append(out, string(fields[0]))
	}
}

// TestGroupsOfRows: a large file has several, and rows that are cut off before they are written are in none.
func TestGroupsOfRows(t *testing.T) {
	form := newParquet([]domain.Column{{Name: "v", Type: "text", BaseType: "text"}})
	var out bytes.Buffer
	to := form.encoder(&out)
	value := bytes.Repeat([]byte("honey "), 4000)
	n := 0
	for to.(*parquetEncoder).group == 0 || n < 2*groupBytes/len(value) {
		if err := to.add([][]byte{value}); err != nil {
			t.Fatal(err)
		}
		n++
		if before := to.waiting(); n%10 == 0 {
			if err := to.add([][]byte{[]byte("never")}); err != nil {
				t.Fatal(err)
			}
			to.cut(before)
		}
		if to.full() {
			if err := to.flush(); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := to.close(); err != nil {
		t.Fatal(err)
	}
	f, err := parquet.OpenFile(bytes.NewReader(out.Bytes()), int64(out.Len()))
	if err != nil || f.NumRows() != int64(n) || len(f.RowGroups()) < 2 {
		t.Errorf("%d rows in %d groups, %v", f.NumRows(), len(f.RowGroups()), err)
	}
	for _, v := range readAll(t, form, out.Bytes()) {
		if v != string(value) {
			t.Fatalf("%.20q", v)
		}
	}
}

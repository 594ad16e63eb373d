package mariadb

import (
	"bytes"
	"fmt"
	"testing"

	"dustyferry/internal/domain"
)

// TestTextsByTheServersTables holds what the log's bytes become against what the server
// gives, for every byte of every character set of single bytes, and for wide ones.
func TestTextsByTheServersTables(t *testing.T) {
	d, db := open(t)
	charsets := d.charsets(t.Context())
	rows, err := db.QueryContext(t.Context(), "SELECT character_set_name FROM information_schema.character_sets WHERE "+
		"maxlen = 1 AND character_set_name <> 'binary' OR character_set_name IN ('ucs2', 'utf16', 'utf16le', 'utf32')")
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			t.Fatal(err)
		}
		names = append(names, n)
	}
	if len(names) < 20 {
		t.Fatalf("the server has %d character sets only", len(names))
	}
	for _, name := range names {
		n, err := newNormal(domain.Column{BaseType: "varchar", Type: "varchar(20)", Charset: name}, charsets)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		texts := [][]byte{}
		for b := range 256 {
			switch name {
			case "utf32":
				texts = append(texts, []byte{0, 1, 0xf3, byte(b)}, []byte{0, 0, byte(b), 0x41})
			case "utf16le":
				texts = append(texts, []byte{0x3c, 0xd8, byte(b), 0xdf}, []byte{byte(b), 0x04})
			case "ucs2", "utf16":
				texts = append(texts, []byte{0x04, byte(b)}, []byte{0xd8, 0x3c, 0xdf, byte(b)})
			default:
				texts = append(texts, []byte{'a', byte(b)})
			}
		}
		for _, x := range texts {
			var want []byte
			if err := db.QueryRowContext(t.Context(), fmt.Sprintf("SELECT CONVERT(CONVERT(x'%x' USING %s) USING utf8mb4)", x,
				name)).Scan(&want); err != nil || want == nil {
				continue // such a text cannot be in a column
			}
			if got, err := n.value(x); err != nil || !bytes.Equal(got, want) {
				t.Errorf("%s %x: %q, the server gives %q (%v)", name, x, got, want, err)
			}
		}
	}
}

// TestAddressesAsTheServerWritesThem holds texts of addresses against the server's.
func TestAddressesAsTheServerWritesThem(t *testing.T) {
	_, db := open(t)
	for _, x := range []string{"::", "::1", "::a00:9", "::10.0.0.9", "::ffff:10.0.0.9", "2001:db8::1", "1:2:3:0:5:6:7:8",
		"1:0:0:4:0:0:7:8", "::2:3:4:5:6:7:8", "1:2:3:4:5:6:7::",
		"::fffe:1.2.3.4", "0:0:0:0:0:1:102:304", "ffff::", "::0:ffff:0:1", "64:ff9b::192.0.2.33", "0:0:0:0:1::"} {
		var bin, want []byte
		if err := db.QueryRowContext(t.Context(), "SELECT INET6_ATON(?), CAST(CAST(? AS INET6) AS CHAR)", x, x).Scan(&bin,
			&want); err != nil {
			t.Fatal(x, err)
		}
		if len(bin) != 16 {
			continue
		}
		if got, _ := inet6Text(bytes.TrimRight(bin, "\x00")); !bytes.Equal(got, want) {
			t.Errorf("%s: %s, the server gives %s", x, got, want)
		}
	}
}

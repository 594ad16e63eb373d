package filekind

import (
	"strings"
	"testing"
)

// page is the beginning of a SQLite file.
func page(size uint16, journal byte, encoding byte) string {
	b := []byte("SQLite format 3\x00" + strings.Repeat("\x00", 84))
	b[16], b[17], b[18], b[59], b[98], b[99] = byte(size>>8), byte(size), journal, encoding, 0x12, 0x34
	return string(b)
}

// TestFilesAreCalledWhatTheyAre: by how they begin; what nothing opens comes with what can be done.
func TestFilesAreCalledWhatTheyAre(t *testing.T) {
	for _, c := range []struct{ head, want string }{
		{"", "empty file"},
		{page(4096, 2, 1), "SQLite database (pages of 4096 bytes, WAL, UTF-8, written by version 4660)"},
		{page(1, 1, 2), "SQLite database (pages of 65536 bytes, rollback journal, UTF-16le, written by version 4660)"},
		{page(512, 1, 0), "SQLite database (pages of 512 bytes, rollback journal, no table yet, written by version 4660)"},
		{"SQLite format 3\x00\x10", "SQLite database (cut off after its first bytes)"},
		{"SQLite format 4", "text"},
		{"PAR1\x15\x04", "Parquet file"},
		{"PARE\x15\x04", "Parquet file (encrypted)"},
		{"\x1f\x8b\x08", "gzip-compressed file"},
		{"\x28\xb5\x2f\xfd\x04", "zstd-compressed file"},
		{"PK\x03\x04\x14", "zip archive"},
		{"\x00\x01\x00\x00Standard Jet DB\x00\x01", "database of an office program"},
		{"\x00\x01\x00\x00Standard ACE DB\x00\x01", "database of an office program"},
		{"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "document of an older office program"},
		{"id,name\n1,kea\n", "text"},
		{"id;größe\n1;" + "\xc3", "text"}, // the last character is cut
		{"\xff\xfei\x00d\x00", "text"},
		{`{"id": 1}`, "file of JSON lines"}, {"\xef\xbb\xbf{\"id\": 1}\n{\"id\": 2}\n", "file of JSON lines"},
		{`{"note": "` + strings.Repeat("x", Enough), "file of JSON lines"}, // the line goes on
		{"{\n  \"id\": 1\n}\n", "document of JSON"}, {"[{\"id\": 1}]", "document of JSON"},
		{"[\n{\"id\": 1},", "document of JSON"}, {"{hive},kg\n1,2\n", "text"}, {"[hive],kg\n", "text"}, {"5\n", "text"},
		{"\x00\x01\x02", "file of an unknown kind"},
		{"\xa7\xf1\x88\x99\x02abc", "file of an unknown kind"},
		{"name;gr\xf6\xdfe\r\n1;2\r\n", "text (in another encoding than UTF-8)"},
	} {
		k := Of([]byte(c.head))
		if k.String() != c.want {
			t.Errorf("%.20q is a %s, not a %s", c.head, k, c.want)
		}
		if k.Advice == "" {
			t.Errorf("nothing says what can be done with a %s", k)
		}
	}
}

// TestArchives: what is in one says what it is.
func TestArchives(t *testing.T) {
	for names, want := range map[string]string{"a.txt": "zip archive", "": "zip archive",
		"[Content_Types].xml xl/workbook.xml": "workbook", "xl/workbook.bin": "workbook (in its binary form)",
		"mimetype content.xml META-INF/manifest.xml": "document in the OpenDocument form"} {
		if k := OfArchive(strings.Fields(names)); k.String() != want || k.Advice == "" {
			t.Errorf("%q is a %s, not a %s", names, k, want)
		}
	}
}

func FuzzOf(f *testing.F) {
	f.Add([]byte(page(4096, 1, 1)))
	f.Fuzz(func(_ *testing.T, head []byte) { _ = Of(head).String() })
}

// Package filekind says what a file is by how it begins, never by its name.
package filekind

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"unicode/utf8"
)

// Names of kinds.
const (
	SQLite       = "SQLite database"
	Parquet      = "Parquet file"
	Gzip         = "gzip-compressed file"
	Zstd         = "zstd-compressed file"
	Zip          = "zip archive"
	OpenDocument = "document in the OpenDocument form"
	Workbook     = "workbook"
	Access       = "database of an office program"
	OLE          = "document of an older office program"
	Text         = "text"
	Lines        = "file of JSON lines"
	JSON         = "document of JSON"
	Folder       = "folder of rows"
	Empty        = "empty file"
	Unknown      = "file of an unknown kind"
)

// Kind is what a file is.
type Kind struct {
	Name   string
	Detail string // what its first bytes say beyond that
	Advice string // what can be done with one, where nothing reads it
	Packed string // what it is packed as, "gzip" or "zstd"; the rest is of what is in it
}

// OfArchive says what a zip archive is that has these files in it, by what they are called there.
func OfArchive(names []string) Kind {
	has := func(name string) bool { return slices.Contains(names, name) }
	const asWorkbook = "save it as a workbook (.xlsx) with the program that made it"
	switch {
	case has("xl/workbook.xml"):
		return Kind{Name: Workbook, Advice: "it is opened by the engine workbook"}
	case has("xl/workbook.bin"):
		return Kind{Name: Workbook, Detail: "in its binary form", Advice: asWorkbook}
	case has("content.xml") && has("META-INF/manifest.xml"):
		return Kind{Name: OpenDocument, Advice: asWorkbook}
	}
	return Kind{Name: Zip, Advice: "unpack it, and give what was in it"}
}

// Whole reports whether such a file is read here and there, so that it must not be packed.
func (k Kind) Whole() bool { return k.Name == SQLite || k.Name == Parquet || k.Name == Workbook }

// Enough is how many of a file's first bytes [Of] needs.
const Enough = 4096

func (k Kind) String() string {
	out := k.Name
	if k.Detail != "" {
		out += " (" + k.Detail + ")"
	}
	if k.Packed != "" {
		out += ", packed by " + k.Packed
	}
	return out
}

// How texts of JSON begin, and the mark of UTF-8 that may stand before.
var (
	object = regexp.MustCompile("^(\xef\xbb\xbf)?\\{[ \t]*[\"}\r\n]")
	list   = regexp.MustCompile("^(\xef\xbb\xbf)?\\[\\s*[{\\[]")
	mark   = []byte("\xef\xbb\xbf")
)

// Of says what a file is that begins so. Sources: the formats' own documentations.
func Of(head []byte) Kind {
	switch {
	case len(head) == 0:
		return Kind{Name: Empty, Advice: "give a file with something in it"}
	case bytes.HasPrefix(head, []byte("SQLite format 3\x00")):
		return Kind{Name: SQLite, Detail: sqlite(head), Advice: "it is opened by the engine sqlite"}
	case bytes.HasPrefix(head, []byte("PAR1")):
		return Kind{Name: Parquet, Advice: "it is damaged, or was cut off; have it written anew"}
	case bytes.HasPrefix(head, []byte("PARE")):
		return Kind{Name: Parquet, Detail: "encrypted", Advice: "decrypt it with the program that made it"}
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		return Kind{Name: Gzip, Advice: "it is damaged, or something else is in it; unpack it (gunzip) to see what"}
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		return Kind{Name: Zstd, Advice: "it is damaged, or something else is in it; unpack it (zstd -d) to see what"}
	case bytes.HasPrefix(head, []byte("PK\x03\x04")):
		return Kind{Name: Zip, Advice: "unpack it, and give what was in it"}
	case len(head) > 19 && (bytes.HasPrefix(head[4:], []byte("Standard Jet DB")) ||
		bytes.HasPrefix(head[4:], []byte("Standard ACE DB"))):
		return Kind{Name: Access, Advice: "export its tables there, into a SQLite file or a database that is supported"}
	case bytes.HasPrefix(head, []byte{0xd0, 0xcf, 0x11, 0xe0, 0xa1, 0xb1, 0x1a, 0xe1}):
		return Kind{Name: OLE, Advice: "save it in the newer format there; if it is encrypted, without a password"}
	case text(head) && object.Match(head):
		line, _, whole := bytes.Cut(bytes.TrimPrefix(head, mark), []byte("\n"))
		if !whole && len(head) >= Enough || json.Valid(line) {
			return Kind{Name: Lines, Advice: "each line has to be one object"}
		}
		return Kind{Name: JSON, Advice: "write each of its objects on a line of its own"}
	case text(head) && list.Match(head):
		return Kind{Name: JSON, Advice: "write each of its objects on a line of its own"}
	case text(head):
		return Kind{Name: Text, Advice: "a file of rows has the same number of values in each, with commas, semicolons, " +
			"tabs or bars between them"}
	case !bytes.ContainsFunc(head, func(r rune) bool { return r < ' ' && r != '\t' && r != '\r' && r != '\n' }):
		return Kind{Name: Text, Detail: "in another encoding than UTF-8", Advice: "save it as UTF-8"}
	}
	return Kind{Name: Unknown,
		Advice: "if it is an encrypted SQLite file, decrypt it with the program that made it, into a " +
			"file of its own"}
}

// sqlite reads a database's first page.
func sqlite(head []byte) string {
	if len(head) < 100 {
		return "cut off after its first bytes"
	}
	size := int(binary.BigEndian.Uint16(head[16:]))
	if size == 1 {
		size = 65536
	}
	journal := map[byte]string{1: "rollback journal", 2: "WAL"}[head[18]]
	encoding := map[uint32]string{1: "UTF-8", 2: "UTF-16le", 3: "UTF-16be"}[binary.BigEndian.Uint32(head[56:])]
	if encoding == "" {
		encoding = "no table yet"
	}
	return fmt.Sprintf("pages of %d bytes, %s, %s, written by version %d", size, journal, encoding,
		binary.BigEndian.Uint32(head[96:]))
}

// text reports whether the bytes are readable text, of which the last character may be cut.
func text(head []byte) bool {
	if bytes.HasPrefix(head, []byte{0xff, 0xfe}) || bytes.HasPrefix(head, []byte{0xfe, 0xff}) {
		return true // UTF-16
	}
	if bytes.IndexByte(head, 0) >= 0 {
		return false
	}
	for cut := 0; cut < utf8.UTFMax && cut < len(head); cut++ {
		if utf8.Valid(head[:len(head)-cut]) {
			return true
		}
	}
	return false
}

package binlog

import (
	"bytes"
	"compress/zlib"
	"fmt"
	"io"
)

// Format is the first event of every log file.
type Format struct {
	Server    string // the server's version
	Checksums bool
}

// Format reads a format event and keeps what it says about checksums.
func (r *Reader) Format(body []byte) (Format, error) {
	c := cursor{b: body}
	version := c.uint(2)
	server := c.take(50)
	c.take(4) // when the file was made
	size := c.uint(1)
	if err := c.err(); err != nil {
		return Format{}, err
	}
	if version != 4 || size != headerSize {
		return Format{}, fmt.Errorf("binlog: format %d with headers of %d bytes is not known", version, size)
	}
	f := Format{Server: string(bytes.TrimRight(server, "\x00"))}
	// The lengths of the events' fixed parts follow, then the algorithm; a
	// checksum has been cut off already.
	if n := len(c.b); n > 0 {
		f.Checksums = c.b[n-1] == checksumAlgorithmCRC32
	}
	r.Checksums, r.Tables = f.Checksums, map[uint64]*Table{}
	return f, nil
}

// Rotate says where the log goes on.
type Rotate struct {
	File     string
	Position uint64
}

// DecodeRotate reads a rotate event.
func DecodeRotate(body []byte) (Rotate, error) {
	c := cursor{b: body}
	r := Rotate{Position: c.uint(8)}
	r.File = string(c.b)
	return r, c.err()
}

// Gtid begins a group of events: a transaction, or one statement by itself.
type Gtid struct {
	Domain     uint32
	Sequence   uint64
	Standalone bool // one statement without an end of its own, as DDL is
	DDL        bool
	Prepared   bool // ends with the prepare of a two-phase transaction
	Completed  bool // ends a two-phase transaction that was prepared before
	XID        XID  // of a prepared or completed one
}

// XID is the name that a transaction manager gives a two-phase transaction. Data is its
// global part, then its branch.
//
// Source: the XA specification of X/Open, and MariaDB's documentation of GTID_EVENT.
type XID struct {
	Format int32
	Global int // bytes of Data that are the global part
	Data   string
}

// String shows the name as a person writes it in a statement.
func (x XID) String() string {
	return fmt.Sprintf("X'%x',X'%x',%d", x.Data[:x.Global], x.Data[x.Global:], x.Format)
}

// DecodeGtid reads a GTID event.
func DecodeGtid(body []byte) (Gtid, error) {
	c := cursor{b: body}
	g := Gtid{Sequence: c.uint(8), Domain: uint32(c.uint(4))}
	flags := c.uint(1)
	g.Standalone, g.DDL = flags&1 != 0, flags&32 != 0
	g.Prepared, g.Completed = flags&64 != 0, flags&128 != 0
	if g.Prepared || g.Completed {
		if flags&2 != 0 {
			c.take(8) // which commits were made together
		}
		g.XID.Format, g.XID.Global = int32(c.uint(4)), int(c.uint(1))
		branch := int(c.uint(1))
		g.XID.Data = string(c.take(g.XID.Global + branch))
	}
	return g, c.err()
}

// Query is a statement in the log: the begin and end of a transaction, or DDL.
type Query struct {
	Database string
	SQL      string
	SQLMode  uint64 // of the session, as bits
	Charset  uint16 // the number of the collation that the session sent the statement in; 0: not said
}

// Bits of a query's SQLMode.
const (
	ModeAnsiQuotes  = 1 << 2
	ModeNoBackslash = 1 << 20
)

// status reads what a session had set (MariaDB source, log_event.h, Q_…_CODE), as far as it
// matters here; what comes after a kind that is not known is left.
func (q *Query) status(b []byte) {
	sizes := map[uint64]int{3: 4, 7: 2, 8: 2, 9: 8, 10: 4, 13: 3, 128: 3, 129: 8}
	c := cursor{b: b}
	for len(c.b) > 0 {
		switch kind := c.uint(1); kind {
		case 0:
			c.take(4)
		case 1:
			q.SQLMode = c.uint(8)
		case 4:
			q.Charset = uint16(c.uint(2))
			c.take(4)
		case 2:
			c.take(int(c.uint(1)) + 1)
		case 5, 6:
			c.take(int(c.uint(1)))
		default:
			n, known := sizes[kind]
			if !known {
				return
			}
			c.take(n)
		}
	}
}

// DecodeQuery reads a query event, also a compressed one, or that of a LOAD DATA.
func DecodeQuery(t Type, body []byte) (Query, error) {
	c := cursor{b: body}
	c.take(8) // thread and execution time
	name := int(c.uint(1))
	c.take(2) // error code
	vars := int(c.uint(2))
	if t == TypeExecuteLoad {
		c.take(13) // which file, and where its name stands in the statement
	}
	set := c.take(vars)
	q := Query{Database: string(c.take(name))}
	c.take(1)
	if err := c.err(); err != nil {
		return q, err
	}
	q.status(set)
	sql := c.b
	if t == TypeQueryCompressed {
		var err error
		if sql, err = unpack(sql); err != nil {
			return q, err
		}
	}
	q.SQL = string(sql)
	return q, nil
}

// DecodeXid reads the number a transaction was committed under.
func DecodeXid(body []byte) (uint64, error) {
	c := cursor{b: body}
	x := c.uint(8)
	return x, c.err()
}

// largest is the most that a compressed part may hold: a megabyte of it can become a
// gigabyte. Room is made as its bytes come, not by what it says.
const largest = 256 << 20

// unpack reads a compressed part: a byte with the algorithm and the length of the
// length, the length, big-endian, and zlib data.
func unpack(b []byte) ([]byte, error) {
	c := cursor{b: b}
	head := c.uint(1)
	size := c.big(int(head & 7))
	if err := c.err(); err != nil {
		return nil, err
	}
	switch {
	case head>>4 != 8:
		return nil, fmt.Errorf("binlog: compression %#x is not known", head)
	case size > largest:
		return nil, fmt.Errorf("binlog: a compressed event says that it holds %d bytes, and %d may be; turn "+
			"log_bin_compress off for rows as large as that", size, largest)
	}
	z, err := zlib.NewReader(bytes.NewReader(c.b))
	if err != nil {
		return nil, fmt.Errorf("binlog: a compressed event: %w", err)
	}
	var out bytes.Buffer
	n, err := io.Copy(&out, io.LimitReader(z, int64(size)+1))
	if err != nil {
		return nil, fmt.Errorf("binlog: a compressed event: %w", err)
	}
	if uint64(n) != size {
		return nil, fmt.Errorf("binlog: a compressed event holds %d bytes and says %d", n, size)
	}
	return out.Bytes(), nil
}

package mariadb

import (
	"bytes"
	"encoding/binary"
	"io"
	"strconv"
	"time"
)

// start asks for the log's events from a place on. The server sends a heartbeat
// when nothing has happened for a moment.
func (c *wire) start(file string, offset uint32, server uint32, annotated bool) error {
	for _, q := range []string{
		"SET @master_binlog_checksum = @@global.binlog_checksum",
		"SET @mariadb_slave_capability = 4",
		"SET @master_heartbeat_period = " + strconv.Itoa(int(heartbeat)),
		"SET SESSION net_write_timeout = 3600",
	} {
		if err := c.run(q); err != nil {
			return err
		}
	}
	b := []byte{commandBinlogDump}
	b = binary.LittleEndian.AppendUint32(b, offset)
	flags := byte(0)
	if annotated {
		flags = dumpAnnotations
	}
	b = append(b, flags, 0)
	b = binary.LittleEndian.AppendUint32(b, server)
	c.seq = 0
	return c.send(append(b, file...))
}

// dumpAnnotations has the server send the texts of the statements that changed rows.
const dumpAnnotations = 2

// heartbeat is how long the server waits before it says that nothing happened.
const heartbeat = 200 * time.Millisecond

// event reads the next event.
func (c *wire) event() ([]byte, error) {
	// A server that says nothing for far longer than a heartbeat is gone.
	_ = c.net.SetReadDeadline(time.Now().Add(30 * time.Second))
	b, err := c.packet()
	switch {
	case err != nil:
		return nil, err
	case len(b) == 0:
		return nil, io.ErrUnexpectedEOF
	case b[0] == 0xff:
		return nil, serverSaid(b)
	case b[0] == 0xfe && len(b) < 9:
		return nil, io.EOF
	}
	return bytes.Clone(b[1:]), nil // what is made of it may outlive the next
}

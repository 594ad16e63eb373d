package mariadb

import (
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"

	"github.com/go-sql-driver/mysql"

	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/binlog"
)

// gtid is a transaction's name, the same in the logs of all servers that carry it.
type gtid struct {
	domain, server uint32
	sequence       uint64
}

// gtids keeps which transactions ended where, until they are asked for.
type gtids struct {
	mu    sync.Mutex
	at    map[uint32]gtid // the last of each domain, at the last place asked for
	after []ending
}

type ending struct {
	at domain.Position
	of gtid
}

func (w *gtids) ended(at domain.Position, of gtid) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if of.sequence != 0 { // a server without such names, or before the first
		w.after = append(w.after, ending{at, of})
	}
}

func (w *gtids) upTo(at domain.Position) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	n := 0
	for ; n < len(w.after) && !w.after[n].at.After(at); n++ {
		w.at[w.after[n].of.domain] = w.after[n].of
	}
	w.after = w.after[:copy(w.after, w.after[n:])]
	return gtidText(w.at)
}

// gtidText writes a GTID as the server writes it: domain-server-sequence,
// with a comma between domains.
func gtidText(at map[uint32]gtid) string {
	var out []string
	for _, d := range slices.Sorted(maps.Keys(at)) {
		out = append(out, fmt.Sprintf("%d-%d-%d", at[d].domain, at[d].server, at[d].sequence))
	}
	return strings.Join(out, ",")
}

// parseGTIDs reads what gtidText, or the server, wrote.
func parseGTIDs(text string) (map[uint32]gtid, error) {
	at := map[uint32]gtid{}
	for part := range strings.SplitSeq(text, ",") {
		var g gtid
		part = strings.TrimSpace(part)
		if part == "" {
			continue
		}
		if n, err := fmt.Sscanf(part, "%d-%d-%d", &g.domain, &g.server, &g.sequence); err != nil || n != 3 ||
			part != fmt.Sprintf("%d-%d-%d", g.domain, g.server, g.sequence) {
			return nil, domain.Invalid("%q is no place in a MariaDB log by GTID; write it as domain-server-sequence, such as "+
				"0-1-2718, with commas between domains", text)
		}
		at[g.domain] = g
	}
	return at, nil
}

// gtidsAt asks the server for the GTID of a place in its log.
func (d *database) gtidsAt(ctx context.Context, file string, offset uint64) (map[uint32]gtid, error) {
	var text sql.NullString
	if err := d.pool.QueryRowContext(ctx, "SELECT binlog_gtid_pos(?, ?)", file, offset).Scan(&text); err != nil {
		return nil, d.explain(err)
	}
	return parseGTIDs(text.String)
}

// ResolveGTID asks the server for its log from the GTID on, and sees where the first
// transaction begins that it sends. The server itself holds the GTID against its
// log, strictly: one that is not in it, or that another history leads away from, is
// refused.
//
// Source: MariaDB's replication protocol, COM_BINLOG_DUMP with @slave_connect_state.
func (d *database) ResolveGTID(ctx context.Context, portable string) (domain.Position, error) {
	want, err := parseGTIDs(portable)
	if err != nil {
		return domain.Position{}, err
	}
	if len(want) == 0 {
		return domain.Position{},
			domain.Conflict("no GTID is known of what was applied last; restart the crossing to load from this server")
	}
	// A log that has not come so far yet is taken by the server for one that waits.
	var text string
	if err := d.pool.QueryRowContext(ctx, "SELECT @@global.gtid_binlog_pos").Scan(&text); err != nil {
		return domain.Position{}, d.explain(err)
	}
	have, err := parseGTIDs(text)
	if err != nil {
		return domain.Position{}, err
	}
	for n, g := range want {
		if have[n].sequence < g.sequence {
			return domain.Position{},
				domain.Conflict("this server's log does not lead on from %s: it ends at %q. It is no copy of the first "+
					"one, or lacks what was applied already", portable, text)
		}
	}
	end, err := d.now(ctx) // whatever comes after the GTID comes after this, if none is sent
	if err != nil {
		return domain.Position{}, err
	}
	c, err := d.dial(ctx)
	if err != nil {
		return domain.Position{}, err
	}
	defer c.close()
	for _, q := range []string{
		"SET @master_binlog_checksum = @@global.binlog_checksum", "SET @mariadb_slave_capability = 4",
		"SET @slave_connect_state = '" + portable + "'", "SET @slave_gtid_strict_mode = 1",
	} {
		if err := c.run(q); err != nil {
			return domain.Position{}, d.explain(err)
		}
	}
	h := fnv.New32a()
	_, _ = h.Write([]byte("place of " + portable))
	b := binary.LittleEndian.AppendUint32([]byte{commandBinlogDump}, 4)
	b = append(b, dumpNoWait, 0)
	b = binary.LittleEndian.AppendUint32(b, h.Sum32()|1<<31)
	c.seq = 0
	if err := c.send(b); err != nil {
		return domain.Position{}, d.explain(err)
	}
	var r binlog.Reader
	if err := d.pool.QueryRowContext(ctx, "SELECT @@global.binlog_checksum = 'CRC32'").Scan(&r.Checksums); err != nil {
		return domain.Position{}, d.explain(err)
	}
	file := end.Number() >> fileBits
	for {
		b, err := c.event()
		var se *mysql.MySQLError
		switch {
		case errors.Is(err, io.EOF):
			return end, nil
		case errors.As(err, &se):
			return domain.Position{},
				domain.Conflict("this server's log does not lead on from %s (%s): it is no copy of the first one, or "+
					"has removed that part of its log", portable, se.Message)
		case err != nil:
			return domain.Position{}, d.explain(err)
		}
		head, body, err := r.Event(b)
		if err != nil {
			return domain.Position{}, err
		}
		switch head.Type {
		case binlog.TypeFormat:
			if _, err := r.Format(body); err != nil {
				return domain.Position{}, err
			}
		case binlog.TypeRotate:
			to, err := binlog.DecodeRotate(body)
			if err != nil {
				return domain.Position{}, err
			}
			if file, err = fileNumber(to.File); err != nil {
				return domain.Position{}, err
			}
		case binlog.TypeGtid:
			return position(file, uint64(head.Next-head.Size)), nil
		}
	}
}

// dumpNoWait ends the stream where the log ends.
const dumpNoWait = 1

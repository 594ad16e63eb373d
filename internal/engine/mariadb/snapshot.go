package mariadb

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/binlog"
)

// Snapshots, and where in the binary log they stand.
//
// The server writes the end of a two-phase transaction into its log first and makes its
// rows visible a moment later, outside the order in which it counts snapshots' places: a
// snapshot can stand behind the end and not see the rows. So each is taken between two
// looks at what is prepared. Those names are unique, as the XA specification demands.

const (
	// quickTries is how often a snapshot is taken anew so that no two-phase transaction is
	// just ending.
	quickTries = 15
	// standing is how long a transaction must have been seen prepared to be sure that it is
	// not just ending.
	standing = time.Second
	// longest is how long a moment is waited for in which none is ending.
	longest = 15 * time.Second
)

// shot is a snapshot that was just opened, and what was prepared before and after.
type shot struct {
	at     domain.Position
	before []binlog.XID
	after  []binlog.XID
	still  bool // no two-phase transaction began to commit meanwhile
}

// snapshot opens a consistent read on a connection of its own and returns where
// in the binary log it stands: with exact, it sees exactly the transactions before.
func (d *database) snapshot(ctx context.Context, exact bool) (*wire, domain.Position, error) {
	c, err := d.dial(ctx, reading...)
	if err != nil {
		return nil, domain.Position{}, err
	}
	s, err := d.begin(ctx, c, exact)
	if err != nil {
		c.close()
		return nil, domain.Position{}, d.explain(err)
	}
	return c, s.Log, nil
}

// begin opens a snapshot and returns what it sees. Two-phase transactions that may just be
// ending, and that it then does not see, are named in it; with certain there are none.
func (d *database) begin(ctx context.Context, c *wire, certain bool) (domain.Snapshot, error) {
	began := time.Now()
	for try := 0; ; try++ {
		s, err := c.shoot(ctx)
		if err != nil {
			return domain.Snapshot{}, err
		}
		ending, still := d.prepared.ending(s, time.Now())
		switch {
		case still && len(ending) == 0:
			return domain.Snapshot{Log: s.at}, nil
		case still && !certain && try >= quickTries:
			return domain.Snapshot{Log: s.at, Running: ending}, nil
		case time.Since(began) > longest:
			return domain.Snapshot{}, domain.Unavailable(nil, "two-phase transactions (XA) are ending on the source without a "+
				"pause, so that no moment between them was found within %s", longest)
		}
		if err := c.rows(ctx, "ROLLBACK", nil); err != nil {
			return domain.Snapshot{}, err
		}
		if try >= quickTries {
			select {
			case <-ctx.Done():
				return domain.Snapshot{}, ctx.Err()
			case <-time.After(time.Duration(try%7) * time.Millisecond): // not in step with who ends them
			}
		}
	}
}

// shoot opens a snapshot, in as little time as there can be between the two looks.
func (c *wire) shoot(ctx context.Context) (shot, error) {
	const look, count = "XA RECOVER", "SHOW GLOBAL STATUS LIKE 'Com_xa_commit'"
	var s shot
	var counts []string
	var file, offset string
	err := c.together(ctx, []string{count, look, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY", look, count,
		"SHOW STATUS LIKE 'binlog_snapshot_%'"}, func(i int, f [][]byte) error {
		switch i {
		case 0, 4:
			counts = append(counts, string(f[1]))
		case 1, 3:
			x, err := parseXID(f)
			if err != nil {
				return err
			}
			if i == 1 {
				s.before = append(s.before, x)
			} else {
				s.after = append(s.after, x)
			}
		case 5:
			switch strings.ToLower(string(f[0])) {
			case "binlog_snapshot_file":
				file = string(f[1])
			case "binlog_snapshot_position":
				offset = string(f[1])
			}
		}
		return nil
	})
	if err != nil {
		return s, err
	}
	s.still = len(counts) == 2 && counts[0] == counts[1]
	number, err := fileNumber(file)
	if err != nil {
		return s, domain.Conflict("the server writes no binary log, so the place of a snapshot in it is not known; set " +
			"log_bin and restart the server")
	}
	n, err := strconv.ParseUint(offset, 10, 64)
	s.at = position(number, n)
	return s, err
}

// parseXID reads a row of XA RECOVER: format, lengths of the two parts, and both.
func parseXID(f [][]byte) (binlog.XID, error) {
	if len(f) < 4 {
		return binlog.XID{}, fmt.Errorf("XA RECOVER gave %d columns", len(f))
	}
	format, err1 := strconv.ParseInt(string(f[0]), 10, 64)
	global, err2 := strconv.Atoi(string(f[1]))
	if err1 != nil || err2 != nil || global > len(f[3]) {
		return binlog.XID{}, fmt.Errorf("XA RECOVER gave %q, %q", f[0], f[1])
	}
	return binlog.XID{Format: int32(format), Global: global, Data: string(f[3])}, nil
}

// Prepared gives the statements that would commit the two-phase transactions of the whole
// server that wait for their end.
func (d *database) PreparedTransactions(ctx context.Context, _ []domain.TablePlan) ([]string, error) {
	var out []string
	err := d.briefly(ctx, func(c *wire) error {
		out = nil
		return c.rows(ctx, "XA RECOVER", func(f [][]byte) error {
			x, err := parseXID(f)
			out = append(out, "XA COMMIT "+x.String())
			return err
		})
	})
	return out, err
}

// seen remembers since when transactions have been prepared.
type seen struct {
	mu    sync.Mutex
	since map[binlog.XID]time.Time
}

// ending names those that may have been ending while the snapshot was opened, ascending;
// still says that none of them ended just then, so that none of them is seen by it.
func (p *seen) ending(s shot, now time.Time) (names []uint64, still bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	before := map[binlog.XID]time.Time{}
	still = s.still
	for _, x := range s.before {
		at, known := p.since[x]
		if !known {
			at = now
		}
		before[x] = at
		if !slices.Contains(s.after, x) {
			still = false
		}
		if now.Sub(at) < standing {
			names = append(names, nameOf(x))
		}
	}
	p.since = before
	slices.Sort(names)
	return names, still
}

// fileNumber is the number behind the last dot of a log file's name.
func fileNumber(name string) (uint64, error) {
	return strconv.ParseUint(name[strings.LastIndexByte(name, '.')+1:], 10, 32)
}

package postgres

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgcopy"
)

type reader struct {
	d       *database
	conn    *pgconn.PgConn
	block   []byte          // what is read at a time
	gathers []byte          // what is handed on at a time, to a target of another engine
	seen    domain.Position // where the log stood when the snapshot had been taken
}

// OpenReader opens a connection for reading chunks.
func (d *database) OpenReader(ctx context.Context) (engine.Reader, error) {
	conn, err := d.connect(ctx, nil)
	if err != nil {
		return nil, err
	}
	return &reader{d: d, conn: conn.PgConn(), block: make([]byte, blockSize)}, nil
}

func (r *reader) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), closeGrace)
	defer cancel()
	_ = r.conn.Close(ctx)
}

// Begin opens the chunk's snapshot. The log position is read inside the same
// statement, after its snapshot was taken, so every commit the snapshot sees
// lies before it.
func (r *reader) Begin(ctx context.Context) (domain.Snapshot, error) {
	res, err := r.conn.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SELECT "+r.d.snapshotFunction()+
		"::text, (CASE WHEN pg_is_in_recovery() THEN pg_last_wal_replay_lsn() "+
		"ELSE pg_current_wal_insert_lsn() END)::text").ReadAll()
	if err != nil {
		return domain.Snapshot{}, r.d.explain(err)
	}
	row := res[len(res)-1].Rows[0]
	s, err := parseSnapshot(string(row[0]))
	if err != nil {
		return s, err
	}
	s.Log, err = parseLSN(string(row[1]))
	r.seen = s.Log
	return s, err
}

// parseSnapshot reads xmin:xmax:running,running,…
func parseSnapshot(text string) (domain.Snapshot, error) {
	var s domain.Snapshot
	part := strings.Split(text, ":")
	if len(part) != 3 {
		return s, fmt.Errorf("the server gave the snapshot %q", text)
	}
	var err1, err2 error
	s.Xmin, err1 = strconv.ParseUint(part[0], 10, 64)
	s.Xmax, err2 = strconv.ParseUint(part[1], 10, 64)
	if err := errors.Join(err1, err2); err != nil {
		return s, err
	}
	if part[2] != "" {
		for x := range strings.SplitSeq(part[2], ",") {
			id, err := strconv.ParseUint(x, 10, 64)
			if err != nil {
				return s, err
			}
			s.Running = append(s.Running, id)
		}
	}
	return s, nil
}

// Copy reads the chunk's rows in the open snapshot. What sink gets are the
// server's own CopyData frames, cut anywhere, to be written to a target as they
// are. Memory is a few blocks however wide a row is.
func (r *reader) Copy(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, binary bool,
	sink func([]byte) error) (rowhash.Sum, error) {
	switch {
	case p.CrossEngine && binary:
		return r.copyPacked(ctx, p, c, sink)
	case p.CrossEngine:
		return r.copyTexts(ctx, p, c, sink)
	}
	sql := fmt.Sprintf("COPY (SELECT %s FROM %s%s) TO STDOUT (FORMAT %s)",
		quoteAll(columnNames(p.CopiedColumns())), from(p), chunkRange(p, c), format(p))
	w, err := takeWire(ctx, r.conn)
	if err != nil {
		return rowhash.Sum{}, err
	}
	f := pgcopy.Frames{Binary: p.Binary}
	if err := w.copyOut(sql, &f, r.block, sink); err != nil {
		w.cut()
		if ctx.Err() != nil {
			err = ctx.Err()
		}
		return rowhash.Sum{}, fmt.Errorf("reading %s: %w", p.Source, r.d.explain(err))
	}
	if r.conn, err = w.giveBack(); err != nil {
		return rowhash.Sum{}, err
	}
	return f.Sum, r.samePages(ctx, p, c)
}

// copyOut runs a COPY TO STDOUT until the server is ready again, and reads into buf.
func (w *wire) copyOut(sql string, f *pgcopy.Frames, buf []byte, sink func([]byte) error) error {
	if err := w.query(sql); err != nil {
		return err
	}
	var ctl control
	data := false    // row data follows, as against control messages
	copying := false // it may yet come
	for {
		filled, ready := 0, false
		// Fill the block before handing it on, so that it is written in one go.
		for filled < len(buf) && !ready {
			n, err := w.on.Read(buf[filled:])
			if err != nil {
				return err
			}
			piece := buf[filled : filled+n]
			if data {
				took, err := f.Feed(piece)
				filled += took
				if err == nil {
					continue
				}
				if !errors.Is(err, pgcopy.ErrEnd) {
					return err
				}
				piece, data = piece[took:], false
			}
			for len(piece) > 0 && !ready {
				if data {
					copy(buf[filled:], piece) // move row data up to where the block begins
					took, err := f.Feed(buf[filled : filled+len(piece)])
					filled += took
					if err == nil {
						piece = nil
						continue
					}
					if !errors.Is(err, pgcopy.ErrEnd) {
						return err
					}
					piece, data = append([]byte{}, buf[filled:filled+len(piece)-took]...), false
				}
				took, kind, err := ctl.feed(piece)
				if err != nil {
					return err
				}
				piece = piece[took:]
				switch kind {
				case 'H':
					copying, data = true, true
				case 'N', 'S', 'A':
					data = copying // a word in between; rows go on
				case 'c', 'C', 'E':
					copying = false
				case 'Z':
					ready = true
				case 0: // not whole yet
				default:
					return fmt.Errorf("the server sent a message of the kind %q amid rows", kind)
				}
			}
		}
		if filled > 0 {
			if err := sink(buf[:filled]); err != nil {
				return err
			}
		}
		if ready {
			return ctl.copied(f.Sum.Rows)
		}
		w.on.Gather() // a whole block came, so there will be more
	}
}

// Rows reads the chunk row by row.
func (r *reader) Rows(ctx context.Context, p *domain.TablePlan, c *domain.Chunk, take func(fields [][]byte,
	refused error) error) error {
	cols := p.CopiedColumns()
	if p.CrossEngine {
		cols = p.ComparedColumns()
	}
	w := newWriting(p)
	var fields [][]byte
	var stop error
	err := copyTo(ctx, r.conn, &rowSink{row: func(row []byte) error {
		if fields, stop = pgcopy.Fields(fields[:0], row); stop != nil {
			return stop
		}
		if out, refused := w.row(fields); refused != nil {
			stop = take(fields, refused)
		} else {
			stop = take(out, nil)
		}
		return stop
	}}, fmt.Sprintf("COPY (SELECT %s FROM %s%s) TO STDOUT (FORMAT binary)", textList(cols), from(p),
		chunkRange(p, c)))
	switch {
	case stop != nil:
		return stop
	case err != nil:
		return fmt.Errorf("reading %s: %w", p.Source, r.d.explain(err))
	}
	return r.samePages(ctx, p, c)
}

// flushWait bounds the wait for the source to make durable what was read.
const flushWait = 30 * time.Second

// flush takes everything before it to the server's own disk; a standby's answer is not waited
// for.
const flush = "BEGIN; SET LOCAL synchronous_commit = local; SELECT pg_logical_emit_message(true, " +
	"'dusty_ferry_flush', ''); COMMIT"

// End closes the snapshot, and waits until the source has made durable what it saw: a source
// that commits asynchronously can forget rows in a crash that were read here, and the next
// transactions take the numbers of those that it forgot.
func (r *reader) End(ctx context.Context) error {
	durable := "SELECT pg_is_in_recovery() OR pg_current_wal_flush_lsn() >= " + literal(lsn(r.seen)) + "::pg_lsn"
	res, err := r.conn.Exec(ctx, "COMMIT; "+durable).ReadAll()
	for began := time.Now(); err == nil; res, err = r.conn.Exec(ctx, durable).ReadAll() {
		if string(res[len(res)-1].Rows[0][0]) == "t" {
			return nil
		}
		if time.Since(began) > flushWait {
			return domain.Unavailable(nil, "the source has not made durable within %s what was read from it; see its "+
				"synchronous_commit and wal_writer_delay", flushWait)
		}
		// A commit of our own that waits for the disk takes all before it along. Where that is
		// not allowed, the server does it by itself before long.
		if _, refused := r.conn.Exec(ctx, flush).ReadAll(); refused != nil {
			_, _ = r.conn.Exec(ctx, "ROLLBACK").ReadAll()
			time.Sleep(20 * time.Millisecond)
		}
	}
	return r.d.explain(err)
}

package mariadb

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/bindvalue"
	"dustyferry/internal/protocol/resultset"
)

// Rows land as parameters of a prepared INSERT, thousands at a time (MariaDB documentation,
// "COM_STMT_BULK_EXECUTE"): the server makes no numbers and times of texts, and no columns of
// a file's lines, which costs it a fifth less than LOAD DATA does. It is done on the socket of
// the session that the writer has, between two commands of the driver, so that it belongs to
// the writer's transaction. What cannot go so goes as a file.

const (
	commandBulkExecute = 0xfa
	sendTypes          = 128       // the types of the parameters stand before the rows
	bulkSize           = 512 << 10 // of one command, about
)

// bulk is one load of rows under way: commands go to the server on a goroutine of its own,
// and their buffers come back to be filled again.
type bulk struct {
	w         *wire
	statement []byte
	kinds     []*bindvalue.Kind // by column of the plan; nil: the target computes it
	most      int               // bytes of a command

	full chan []byte
	free chan []byte
	done chan struct{}
	stop context.CancelFunc
	err  error

	buf    []byte
	given  int64 // rows
	passed int64 // rows in commands that were handed on
	taken  int64 // rows, as the server counts
}

// bulkKinds says how the columns of a plan go as parameters; nil when not all of them can.
func bulkKinds(p *domain.TablePlan) []*bindvalue.Kind {
	out := make([]*bindvalue.Kind, len(p.Columns))
	for i, c := range p.Columns {
		switch k, ok := bindvalue.Of(c.BaseType); {
		case c.Generated:
		case typemap.IsBytes(c.BaseType) && !typemap.IsGeometry(c.BaseType):
			out[i] = &bindvalue.Bytes
		case !ok || c.Charset == "binary":
			return nil
		default:
			out[i] = &k
		}
	}
	return out
}

// bulkStatement inserts a row of parameters.
func bulkStatement(p *domain.TablePlan) string {
	var names []string
	for _, c := range p.Columns {
		if !c.Generated {
			names = append(names, quote(c.Name))
		}
	}
	return "INSERT INTO " + qualified(p.Target) + " (" + strings.Join(names, ", ") + ") VALUES (" + strings.TrimSuffix(
		strings.Repeat("?, ", len(names)), ", ") + ")"
}

// bulkLimit is how many bytes a command may have on the writer's session: 0 where rows cannot
// go so.
func (w *writer) bulkLimit(ctx context.Context) (int, error) {
	if w.limit != nil {
		return *w.limit, nil
	}
	var packet int
	if err := w.conn.QueryRowContext(ctx, "SELECT @@max_allowed_packet").Scan(&packet); err != nil {
		return 0, w.d.explain(err)
	}
	limit := min(bulkSize, packet/3)
	if w.socket() == nil {
		limit = 0
	}
	w.limit = &limit
	return limit, nil
}

// socket is the session's connection, if the server takes many rows at once on it.
func (w *writer) socket() *pooled {
	id, err := strconv.ParseUint(w.session, 10, 32)
	if err != nil {
		return nil
	}
	v, ok := w.d.pooled.Load(uint32(id))
	if p, is := v.(*pooled); ok && is && p.bulk {
		return p
	}
	return nil
}

// startBulk begins a load of rows as parameters; false when the rows of this table have to go
// as a file.
func (w *writer) startBulk(ctx context.Context) (bool, error) {
	kinds := bulkKinds(w.plan)
	if kinds == nil {
		return false, nil
	}
	limit, err := w.bulkLimit(ctx)
	if err != nil || limit == 0 {
		return false, err
	}
	socket := w.socket()
	if socket == nil { // the driver has closed it meanwhile, as the file's way will say
		return false, nil
	}
	if w.wire == nil {
		w.wire = &wire{net: engine.NewBulk(socket.Conn)}
		w.wire.in = bufio.NewReaderSize(w.wire.net, 4096)
	}
	run, cancel := context.WithCancel(ctx)
	b := &bulk{w: w.wire, kinds: kinds, most: limit, full: make(chan []byte, 1), free: make(chan []byte, 3),
		done: make(chan struct{}), stop: cancel}
	conn := socket.Conn // the writer may be closed by the time this runs
	cut := context.AfterFunc(run, func() { _ = conn.Close() })
	if text := bulkStatement(w.plan); text != w.prepared {
		// A server keeps so many statements and no more, of all sessions together.
		if err = w.wire.forget(w.statement); err == nil {
			w.prepared, w.statement = "", nil
			w.statement, err = w.wire.prepareInsert(text, socket.ends)
		}
		if err != nil {
			cancel()
			return false, w.d.explain(err)
		}
		w.prepared = text
	}
	b.statement = w.statement
	for range 2 {
		b.free <- (*fileBuffers.Get().(*[]byte))[:0]
	}
	w.bulk = b
	go func() {
		defer close(b.done)
		defer cut()
		defer domain.Recover("writing a chunk to the target", &b.err)
		b.err = b.send()
	}()
	return true, b.next(ctx)
}

// prepareInsert has the server parse a statement that gives no rows, and returns its number
// there. ends says whether a list ends by a packet of its own.
func (c *wire) prepareInsert(sql string, ends bool) ([]byte, error) {
	statement, columns, parameters, err := c.parse(sql)
	switch {
	case err != nil:
		return nil, err
	case columns != 0:
		return nil, errors.New("the server takes an INSERT for a query")
	}
	if ends {
		parameters++
	}
	for range parameters {
		if _, err := c.packet(); err != nil {
			return nil, err
		}
	}
	return statement, nil
}

// next takes an empty buffer and begins a command in it, behind the room for its packet's head.
func (b *bulk) next(ctx context.Context) error {
	select {
	case b.buf = <-b.free:
	case <-b.done:
		return b.ended()
	case <-ctx.Done():
		return ctx.Err()
	}
	b.buf = append(append(b.buf[:0], 0, 0, 0, 0, commandBulkExecute), b.statement...)
	b.buf = append(b.buf, sendTypes, 0)
	for _, k := range b.kinds {
		if k != nil {
			b.buf = append(b.buf, k.Type, k.Unsignedness())
		}
	}
	return nil
}

// add puts a row behind the others; false when it cannot go so.
func (b *bulk) add(w *writer, fields [][]byte) bool {
	from := len(b.buf)
	for i, k := range b.kinds {
		if k == nil {
			continue
		}
		f, ok := fields[i], true
		switch {
		case f == nil:
			b.buf = append(b.buf, bindvalue.Null)
			continue
		case w.binary:
			b.buf = append(append(b.buf, bindvalue.Follows), f...)
			continue
		case w.columns[i] == asBytes:
			if f, ok = w.unhexed(f); !ok {
				b.buf = b.buf[:from]
				return false
			}
		}
		if b.buf, ok = k.Append(append(b.buf, bindvalue.Follows), f); !ok {
			b.buf = b.buf[:from]
			return false
		}
	}
	if len(b.buf)-from > b.most { // larger than the server may take at once
		b.buf = b.buf[:from]
		return false
	}
	b.given++
	return true
}

// pass hands on the command that was filled, and begins another.
func (b *bulk) pass(ctx context.Context) error {
	select {
	case b.full <- b.buf:
		b.passed = b.given
		return b.next(ctx)
	case <-b.done:
		return b.ended()
	case <-ctx.Done():
		return ctx.Err()
	}
}

// send sends commands and reads what the server says to each. One is sent while the server
// still works on the one before, so that it never waits for us.
func (b *bulk) send() error {
	under := 0
	for buf := range b.full {
		n := len(buf) - 4
		buf[0], buf[1], buf[2], buf[3] = byte(n), byte(n>>8), byte(n>>16), 0
		if _, err := b.w.net.Write(buf); err != nil {
			return err
		}
		b.free <- buf
		for under++; under > 1; under-- {
			if err := b.answer(); err != nil {
				return err
			}
		}
	}
	for ; under > 0; under-- {
		if err := b.answer(); err != nil {
			return err
		}
	}
	return nil
}

// answer reads what the server says to one command: how many rows it took, and whether it
// had to say anything of their values.
func (b *bulk) answer() error {
	p, err := b.w.packet()
	switch {
	case err != nil:
		return err
	case len(p) > 0 && p[0] == 0xff:
		return serverSaid(p)
	case len(p) == 0 || p[0] != 0:
		return errors.New("the server answered rows by something else than their number")
	}
	rows, took, ok := resultset.Length(p[1:])
	if !ok {
		return resultset.ErrShort
	}
	b.taken += int64(rows)
	p = p[1+took:]
	switch _, took, ok = resultset.Length(p); { // the last number given, which may be larger than a length
	case !ok && len(p) > 0 && p[0] == 0xfe:
		took = 9
	case !ok:
		return resultset.ErrShort
	}
	if len(p) < took+4 {
		return resultset.ErrShort
	}
	if warnings := binary.LittleEndian.Uint16(p[took+2:]); warnings > 0 {
		return errWarned
	}
	return nil
}

// errWarned is what a load by parameters ends with when the server had to change values;
// the rows go one by one then, and what it says of each is known.
var errWarned = errors.New("the server would change values")

// ended is why the load has come to its end by itself.
func (b *bulk) ended() error {
	<-b.done
	if b.err != nil {
		return b.err
	}
	return errors.New("it ended before its rows did")
}

// endBulk waits until the server has taken every row that was given.
func (w *writer) endBulk() error {
	b := w.bulk
	w.bulk = nil
	if b.given > b.passed {
		select {
		case b.full <- b.buf:
		case <-b.done:
		}
	}
	close(b.full)
	<-b.done
	b.stop()
	for range len(b.free) {
		buf := <-b.free
		if cap(buf) <= 4*fileBuffer {
			fileBuffers.Put(&buf)
		}
	}
	switch {
	case b.err != nil:
		return w.bulkFailed(b.err)
	case b.taken != b.given:
		return domain.Conflict("%s took %d of the %d rows of a chunk; rows of the same key stand there already", w.table,
			b.taken, b.given)
	}
	return nil
}

// bulkFailed makes an error of what ended a load.
func (w *writer) bulkFailed(err error) error {
	if errors.Is(err, errWarned) {
		return &engine.ServerError{Text: fmt.Sprintf("loading into %s: %s warned of a value; nothing of the chunk was kept",
			w.table, w.d.name), Class: engine.OfRows}
	}
	return fmt.Errorf("loading into %s: %w", w.table, w.d.explain(err))
}

package postgres

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgcopy"
	"dustyferry/internal/protocol/pgvalue"
)

// closeGrace is how long a closing connection may take to say good-bye.
const closeGrace = 2 * time.Second

type writer struct {
	d       *database
	conn    *pgconn.PgConn
	w       *wire
	hearing *hearing // of the COPY under way

	begin  string            // how a transaction begins
	rows   bool              // what comes are rows in the neutral form
	binary bool              // what comes are rows in the binary form
	copy   string            // the statement of careful writing
	plan   *domain.TablePlan // of the chunk
	staged bool              // its rows land beside what stands
	inside bool              // the transaction of a chunk before is open, see Next
	text   []byte
	fields [][]byte
}

// OpenWriter opens a connection for landing chunks.
func (d *database) OpenWriter(ctx context.Context, origin string) (engine.Writer, error) {
	conn, err := d.connect(ctx, nil)
	if err != nil {
		return nil, err
	}
	// A table that is loaded anew may have foreign keys already.
	if err := quietTriggers(ctx, conn); err != nil {
		_ = conn.Close(ctx)
		return nil, d.explain(err)
	}
	return &writer{d: d, conn: conn.PgConn(), begin: beginMarked(origin)}, nil
}

// SupportsBinary compares the types of the table's columns with those that values are written in.
func (w *writer) SupportsBinary(ctx context.Context, p *domain.TablePlan) (bool, error) {
	res := w.conn.ExecParams(ctx, "SELECT attname, atttypid FROM pg_attribute WHERE attrelid = to_regclass($1) AND "+
		"attnum > 0 AND NOT attisdropped",
		[][]byte{[]byte(qualified(p.Target))}, nil, nil, nil).Read()
	if res.Err != nil {
		return false, w.d.explain(res.Err)
	}
	types := map[string]string{}
	for _, row := range res.Rows {
		types[string(row[0])] = string(row[1])
	}
	for _, c := range p.CopiedColumns() {
		if oid := pgvalue.OID(c.BaseType); oid == 0 || types[c.Name] != fmt.Sprint(oid) {
			return false, nil
		}
	}
	return true, nil
}

// Begin opens the target transaction and the COPY into the table.
func (w *writer) Begin(ctx context.Context, p *domain.TablePlan, binary bool, over *domain.Chunk) error {
	w.plan, w.staged, w.copy = nil, false, ""
	first := w.opening(p, over) // one message with what follows: a trip to a server may be long
	if p.ReadByDisk() {
		if err := w.open(ctx, p, over, true); err != nil {
			return err
		}
		first = ""
	}
	var err error
	if w.w, err = takeWire(ctx, w.conn); err != nil {
		return err
	}
	w.conn, w.rows, w.binary = nil, p.CrossEngine && !binary, binary
	form := format(p)
	if binary {
		form = "binary"
	}
	sql := fmt.Sprintf("COPY %s%s FROM STDIN (FORMAT %s)", w.into(p), columnList(p.CopiedColumns()), form)
	if err := w.w.query(first + sql); err != nil {
		return w.fail(ctx, err)
	}
	w.hearing = w.w.hear()
	if binary {
		return w.frame(ctx, pgcopy.Header())
	}
	return nil
}

// into is what rows are copied into.
func (w *writer) into(p *domain.TablePlan) string {
	if w.staged {
		return stageTable
	}
	return qualified(p.Target)
}

// opening are the statements that open the transaction, and remove the rows of a range in it.
func (w *writer) opening(p *domain.TablePlan, over *domain.Chunk) string {
	begin := w.begin + "; "
	if w.inside {
		begin = ""
	}
	if over == nil {
		return begin
	}
	all := *p
	all.Where = "" // it chooses rows of the source
	return begin + "DELETE FROM " + qualified(p.Target) + keyRange(&all, over.Lower, over.Upper) + "; "
}

// open opens the transaction, and removes the rows of a range in it.
func (w *writer) open(ctx context.Context, p *domain.TablePlan, over *domain.Chunk, straight bool) error {
	w.plan, w.staged = nil, false
	_, err := w.conn.Exec(ctx, w.opening(p, over)).ReadAll()
	if err == nil && p.ReadByDisk() {
		return w.beside(ctx, p, straight)
	}
	return w.d.explain(err)
}

// frame sends data as one CopyData frame.
func (w *writer) frame(ctx context.Context, data []byte) error {
	if w.hearing.over() {
		return w.fail(ctx, errOver)
	}
	head := binary.BigEndian.AppendUint32([]byte{'d'}, uint32(len(data)+4))
	for _, b := range [2][]byte{head, data} {
		if _, err := w.w.on.Write(b); err != nil {
			return w.fail(ctx, err)
		}
	}
	return nil
}

// Write passes CopyData frames on as they are; rows in the neutral form become
// one frame of COPY's text format, and those in binary form a frame.
func (w *writer) Write(ctx context.Context, data []byte) error {
	if w.binary {
		return w.frame(ctx, data)
	}
	if w.hearing.over() {
		return w.fail(ctx, errOver)
	}
	if w.rows {
		w.text = append(w.text[:0], 'd', 0, 0, 0, 0)
		var err error
		for len(data) > 0 {
			if w.fields, data, err = pgcopy.Next(w.fields[:0], data); err != nil {
				return w.fail(ctx, err)
			}
			w.text = pgcopy.AppendText(w.text, w.fields)
		}
		binary.BigEndian.PutUint32(w.text[1:], uint32(len(w.text)-1))
		data = w.text
	}
	if _, err := w.w.on.Write(data); err != nil {
		return w.fail(ctx, err)
	}
	return nil
}

// Careful opens the transaction alone; rows come by Put.
func (w *writer) Careful(ctx context.Context, p *domain.TablePlan, over *domain.Chunk) error {
	if err := w.open(ctx, p, over, false); err != nil {
		return err
	}
	w.copy = fmt.Sprintf("COPY %s%s FROM STDIN (FORMAT text)", w.into(p), columnList(p.CopiedColumns()))
	return nil
}

// Put copies rows behind a savepoint.
func (w *writer) InsertRows(ctx context.Context, rows [][]byte) error {
	if _, err := w.conn.Exec(ctx, "SAVEPOINT rows").ReadAll(); err != nil {
		return w.d.explain(err)
	}
	w.text = w.text[:0]
	for _, row := range rows {
		var err error
		if w.fields, err = pgcopy.Fields(w.fields[:0], row); err != nil {
			return err
		}
		w.text = pgcopy.AppendText(w.text, w.fields)
	}
	tag, err := w.conn.CopyFrom(ctx, bytes.NewReader(w.text), w.copy)
	if err == nil && tag.RowsAffected() != int64(len(rows)) {
		err = domain.Conflict("the target kept %d of %d rows that it was given: a trigger or rule there drops rows",
			tag.RowsAffected(), len(rows))
	}
	if err == nil && w.staged {
		if err = w.unstage(ctx); err == nil {
			_, err = w.conn.Exec(ctx, "TRUNCATE "+stageTable).ReadAll()
		}
	}
	after := "RELEASE SAVEPOINT rows"
	if err != nil {
		after = "ROLLBACK TO SAVEPOINT rows; RELEASE SAVEPOINT rows"
	}
	if _, lost := w.conn.Exec(ctx, after).ReadAll(); lost != nil {
		return w.d.explain(lost)
	}
	return w.d.explain(err)
}

// Land ends the COPY and commits it together with the chunk's mark.
func (w *writer) Land(ctx context.Context, m engine.Mark) error {
	if err := w.endCopy(ctx, m); err != nil {
		return err
	}
	return w.keep(ctx, m, true)
}

// Next ends the COPY and keeps the chunk's mark.
func (w *writer) Next(ctx context.Context, m engine.Mark) error {
	if err := w.endCopy(ctx, m); err != nil {
		return err
	}
	w.inside = true
	return w.keep(ctx, m, false)
}

// endCopy ends the COPY that is open, if one is: rows that were written carefully have none.
func (w *writer) endCopy(ctx context.Context, m engine.Mark) error {
	if w.w == nil {
		return nil
	}
	if w.binary {
		if err := w.frame(ctx, pgcopy.Trailer); err != nil {
			return err
		}
	}
	if _, err := w.w.on.Write([]byte{'c', 0, 0, 0, 4}); err != nil {
		return w.fail(ctx, err)
	}
	if err := w.hearing.end(m.Sum.Rows); err != nil {
		return w.fail(ctx, err)
	}
	conn, err := w.w.giveBack()
	if err != nil {
		return err
	}
	w.conn, w.w = conn, nil
	return nil
}

// errOver is of rows for a COPY that the server has ended.
var errOver = errors.New("the server takes no more rows")

// keep notes the mark in the open transaction and, if the chunk is the last one, commits all, in one
// message, since a trip to the server may be long; such a message of several statements takes no
// parameters.
func (w *writer) keep(ctx context.Context, m engine.Mark, last bool) error {
	sql, end := "", ""
	if last {
		end, w.inside = "; COMMIT", false
	}
	if w.staged && w.copy == "" {
		sql = w.unstaging() + "; "
	}
	sql += fmt.Sprintf(`
WITH mine AS (INSERT INTO dusty_ferry.chunk_mark AS k (crossing, chunk, epoch, landed, snapshot, rows, bytes, hash)
VALUES (%s, %d, %d, true, %s, %d, %d, %d)
ON CONFLICT (crossing, chunk) DO UPDATE
   SET epoch = EXCLUDED.epoch, landed = true, snapshot = EXCLUDED.snapshot,
       rows = EXCLUDED.rows, bytes = EXCLUDED.bytes, hash = EXCLUDED.hash, at = now()
 WHERE NOT k.landed AND k.epoch <= EXCLUDED.epoch RETURNING 1)
SELECT (CASE count(*) WHEN 1 THEN '1' ELSE '%s' END)::integer FROM mine%s`, literal(m.Crossing), m.Chunk, m.Epoch,
		literal(m.Snapshot.JSON()), m.Sum.Rows, m.Sum.Bytes, int64(m.Sum.Hash), takenOver, end)
	res, err := w.conn.Exec(ctx, sql).ReadAll()
	var pe *pgconn.PgError
	switch {
	case errors.As(err, &pe) && pe.Code == "22P02" && strings.Contains(pe.Message, takenOver):
		return domain.ErrTakenOver // and nothing was committed
	case err != nil:
		return cmp.Or(notKept(err), w.d.explain(err))
	case last && (len(res) == 0 || res[len(res)-1].CommandTag.String() != "COMMIT"):
		return fmt.Errorf("the server did not commit a chunk, and did not say why")
	}
	return nil
}

// takenOver is what the server cannot make a number of, where a chunk has a newer epoch: it then
// skips the COMMIT that stands behind.
const takenOver = "the chunk was taken over"

func (w *writer) fail(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if w.hearing != nil { // why the server takes no more says more than that it does not
		var pe *pgconn.PgError
		if said := w.hearing.failed(); said != nil && !errors.As(err, &pe) {
			err = said
		}
	}
	if collided := w.collided(ctx, err); collided != nil {
		return collided
	}
	return w.d.explain(err)
}

// Abort drops the connection, and with it the open transaction: the quickest
// way out that cannot itself hang.
func (w *writer) Abort() {
	if w.w != nil {
		w.w.cut()
		w.w = nil
	}
	w.Close()
}

func (w *writer) Close() {
	if w.w != nil {
		w.w.cut()
		w.w = nil
	}
	if w.conn != nil {
		ctx, cancel := context.WithTimeout(context.Background(), closeGrace)
		defer cancel()
		_ = w.conn.Close(ctx)
		w.conn = nil
	}
}

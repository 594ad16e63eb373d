package postgres

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"dustyferry/internal/core/narrow"
	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/protocol/pgcopy"
)

// view is a read-only transaction whose snapshot may have a known log position.
type view struct {
	d    *database
	conn *pgx.Conn
}

// OpenView opens a consistent view. An exact one comes from a temporary
// replication slot: its snapshot holds exactly the transactions whose commit
// record begins before the slot's consistent point. The server waits for every
// open writing transaction when it makes one, hence the limit.
func (d *database) OpenView(ctx context.Context, exact bool,
	limit time.Duration) (engine.View, domain.Position, error) {
	conn, err := d.connect(ctx, nil)
	if err != nil {
		return nil, domain.Position{}, err
	}
	v := &view{d: d, conn: conn}
	if !exact {
		_, err := conn.Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY")
		if err == nil { // takes the snapshot now
			_, err = conn.PgConn().Exec(ctx, "SELECT "+d.snapshotFunction()+"; SAVEPOINT "+nothingRead).ReadAll()
		}
		if err != nil {
			v.Close()
			return nil, domain.Position{}, d.explain(err)
		}
		return v, domain.Position{}, nil
	}
	at, err := v.importExact(ctx, limit)
	if err != nil {
		v.Close()
		return nil, domain.Position{}, err
	}
	return v, at, nil
}

func (v *view) importExact(ctx context.Context, limit time.Duration) (domain.Position, error) {
	rc, err := v.d.connect(ctx, map[string]string{"replication": "database"})
	if err != nil {
		return domain.Position{}, err
	}
	// Closing the connection drops the temporary slot; the snapshot stays with
	// the transaction that imported it.
	defer func() { _ = rc.Close(context.WithoutCancel(ctx)) }()
	wait, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	name := fmt.Sprintf("dusty_ferry_view_%d", rc.PgConn().PID())
	export := "(SNAPSHOT 'export')"
	if v.d.major < 15 { // which know the options as words alone
		export = "EXPORT_SNAPSHOT"
	}
	res, err := rc.PgConn().Exec(wait, fmt.Sprintf("CREATE_REPLICATION_SLOT %s TEMPORARY LOGICAL pgoutput %s", quote(name),
		export)).ReadAll()
	if err != nil {
		if errors.Is(wait.Err(), context.DeadlineExceeded) {
			return domain.Position{}, domain.Unavailable(err,
				"a writing transaction on the source has been open for more than %s, so no "+
					"exact snapshot could be taken; end it (see pg_stat_activity, oldest xact_start) and try again", limit)
		}
		var pe *pgconn.PgError
		if errors.As(err, &pe) && pe.Code == "53400" {
			return domain.Position{}, domain.Unavailable(err, "the source has no free replication slot for a comparison; raise "+
				"max_replication_slots, or drop an unused slot")
		}
		return domain.Position{}, v.d.explain(err)
	}
	row := res[0].Rows[0]
	at, err := parseLSN(string(row[1]))
	if err != nil {
		return domain.Position{}, err
	}
	_, err = v.conn.PgConn().Exec(ctx, "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SET TRANSACTION SNAPSHOT "+
		literal(string(row[2]))+"; SAVEPOINT "+nothingRead).ReadAll()
	return at, v.d.explain(err)
}

// nothingRead is the savepoint behind which a view reads: to roll back to it gives its locks of tables back, and
// the snapshot stays.
const nothingRead = "dusty_ferry_nothing_read"

// ReleaseLocks lets others empty and alter what was read.
func (v *view) ReleaseLocks(ctx context.Context) error {
	_, err := v.conn.PgConn().Exec(ctx, "ROLLBACK TO SAVEPOINT "+nothingRead).ReadAll()
	return v.d.explain(err)
}

func (v *view) Close() {
	ctx, cancel := context.WithTimeout(context.Background(), closeGrace)
	defer cancel()
	_ = v.conn.Close(ctx)
}

func (v *view) Count(ctx context.Context, p *domain.TablePlan) (int64, error) {
	var n int64
	err := v.conn.QueryRow(ctx, "SELECT count(*) FROM "+from(p)+keyRange(p, nil, nil)).Scan(&n)
	return n, v.d.explain(err)
}

// compared is how a column is read for comparing: in its binary form, or as
// text where the binary form names things by server-local numbers.
func compared(p *domain.TablePlan, c domain.Column) string {
	if c.Wire == "local" {
		return quote(c.Name) + "::text"
	}
	return quote(c.Name)
}

func comparedList(p *domain.TablePlan) string {
	var out []string
	for _, c := range p.Columns {
		out = append(out, compared(p, c))
	}
	return strings.Join(out, ", ")
}

// rowSink takes a COPY's data one row at a time; the server sends one row per
// message.
type rowSink struct {
	row   func([]byte) error
	begun bool
	rows  int64
}

// copyTo runs a COPY whose rows a sink takes; the server must have counted as many.
func copyTo(ctx context.Context, conn *pgconn.PgConn, s *rowSink, sql string) error {
	tag, err := conn.CopyTo(ctx, s, sql)
	if err == nil && tag.RowsAffected() != s.rows {
		err = fmt.Errorf("the server says that it copied %d rows, but %d came", tag.RowsAffected(), s.rows)
	}
	return err
}

func (s *rowSink) Write(b []byte) (int, error) {
	row := b
	if !s.begun {
		s.begun = true
		if row = pgcopy.CutHeader(b); len(row) == 0 {
			return len(b), nil
		}
	}
	if pgcopy.IsTrailer(row) {
		return len(b), nil
	}
	s.rows++
	return len(b), s.row(row)
}

func (v *view) copyRows(ctx context.Context, sql string, row func([]byte) error) error {
	return v.d.explain(copyTo(ctx, v.conn.PgConn(), &rowSink{row: row}, "COPY ("+sql+") TO STDOUT (FORMAT binary)"))
}

// Sums reads every row once.
func (v *view) Sums(ctx context.Context, p *domain.TablePlan, part engine.Part,
	progress func(int64)) ([]rowhash.Sum, error) {
	if p.CrossEngine {
		return engine.SumsOf(ctx, v, p, part, progress)
	}
	if part.Bounds == nil {
		sums := make([]rowhash.Sum, part.Buckets)
		key := p.KeyIndexes(p.Columns)
		var fields [][]byte
		var buf []byte
		n := int64(0)
		err := v.copyRows(ctx, "SELECT "+comparedList(p)+" FROM "+from(p)+keyRange(p, nil, nil), func(row []byte) error {
			var err error
			if fields, err = pgcopy.Fields(fields[:0], row); err != nil {
				return err
			}
			buf = narrow.AppendKey(buf[:0], row, fields, key)
			sums[narrow.Bucket(buf, part.Buckets)].Add(row)
			if n++; n%50_000 == 0 {
				progress(50_000)
			}
			return nil
		})
		progress(n % 50_000)
		return sums, err
	}
	sums := make([]rowhash.Sum, len(part.Bounds)+1)
	for i := range sums {
		lower, upper := part.Range(i)
		err := v.copyRows(ctx, "SELECT "+comparedList(p)+" FROM "+from(p)+keyRange(p, lower, upper), func(row []byte) error {
			sums[i].Add(row)
			return nil
		})
		if err != nil {
			return nil, err
		}
		progress(sums[i].Rows)
	}
	return sums, nil
}

// Rows reads the wanted parts again, now with the key of every row as text in
// front, so that rows can be named.
func (v *view) Rows(ctx context.Context, p *domain.TablePlan, part engine.Part, want []int,
	visit func([]byte, uint64)) error {
	if p.CrossEngine {
		return engine.RowsOf(ctx, v, p, part, want, visit)
	}
	keys := make([]string, len(p.Key))
	for i, k := range p.Key {
		keys[i] = quote(k) + "::text"
	}
	list := strings.Join(append(keys, comparedList(p)), ", ")
	var fields [][]byte
	var bucket, key []byte
	read := func(where string, wanted func(i int) bool) error {
		return v.copyRows(ctx, "SELECT "+list+" FROM "+from(p)+where, func(row []byte) error {
			var err error
			if fields, err = pgcopy.Fields(fields[:0], row); err != nil {
				return err
			}
			n := len(p.Key)
			whole := pgcopy.AppendFields(nil, fields[n:])
			if wanted != nil {
				bucket = narrow.AppendKey(bucket[:0], whole, fields[n:], p.KeyIndexes(p.Columns))
				if !wanted(narrow.Bucket(bucket, part.Buckets)) {
					return nil
				}
			}
			if n == 0 {
				key = binary.BigEndian.AppendUint64(key[:0], rowhash.Of(whole))
			} else {
				key = narrow.AppendKey(key[:0], nil, fields[:n], seq(n))
			}
			visit(key, rowhash.Of(whole))
			return nil
		})
	}
	if part.Bounds == nil {
		in := map[int]bool{}
		for _, w := range want {
			in[w] = true
		}
		return read(keyRange(p, nil, nil), func(i int) bool { return in[i] })
	}
	for _, w := range want {
		lower, upper := part.Range(w)
		if err := read(keyRange(p, lower, upper), nil); err != nil {
			return err
		}
	}
	return nil
}

func seq(n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	return out
}

// Fetch returns whole rows in text form. A table without a key is scanned for
// rows with the wanted hashes.
func (v *view) Fetch(ctx context.Context, p *domain.TablePlan, _ engine.Part,
	keys []string) (map[string][]domain.Row, error) {
	if p.CrossEngine {
		return engine.FetchOf(ctx, v, p, keys)
	}
	out := map[string][]domain.Row{}
	if len(p.Key) == 0 {
		return out, v.fetchWhole(ctx, p, keys, out)
	}
	for piece := range slices.Chunk(keys, fetchedAtOnce) {
		if err := v.fetchKeyed(ctx, p, piece, out); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// fetchedAtOnce is for how many keys one statement fetches the rows.
const fetchedAtOnce = 1000

// fetchKeyed fetches the rows at keys, each joined by its number among them.
func (v *view) fetchKeyed(ctx context.Context, p *domain.TablePlan, keys []string, out map[string][]domain.Row) error {
	names := make([]string, len(p.Columns))
	for i, c := range p.Columns {
		names[i] = "t." + quote(c.Name)
	}
	on, lists, sought := make([]string, len(p.Key)), make([]string, len(p.Key)), make([]string, len(p.Key))
	params := make([]any, len(p.Key))
	for i, k := range p.Key {
		col := columnOf(p, k)
		values := make([]string, len(keys))
		for n, key := range keys {
			values[n] = narrow.SplitKey(key, len(p.Key))[i]
		}
		params[i] = values
		lists[i], sought[i] = fmt.Sprintf("unnest($%d::text[])", i+1), fmt.Sprintf("c%d", i)
		on[i] = fmt.Sprintf("t.%s%su.c%d::%s", quote(k), equals(*col), i, col.Type)
	}
	rows, err := textRows(ctx, v.conn, fmt.Sprintf("SELECT u.n::text, %s FROM ROWS FROM (%s) WITH ORDINALITY "+
		"AS u(%s, n) JOIN (SELECT * FROM %s) t ON %s", strings.Join(names, ", "), strings.Join(lists, ", "),
		strings.Join(sought, ", "), from(p), strings.Join(on, " AND ")), params)
	if err != nil {
		return v.d.explain(err)
	}
	for _, row := range rows {
		n, err := strconv.Atoi(string(row[0].Data))
		if err != nil || n < 1 || n > len(keys) {
			return fmt.Errorf("the server gave the row of key %q, of %d", row[0].Data, len(keys))
		}
		out[keys[n-1]] = append(out[keys[n-1]], row[1:])
	}
	return nil
}

func (v *view) fetchWhole(ctx context.Context, p *domain.TablePlan, keys []string, out map[string][]domain.Row) error {
	want := map[string]bool{}
	for _, k := range keys {
		want[k] = true
	}
	var places []string
	var hashes []string
	var fields [][]byte
	err := v.copyRows(ctx, "SELECT tableoid::text || ' ' || ctid::text, "+comparedList(p)+" FROM "+from(p)+keyRange(p, nil,
		nil), func(row []byte) error {
		var err error
		if fields, err = pgcopy.Fields(fields[:0], row); err != nil {
			return err
		}
		k := string(binary.BigEndian.AppendUint64(nil, rowhash.Of(pgcopy.AppendFields(nil, fields[1:]))))
		if want[k] {
			places = append(places, string(fields[0]))
			hashes = append(hashes, k)
		}
		return nil
	})
	if err != nil {
		return err
	}
	for i, place := range places {
		oid, ctid, _ := strings.Cut(place, " ")
		rows, err := textRows(ctx, v.conn, "SELECT "+quoteAll(columnNames(p.Columns))+" FROM "+from(p)+
			" WHERE tableoid = $1::text::oid AND ctid = $2::text::tid", []any{oid, ctid})
		if err != nil {
			return v.d.explain(err)
		}
		out[hashes[i]] = append(out[hashes[i]], rows...)
	}
	return nil
}

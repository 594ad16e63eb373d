package postgres

import (
	"context"
	"encoding/binary"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"dustyferry/internal/domain"
)

// maxStatement is the most that the server takes in one message, and its text form can be of
// one value. Source: PQ_LARGE_MESSAGE_LIMIT in libpq/libpq.h of the server.
const maxStatement = 1<<30 - 1

// runLarge carries out a statement whose parameters are texts, as large as they come, which
// are written to the server from where they lie, and returns how many rows it touched.
// Source: PostgreSQL documentation, "Message Flow", "Extended Query".
func (a *applier) runLarge(ctx context.Context, sql string, params [][]byte) (int64, error) {
	size := 4 + 1 + 1 + 2 + 2 + 2
	for _, p := range params {
		size += 4 + len(p)
	}
	if size > maxStatement {
		return 0, domain.Conflict("a row has %d MB as texts, and the target takes at most 1 GiB at once: leave out the "+
			"table's largest column, or the table", size/1e6)
	}
	conn := a.conn.PgConn()
	if err := conn.SyncConn(ctx); err != nil {
		return 0, err
	}
	raw := conn.Conn()
	stop := context.AfterFunc(ctx, func() { _ = raw.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	b, err := (&pgproto3.Parse{Query: sql}).Encode(nil)
	if err != nil {
		return 0, err
	}
	b = binary.BigEndian.AppendUint32(append(b, 'B'), uint32(size))
	b = append(b, 0, 0, 0, 0) // no portal's name, no statement's, all parameters as text
	b = binary.BigEndian.AppendUint16(b, uint16(len(params)))
	for _, p := range params {
		n := uint32(len(p))
		if p == nil {
			n = 1<<32 - 1 // NULL
		}
		b = binary.BigEndian.AppendUint32(b, n)
		if len(p) < pieceSize {
			b = append(b, p...)
			continue
		}
		for _, piece := range [2][]byte{b, p} {
			if _, err := raw.Write(piece); err != nil {
				return 0, broken(conn, err)
			}
		}
		b = b[:0]
	}
	b = append(b, 0, 0) // all results as text
	if b, err = (&pgproto3.Execute{}).Encode(b); err != nil {
		return 0, err
	}
	if b, err = (&pgproto3.Sync{}).Encode(b); err != nil {
		return 0, err
	}
	if _, err := raw.Write(b); err != nil {
		return 0, broken(conn, err)
	}
	var touched int64
	var told bool
	var refused error
	for {
		m, err := conn.ReceiveMessage(ctx)
		if err != nil {
			return 0, err
		}
		switch m := m.(type) {
		case *pgproto3.ParseComplete, *pgproto3.BindComplete:
		case *pgproto3.NoticeResponse, *pgproto3.ParameterStatus, *pgproto3.NotificationResponse: // end nothing
		case *pgproto3.CommandComplete:
			touched, told = pgconn.NewCommandTag(string(m.CommandTag)).RowsAffected(), true
		case *pgproto3.ErrorResponse:
			refused = pgconn.ErrorResponseToPgError(m)
		case *pgproto3.ReadyForQuery:
			if refused == nil && !told {
				refused = fmt.Errorf("the target ended a statement without saying what it did")
			}
			return touched, refused
		default:
			_ = conn.Close(ctx)
			return 0, fmt.Errorf("the target answered a statement with a message that is not understood: %T", m)
		}
	}
}

// broken ends a connection on which a message was written in part.
func broken(conn *pgconn.PgConn, err error) error {
	ctx, cancel := context.WithCancel(context.Background())
	cancel() // there is nobody to say goodbye to
	_ = conn.Close(ctx)
	return err
}

// pieceSize is from how many bytes on a value is written by itself.
const pieceSize = 64 << 10

package engine

import "strconv"

// Trace is something that a crossing has left on a server.
type Trace struct {
	Crossing string // its UID
	Kind     string // replication slot, publication, closed to writes, bookkeeping
	Name     string
	Detail   string // for people
	Busy     bool   // somebody uses it just now
	Undo     string // the statement that removes it
}

// Bookkeeping is the trace of marks and positions on a target.
func Bookkeeping(crossing string, marks int64, stream bool, literal func(string) string) Trace {
	detail := strconv.FormatInt(marks, 10) + " marks of chunks"
	if stream {
		detail += ", the applied position"
	}
	return Trace{Crossing: crossing, Kind: "bookkeeping", Name: "dusty_ferry", Detail: detail,
		Undo: "DELETE FROM dusty_ferry.chunk_mark WHERE crossing = " + literal(crossing) +
			"; DELETE FROM dusty_ferry.stream WHERE crossing = " + literal(crossing)}
}

package domain

import (
	"fmt"
	"runtime/debug"
)

// Fault is a panic of this program, met in one of its own goroutines: what a server sent
// was not foreseen. As a [ProblemConflict] it holds whatever was being done.
type Fault struct {
	What  string
	Value any
	Stack string // for the log
}

func (f *Fault) Error() string { return fmt.Sprintf("panic while %s: %v", f.What, f.Value) }

// Recover is for defer: it turns a panic into an error in *to, so that what was being done
// stops there and is told, and everything else goes on. what says what was being done.
func Recover(what string, to *error) {
	r := recover()
	if r == nil {
		return
	}
	*to = &Problem{Kind: ProblemConflict, Err: &Fault{What: what, Value: r, Stack: string(debug.Stack())},
		Message: fmt.Sprintf("a fault in Dusty Ferry itself was met while %s (%v); nothing of it was committed. The "+
			"service's log has the details; report it, and see what is special about the data there", what, r)}
}

// Guarded runs f and returns its panic as an error; see [Recover].
func Guarded(what string, f func() error) (err error) {
	defer Recover(what, &err)
	return f()
}

// Package follow decides how captured changes become changes of a target: what makes a
// batch, which changes the load has seen already, what foreign keys did that the log does
// not tell, what is written in which order, and when it is made durable.
//
// A [Machine] does no I/O and knows no clock. It says what it needs next ([Machine.Ready]),
// one thing at a time, and is given what came of it ([Machine.Take] for an event of the log,
// [Machine.Step] for any other answer). Whoever drives it may die at any moment between two
// of these: what is not committed then is read again from the log by the next machine.
//
//	for {
//		switch ask := m.Ready().(type) {
//		case *follow.More:
//			m.Take(nextEvent(ask.Patience))
//		case follow.AskSnapshot:
//			m.Step(follow.Input{Snapshot: source.Snapshot()})
//		…
//
// Inside, it is a straight line of questions and answers, run as a coroutine. The rule that
// it applies while rows are loaded is that of package interleave.
package follow

import (
	"iter"
	"time"

	"dustyferry/internal/domain"
)

// Options say how a machine works.
type Options struct {
	// Applied is the place up to which the target has everything, and AppliedAt when the last
	// transaction before it was committed, in microseconds since 1970.
	Applied   domain.Position
	AppliedAt int64
	// Copies: rows are loaded while changes are followed.
	Copies bool
	// BatchChanges is how many changes make a batch once the load is over, LoadChanges until
	// then; 0: 200,000.
	BatchChanges, LoadChanges int
}

// Machine follows the changes of some tables. It is not safe for use by several goroutines.
type Machine struct {
	set        Options
	tables     map[int64]*table
	order      []int64
	consistent bool // every chunk has landed and its snapshot is passed: the rule is no longer needed

	began      domain.Position // where the source's log stood: one before this may have fetched rows up to there
	now        time.Time
	lastCommit time.Time // on the target
	lastLook   time.Time // at whether the load is over, while nothing comes
	why        string    // what is waited for

	goal    domain.Position // where somebody wants it to stand
	stop    Stop
	reached Reached
	acting  bool            // a foreign key changes rows by itself
	unswept int             // keys are remembered: unknown, yes or no
	limit   domain.Position // of the present batch: no transaction is begun that commits at or after it
	until   int64           // nor one that was committed at this time or later

	event  domain.Event // the one that came
	came   bool
	peeked bool // event is to be looked at again
	b      batch
	counts map[int64]*Counts

	in    Input
	ask   Ask
	more  More
	yield func(Ask) bool
	next  func() (Ask, bool)
	end   func()
}

// Stop is where a person wants capture to stop: before the first transaction that was
// committed at or after a place, or at a time of the source or later. Zero: nowhere.
type Stop struct {
	At    domain.Position // with a clock: once the log is known to be beyond it; until then domain.FarAway
	Clock int64           // microseconds since 1970; 0: the place alone counts
}

// Counts are the changes of one table: inserts, updates, deletes, truncates.
type Counts [4]int64

// Add counts one change.
func (c *Counts) Add(kind domain.ChangeKind) {
	switch kind {
	case domain.Insert:
		c[0]++
	case domain.Update:
		c[1]++
	case domain.Delete:
		c[2]++
	case domain.Truncate:
		c[3]++
	}
}

// New returns a machine for tables, which are written in the order given.
func New(tables []Table, set Options) *Machine {
	m := &Machine{set: set, tables: map[int64]*table{}, counts: map[int64]*Counts{}, consistent: !set.Copies}
	for i := range tables {
		m.tables[tables[i].ID] = newTable(tables[i])
		m.order = append(m.order, tables[i].ID)
	}
	m.findActs()
	m.next, m.end = iter.Pull(m.run)
	m.ask, _ = m.next()
	return m
}

// stopped ends the coroutine of a machine that nobody needs any more.
type stopped struct{}

func (m *Machine) run(yield func(Ask) bool) {
	defer func() {
		if r := recover(); r != nil {
			if _, is := r.(stopped); !is {
				panic(r)
			}
		}
	}()
	m.yield = yield
	m.began = m.want(AskSnapshot{}).Snapshot.Log
	for {
		m.want(Between{Reached: m.reached})
		m.reached = NotYet
		switch goal := m.goal; {
		case goal.IsZero() && m.stop == Stop{}:
			m.batch()
		case goal.IsZero():
			m.reached = m.toward(domain.FarAway)
		default:
			m.reached = m.toward(goal)
		}
	}
}

// want says what is needed, and returns what came of it.
func (m *Machine) want(a Ask) Input {
	if !m.yield(a) {
		panic(stopped{})
	}
	return m.in
}

// Ready says what is to be done now. It is the same until a Step or a Take.
func (m *Machine) Ready() Ask {
	if more, is := m.ask.(*More); is {
		*more = m.patience()
	}
	return m.ask
}

// Step gives the machine what came of what it asked for.
func (m *Machine) Step(in Input) {
	m.came = false
	m.in = in
	if !in.Now.IsZero() {
		m.now = in.Now
	}
	m.ask, _ = m.next()
}

// Take gives the machine the next event of the log, where it asked for [More]. What the event
// holds is kept, the event itself is not.
func (m *Machine) Take(e *domain.Event) {
	if m.limit.IsZero() && m.simple(e) {
		return
	}
	m.event, m.came, m.in = *e, true, Input{}
	m.ask, _ = m.next()
}

// Close ends the machine.
func (m *Machine) Close() { m.end() }

// Applied is the place up to which the target has everything.
func (m *Machine) Applied() domain.Position { return m.set.Applied }

// Waiting is how many whole transactions were taken and are not applied yet.
func (m *Machine) Waiting() int64 { return m.b.waiting }

// Why says what is waited for, empty when nothing is.
func (m *Machine) Why() string { return m.why }

// Aim says where the machine is to go to and stand still, 0: nowhere; and where a person
// wants capture to stop. It counts from the next batch on; [Between] says when it is reached.
func (m *Machine) Aim(goal domain.Position, stop Stop) { m.goal, m.stop = goal, stop }

// toward applies what was committed before a place, or before capture is to stop.
func (m *Machine) toward(goal domain.Position) Reached {
	limit, stops := goal, m.stop != Stop{}
	if stops {
		limit, m.until = goal.Earlier(m.stop.At), m.stop.Clock
	}
	m.limit = limit
	defer func() { m.limit, m.until = domain.Position{}, 0 }()
	if !m.get() {
		return NotYet
	}
	m.peeked = true
	if e := &m.event; !m.beyond(e) && (e.Kind != domain.EventProgress || e.Position.Before(limit)) {
		m.batch()
		return NotYet
	}
	if m.remembers() && !m.loading() { // nobody looks at what is to be taken away again
		m.settle(domain.Tx{End: m.set.Applied, At: m.set.AppliedAt}, false)
		return NotYet
	}
	if e := &m.event; stops && (!m.stop.At.After(goal) || e.Kind == domain.EventBegin && e.Tx.Commit.Before(goal)) {
		return Stopped
	}
	return Goal
}

// beyond reports whether an event is of what comes after the limit.
func (m *Machine) beyond(e *domain.Event) bool {
	return !m.limit.IsZero() && e.Kind == domain.EventBegin &&
		(!e.Tx.Commit.Before(m.limit) || m.until > 0 && e.Tx.At >= m.until)
}

// get brings the next event into m.event, or reports that none came.
func (m *Machine) get() bool {
	if m.peeked {
		m.peeked = false
		return true
	}
	m.want(&m.more)
	return m.came
}

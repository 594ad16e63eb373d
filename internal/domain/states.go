package domain

// CutoverState is how a cutover stands.
type CutoverState string

// The states of a cutover.
const (
	CutoverRunning CutoverState = "running"
	CutoverDone    CutoverState = "done"
	CutoverUndone  CutoverState = "undone" // everything was taken back
	CutoverFailed  CutoverState = "failed" // it did not come to its first step
)

// ComparisonState is how a comparison stands, or its comparison of one table.
type ComparisonState string

// The states of a comparison.
const (
	ComparisonWaiting   ComparisonState = "waiting"
	ComparisonRunning   ComparisonState = "running"
	ComparisonClean     ComparisonState = "clean"     // it found nothing
	ComparisonDiffering ComparisonState = "differing" // it found differences
	ComparisonFailed    ComparisonState = "failed"
	ComparisonCancelled ComparisonState = "cancelled"
)

// Ended reports whether a comparison came to its end, so that it says something.
func (s ComparisonState) Ended() bool { return s == ComparisonClean || s == ComparisonDiffering }

// TaskState is how a task stands.
type TaskState string

// The states of a task.
const (
	TaskWaiting   TaskState = "waiting"
	TaskRunning   TaskState = "running"
	TaskDone      TaskState = "done"
	TaskFailed    TaskState = "failed"
	TaskCancelled TaskState = "cancelled"
)

// Open reports whether a task is still to be done, or being done.
func (s TaskState) Open() bool { return s == TaskWaiting || s == TaskRunning }

// RunState is how a run of a load stands.
type RunState string

// The states of a run.
const (
	RunDone    RunState = "done"
	RunFailed  RunState = "failed"
	RunGivenUp RunState = "given up"
	RunSkipped RunState = "skipped" // it was due, and did not begin
)

// Why tables are held while a crossing is changed.
const (
	// BeingAdded is of a table whose chunks must not be claimed yet, not even when a person
	// resumes the crossing.
	BeingAdded = "it is being added"
	// BeingLeftOut is of one that is being taken out of the crossing.
	BeingLeftOut = "it is being left out"
)

// Package load carries the chunks of a crossing: a lane reads one in a snapshot of its own and
// lands it, rows and mark in one target transaction. What becomes of a chunk that failed is
// decided by core/chunkfate; a chunk whose rows the target refuses is carried row by row.
package load

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/stuck"
)

// Records are the ledger of chunks, and who carries them.
type Records interface {
	CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
	Table(ctx context.Context, id int64) (domain.CrossingTable, error)

	// RenewLane extends a lane's lease; false when it is no longer the worker's.
	RenewLane(ctx context.Context, lane int64, worker string) (bool, error)
	EndLane(ctx context.Context, lane int64) error
	// LanesWaiting reports whether lanes of other crossings wait for a worker with such labels.
	LanesWaiting(ctx context.Context, crossing int64, labels []string) (bool, error)

	// Claim takes the next chunk, or nil when there is none now.
	Claim(ctx context.Context, crossing int64, worker string, t domain.BatchHint) (*domain.Chunk, error)
	// RenewChunk extends a chunk's lease and returns the crossing's settings; false when it is
	// held under another epoch.
	RenewChunk(ctx context.Context, id, epoch int64) (domain.Settings, bool, error)
	ChunkProgress(ctx context.Context, id, epoch, rows, read, written int64, waits string) error
	// SetLanding notes that a chunk was read to its end: its lane reads another while it lands.
	SetLanding(ctx context.Context, id, epoch int64) error
	SetReadSnapshot(ctx context.Context, id, epoch int64, snap domain.Snapshot) error
	Landed(ctx context.Context, id, epoch int64, snap domain.Snapshot, sum rowhash.Sum) error

	// TablesByID, SetReadSnapshots and LandedTogether are for small tables that are carried together.
	TablesByID(ctx context.Context, ids []int64) ([]domain.CrossingTable, error)
	SetReadSnapshots(ctx context.Context, list []domain.Landing, snap domain.Snapshot) error
	LandedTogether(ctx context.Context, list []domain.Landing, snap domain.Snapshot) error

	// KeepCut and KeepRejected keep rows of a chunk before it lands; false when the chunk is held
	// under another epoch, or there would be more of them than the limit.
	KeepCut(ctx context.Context, chunk, epoch int64, rows []domain.BadRow) (bool, error)
	KeepRejected(ctx context.Context, chunk, epoch int64, rows []domain.BadRow, limit int) (bool, error)

	// RaiseEpoch takes a chunk from whoever holds it; 0 when another has done so.
	RaiseEpoch(ctx context.Context, id, epoch int64) (int64, error)
	// ResetTable has a table loaded again, from empty.
	ResetTable(ctx context.Context, table int64) error
	GiveBack(ctx context.Context, k *domain.Chunk, epoch int64, wait time.Duration, cause string, counts bool,
		hold string) (bool, error)
	// Rest lets a whole crossing wait, and returns for the how-manieth time in a row.
	Rest(ctx context.Context, crossing int64, wait func(tries int) time.Duration, reason string) (int, error)
}

// Databases opens registered databases.
type Databases interface {
	stuck.Databases
	OpenPair(ctx context.Context, c *domain.Crossing) (source, target *engine.Opened, err error)
	Position(ctx context.Context, database string, p domain.Position) string
	// SameSource is an error when another server answers at the source's address than the one
	// that the crossing began with.
	SameSource(ctx context.Context, c *domain.Crossing, source *engine.Opened) error
}

// Journal records what happens, and tells of it.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
	Held(ctx context.Context, c *domain.Crossing, subject, reason string)
	Notify(ctx context.Context, c *domain.Crossing, event, message string)
}

// Config is what a loader is told of its process.
type Config struct {
	Worker string
	Labels []string
	Lanes  int // chunks this process carries at once
	// StuckAfter is for how long nothing may move before it is asked what is waited for.
	StuckAfter time.Duration
	Renew      time.Duration // how often a lease is renewed
	// NoneLeft is called when a crossing has no chunk for a lane any more.
	NoneLeft func(ctx context.Context) error
	// Fault writes a panic to the log, and reports whether an error is one.
	Fault func(error) bool
}

// Loader runs the lanes of this process.
type Loader struct {
	Config
	records   Records
	databases Databases
	journal   Journal
	log       *slog.Logger

	mu       sync.Mutex
	carrying int                // lanes that run here
	limiters map[int64]*limiter // by crossing
}

// New returns the loader of this process.
func New(r Records, d Databases, j Journal, log *slog.Logger, c Config) *Loader {
	return &Loader{Config: c, records: r, databases: d, journal: j, log: log, limiters: map[int64]*limiter{}}
}

// asker asks servers what they do for us.
func (l *Loader) asker() stuck.Asker { return stuck.Asker{Databases: l.databases, Limit: l.StuckAfter} }

// Package planning surveys both sides of a crossing and plans its tables: what a table becomes
// on the target, what is made there before and after its rows, what blocks, what has to be
// known, and whether the values fit. It changes nothing on either side.
package planning

import (
	"context"
	"slices"

	"dustyferry/internal/core/share"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Records are what is kept of surveys and fit checks, and the policy that they are held to.
type Records interface {
	Database(ctx context.Context, name string) (domain.Database, error)
	Policy(ctx context.Context) (domain.Policy, error)
	// HasWorker reports whether a worker with that label is at work.
	HasWorker(ctx context.Context, label string) (bool, error)
	SurveyOf(ctx context.Context, crossing int64) ([]domain.Entry, error)
	FitOf(ctx context.Context, crossing int64) (*domain.FitCheck, error)
	SaveFit(ctx context.Context, c *domain.Crossing, f *domain.FitCheck) error
}

// Databases opens registered databases.
type Databases interface {
	Open(ctx context.Context, name string) (*engine.Opened, error)
	OpenPair(ctx context.Context, c *domain.Crossing) (source, target *engine.Opened, err error)
	// Catalog returns a database's catalog, read lately, or now if it is to be fresh.
	Catalog(ctx context.Context, database string, fresh bool) (*domain.Catalog, error)
}

// Journal records what happens.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
}

// Planning plans crossings.
type Planning struct {
	records   Records
	databases Databases
	journal   Journal
	derive    func(purpose string) []byte
}

// New returns the planning of this process. derive gives a secret of this service for a
// purpose: masked columns are masked with one.
func New(r Records, d Databases, j Journal, derive func(purpose string) []byte) *Planning {
	return &Planning{records: r, databases: d, journal: j, derive: derive}
}

// Reveal gives a plan the keys of its masked columns, which no record holds.
func (pl *Planning) Reveal(p *domain.TablePlan) {
	keys := map[string][]byte{}
	for _, c := range p.Columns {
		if c.Mask != "" {
			keys[c.Mask] = pl.derive("mask " + c.Mask)
		}
	}
	if len(keys) == 0 {
		return
	}
	rt := &domain.Runtime{MaskKeys: keys} // a new one: others may work by a copy of the plan
	if p.Runtime != nil {
		rt.Truncated = p.Runtime.Truncated
	}
	p.Runtime = rt
}

// ChunkAim is how many bytes a chunk is to have, by the settings.
func ChunkAim(s domain.Settings) int64 { return share.Aim(s.ChunkBytes, s.SpeedLimit, s.Lanes) }

// OnTarget returns plans as the target's engine must know them.
func OnTarget(plans []domain.TablePlan) []domain.TablePlan {
	out := make([]domain.TablePlan, len(plans))
	for i := range plans {
		out[i] = plans[i].TargetPlan()
	}
	return out
}

// SequenceOnTarget is a sequence with its owner as the target knows it.
func SequenceOnTarget(q domain.Sequence, plans []domain.TablePlan) domain.Sequence {
	for i := range plans {
		p := &plans[i]
		if p.Source != q.OwnedBy || q.OwnedBy.Name == "" {
			continue
		}
		there := p.TargetColumns()
		if q.Name.Schema == q.OwnedBy.Schema { // an owned one stands beside its table
			q.Name.Schema = p.Target.Schema
		}
		q.OwnedBy = p.Target
		for n, c := range p.CopiedColumns() {
			if c.Name == q.OwnedColumn {
				q.OwnedColumn = there[n].Name
				break
			}
		}
		break
	}
	return q
}

// CatalogOnTarget is the source's catalog with the owners of sequences as the target
// knows them.
func CatalogOnTarget(cat *domain.Catalog, plans []domain.TablePlan) *domain.Catalog {
	out := *cat
	out.Sequences = slices.Clone(cat.Sequences)
	for i := range out.Sequences {
		out.Sequences[i] = SequenceOnTarget(out.Sequences[i], plans)
	}
	return &out
}

// PlansOf returns the table plans of a crossing.
func PlansOf(tables []domain.CrossingTable) []domain.TablePlan {
	out := make([]domain.TablePlan, len(tables))
	for i := range tables {
		out[i] = tables[i].Plan
	}
	return out
}

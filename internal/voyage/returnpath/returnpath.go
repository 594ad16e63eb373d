// Package returnpath keeps the way back open after a cutover: a crossing in the opposite direction, which
// only follows changes. It is made before writes are stopped, begins where the cutover handed over,
// and going back is its own cutover.
package returnpath

import (
	"context"
	"fmt"
	"strings"

	"dustyferry/internal/core/turned"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/planning"
)

// Records keep crossings.
type Records interface {
	Crossing(ctx context.Context, name string) (domain.Crossing, error)
	CrossingByID(ctx context.Context, id int64) (domain.Crossing, error)
	AddCrossing(ctx context.Context, c domain.Crossing) (int64, error)
	RemoveCrossing(ctx context.Context, crossing int64) error
	Tables(ctx context.Context, crossing int64) ([]domain.CrossingTable, error)
	CatalogOf(ctx context.Context, crossing int64) (*domain.Catalog, error)
	SaveStart(ctx context.Context, id int64, at domain.Position, undo []string, cat *domain.Catalog) error
	Database(ctx context.Context, name string) (domain.Database, error)
}

// Databases opens registered databases.
type Databases interface {
	OpenPair(ctx context.Context, c *domain.Crossing) (source, target *engine.Opened, err error)
	Driver(name string) (engine.Driver, error)
	CheckStopMethod(ctx context.Context, source string, m domain.StopMethod) error
}

// Planner surveys.
type Planner interface {
	Survey(ctx context.Context, c *domain.Crossing, try bool) (*planning.Surveyed, error)
}

// Preparer makes crossings ready.
type Preparer interface {
	Stand(ctx context.Context, c *domain.Crossing, note func(string)) error
	Follow(ctx context.Context, c *domain.Crossing) error
}

// Returns are the return paths of this process.
type Returns struct {
	records   Records
	databases Databases
	planner   Planner
	preparer  Preparer
	newUID    func() string
}

// New returns them. newUID names what a crossing leaves on servers.
func New(r Records, d Databases, pl Planner, p Preparer, newUID func() string) *Returns {
	return &Returns{records: r, databases: d, planner: pl, preparer: p, newUID: newUID}
}

// Survey says what stands in the way of a return path of the crossing, whose tables stand on the target.
func (w *Returns) Survey(ctx context.Context, c *domain.Crossing) ([]domain.Entry, error) {
	back, err := w.draft(ctx, c)
	if err != nil {
		return nil, err
	}
	back.Phase = domain.PhaseDraft
	s, err := w.planner.Survey(ctx, &back, false)
	if err != nil {
		return nil, err
	}
	return planning.TurnedRound(c, s.Entries), nil
}

// Prepare makes the return path of a crossing whose writes have not been stopped yet, and returns its
// name. From here on the target's log keeps what it will need.
func (w *Returns) Prepare(ctx context.Context, c *domain.Crossing, note func(string)) (string, error) {
	if err := w.Drop(ctx, c); err != nil { // one that was made before, and not used
		return "", err
	}
	back, err := w.draft(ctx, c)
	if err != nil {
		return "", err
	}
	if back.Name, err = w.freeName(ctx, c); err != nil {
		return "", err
	}
	id, err := w.records.AddCrossing(ctx, back)
	if err != nil {
		return "", err
	}
	if back, err = w.records.CrossingByID(ctx, id); err != nil {
		return "", err
	}
	return back.Name, w.preparer.Stand(ctx, &back, note)
}

// draft is the return path of a crossing.
func (w *Returns) draft(ctx context.Context, c *domain.Crossing) (domain.Crossing, error) {
	tables, err := w.records.Tables(ctx, c.ID)
	if err != nil {
		return domain.Crossing{}, err
	}
	back := domain.Crossing{UID: w.newUID(), Name: c.Name, Kind: domain.KindCapture, SourceID: c.TargetID,
		TargetID: c.SourceID, Source: c.Target, Target: c.Source, Settings: c.Settings, ReturnOf: &c.ID,
		Condition: domain.ConditionRunning}
	back.Patterns, back.Rules = turned.Choice(planning.PlansOf(tables))
	s := &back.Settings
	s.ExistingRows, s.GuardTarget, s.ReturnPath = "keep", "allow", domain.ReturnOpen
	s.StopAt, s.StartFrom, s.Slot = "", "", ""
	s.StopMethod, err = w.stopMethod(ctx, c)
	return back, err
}

// stopMethod is how writes are stopped when one goes back: as on the way forth where both engines are the
// same, by a person's word where that was the way, and otherwise as the engine does it best.
func (w *Returns) stopMethod(ctx context.Context, c *domain.Crossing) (domain.StopMethod, error) {
	method := c.Settings.StopMethod
	from, err := w.records.Database(ctx, c.Source)
	if err != nil {
		return method, err
	}
	to, err := w.records.Database(ctx, c.Target)
	if err != nil {
		return method, err
	}
	fits := w.databases.CheckStopMethod(ctx, c.Target, method) == nil
	if fits && (from.Engine == to.Engine || method == domain.StopWord) {
		return method, nil
	}
	driver, err := w.databases.Driver(to.Engine)
	if err != nil {
		return method, err
	}
	return driver.StopMethods()[0], nil
}

// Suffixes of the names of return paths, by the way that they go.
const (
	suffixBack  = "-back"
	suffixForth = "-forth"
)

// freeName is what the return path of a crossing is called: as the crossing that all began with, and
// that it goes back, or forth again.
func (w *Returns) freeName(ctx context.Context, c *domain.Crossing) (string, error) {
	root, suffix := c.Name, suffixBack
	if c.ReturnOf != nil {
		plain := strings.TrimRight(c.Name, "0123456789")
		plain = strings.TrimSuffix(plain, "-")
		if strings.HasSuffix(plain, suffixBack) {
			root, suffix = strings.TrimSuffix(plain, suffixBack), suffixForth
		} else {
			root = strings.TrimSuffix(plain, suffixForth)
		}
	}
	for n := 1; ; n++ {
		end := suffix
		if n > 1 {
			end = fmt.Sprintf("%s-%d", suffix, n)
		}
		name := root[:min(len(root), longestName-len(end))] + end
		_, err := w.records.Crossing(ctx, name)
		if domain.IsKind(err, domain.ProblemNotFound) {
			return name, nil
		}
		if err != nil {
			return "", err
		}
	}
}

// longestName is how long a crossing's name may be.
const longestName = 63

// of is the return path of a crossing, or nil.
func (w *Returns) of(ctx context.Context, c *domain.Crossing) (*domain.Crossing, error) {
	now, err := w.records.CrossingByID(ctx, c.ID)
	if err != nil || now.ReturnBy == "" {
		return nil, err
	}
	back, err := w.records.Crossing(ctx, now.ReturnBy)
	return &back, err
}

// must is the return path of a crossing that has one.
func (w *Returns) must(ctx context.Context, c *domain.Crossing) (*domain.Crossing, error) {
	back, err := w.of(ctx, c)
	if err == nil && back == nil {
		err = domain.Conflict("the return path of %s is gone", c.Name)
	}
	return back, err
}

// Mark keeps from where on the target's log the return path begins.
func (w *Returns) Mark(ctx context.Context, c *domain.Crossing, at domain.Position) error {
	back, err := w.must(ctx, c)
	if err != nil {
		return err
	}
	cat, err := w.records.CatalogOf(ctx, back.ID)
	if err != nil {
		return err
	}
	return w.records.SaveStart(ctx, back.ID, at, back.Undo, cat)
}

// Start lets the return path follow the target, and returns its name. It can be repeated.
func (w *Returns) Start(ctx context.Context, c *domain.Crossing) (string, error) {
	back, err := w.must(ctx, c)
	if err != nil {
		return "", err
	}
	return back.Name, w.preparer.Follow(ctx, back)
}

// Drop removes a return path that nothing was brought back over, with all that it left on both servers;
// where there is none, it does nothing.
func (w *Returns) Drop(ctx context.Context, c *domain.Crossing) error {
	back, err := w.of(ctx, c)
	if err != nil || back == nil {
		return err
	}
	switch back.Phase {
	case domain.PhaseDraft, domain.PhaseSurveyed, domain.PhasePrepared:
	default:
		return domain.Conflict("the return path %s of %s is in use; close it first", back.Name, c.Name)
	}
	src, dst, err := w.databases.OpenPair(ctx, back)
	if err != nil {
		return err
	}
	if err := src.DropCapture(ctx, back.ObjectName(), back.Undo); err != nil {
		return err
	}
	if err := dst.Forget(ctx, back.UID); err != nil {
		return err
	}
	return w.records.RemoveCrossing(ctx, back.ID)
}

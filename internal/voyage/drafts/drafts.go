// Package drafts makes new crossings: whatever they ask for must be possible between their
// databases, and allowed by the policy.
package drafts

import (
	"context"
	"strings"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Records are where crossings are kept.
type Records interface {
	Policy(ctx context.Context) (domain.Policy, error)
	Defaults(ctx context.Context) (domain.Settings, error)
	Database(ctx context.Context, name string) (domain.Database, error)
	AddCrossing(ctx context.Context, c domain.Crossing) (int64, error)
}

// Engines know what a source can do.
type Engines interface {
	Driver(name string) (engine.Driver, error)
	CheckStopMethod(ctx context.Context, source string, m domain.StopMethod) error
}

// Journal records what people do.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
}

// Drafts makes them.
type Drafts struct {
	records Records
	engines Engines
	journal Journal
}

// New returns drafts.
func New(r Records, e Engines, j Journal) *Drafts { return &Drafts{records: r, engines: e, journal: j} }

// CheckPolicy says which settings and tables the policy does not let a crossing have.
func (d *Drafts) CheckPolicy(ctx context.Context, policy domain.Policy, s domain.Settings, patterns []string) error {
	base, err := d.records.Defaults(ctx)
	if err != nil {
		return err
	}
	return policy.Hold(base, s, patterns)
}

// CheckCaptureSettings says what is wrong with the settings of where capture begins and stops.
func (d *Drafts) CheckCaptureSettings(ctx context.Context, source string, kind domain.Kind, s domain.Settings) error {
	db, err := d.records.Database(ctx, source)
	if err != nil {
		return err
	}
	driver, err := d.engines.Driver(db.Engine)
	if err != nil {
		return err
	}
	if _, err := engine.ParseStop(driver, s.StopAt); err != nil {
		return err
	}
	switch {
	case kind != domain.KindCapture && (s.StartFrom != "" || s.Slot != ""):
		return domain.Invalid("start_from and slot are for crossings that only follow changes; one that copies rows begins " +
			"where its load does")
	case kind == domain.KindLoad && s.StopAt != "":
		return domain.Invalid("stop_at is for crossings that follow changes; one that only copies rows ends with its load")
	case strings.TrimSpace(s.StartFrom) != "":
		if err := driver.CheckPlace(strings.TrimSpace(s.StartFrom)); err != nil {
			return domain.Invalid("start_from: %s", err)
		}
	}
	return nil
}

// Create keeps a draft. uid is what it is known by over all control databases. Without
// stopChosen its way to stop writes is the policy's, which gives way to the source's own where
// that has it not.
func (d *Drafts) Create(ctx context.Context, c domain.Crossing, uid string, stopChosen bool, actor string) error {
	if err := valid(&c); err != nil {
		return err
	}
	policy, err := d.records.Policy(ctx)
	if err != nil {
		return err
	}
	if c.Patterns == nil {
		c.Patterns = policy.Tables
	}
	c.Patterns = append([]string{}, c.Patterns...)
	if err := d.CheckPolicy(ctx, policy, c.Settings, c.Patterns); err != nil {
		return err
	}
	c.Rules = append([]domain.Rule{}, policy.MergeRules(c.Rules)...)
	src, err := d.records.Database(ctx, c.Source)
	if err != nil {
		return err
	}
	dst, err := d.records.Database(ctx, c.Target)
	if err != nil {
		return err
	}
	if err := d.CheckCaptureSettings(ctx, c.Source, c.Kind, c.Settings); err != nil {
		return err
	}
	if err := d.engines.CheckStopMethod(ctx, c.Source, c.Settings.StopMethod); err != nil {
		if stopChosen {
			return err
		}
		driver, err := d.engines.Driver(src.Engine)
		if err != nil {
			return err
		}
		c.Settings.StopMethod = driver.StopMethods()[0]
	}
	if err := domain.ValidPatterns(c.Patterns); err != nil {
		return err
	}
	if err := domain.ValidRules(c.Rules); err != nil {
		return err
	}
	if err := c.Planning.Validate(); err != nil {
		return err
	}
	c.UID, c.SourceID, c.TargetID = uid, src.ID, dst.ID
	if _, err := d.records.AddCrossing(ctx, c); err != nil {
		return err
	}
	d.journal.Recordf(ctx, "info", actor, c.Name, "", "create", "%s created %s: %s from %s to %s", actor, c.Name, c.Kind,
		c.Source, c.Target)
	return nil
}

// valid says what is wrong with a draft by itself, and fills in what it leaves open.
func valid(c *domain.Crossing) error {
	if err := domain.ValidName(c.Name); err != nil {
		return err
	}
	switch c.Kind {
	case "":
		c.Kind = domain.KindLoadCapture
	case domain.KindLoad, domain.KindLoadCapture:
	case domain.KindCapture: // it is about rows that are there
		c.Settings.ExistingRows = "keep"
	default:
		return domain.Invalid("the kind is %q; choose load, load+capture or capture", c.Kind)
	}
	if c.Source == c.Target {
		return domain.Invalid("source and target are both %s; choose two databases", c.Source)
	}
	return c.Settings.Validate()
}

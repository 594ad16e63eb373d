// Package build makes on the target what waits until the rows have landed: indexes and
// constraints, a person's own statements, views, routines and triggers. What one of them came
// to is kept, so that another process goes on.
package build

import (
	"context"
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/core/buildorder"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
	"dustyferry/internal/voyage/journal"
	"dustyferry/internal/voyage/waits"
)

// Records keep what a crossing makes on its target, and what came of it.
type Records interface {
	Tables(ctx context.Context, crossing int64) ([]domain.CrossingTable, error)
	CatalogOf(ctx context.Context, crossing int64) (*domain.Catalog, error)
	Objects(ctx context.Context, crossing int64) ([]domain.TargetObject, error)
	ObjectOf(ctx context.Context, crossing, id int64) (domain.TargetObject, error)
	SaveObjects(ctx context.Context, crossing int64, list []domain.TargetObject, l domain.Listing) error
	RewriteObject(ctx context.Context, crossing, id int64, statement string) error
	// BeginObject notes that an object is being made, and returns the number of the try: 0 when
	// there is nothing to make any more.
	BeginObject(ctx context.Context, id int64) (int64, error)
	// EndObject keeps what came of a try; false when it was not the last one.
	EndObject(ctx context.Context, id, try int64, state, text string, took time.Duration) (bool, error)
	// SetLate notes whether foreign keys wait for the cutover.
	SetLate(ctx context.Context, crossing int64, late bool) error
}

// Databases opens registered databases.
type Databases interface {
	Open(ctx context.Context, name string) (*engine.Opened, error)
}

// Journal records what happens.
type Journal interface {
	Recordf(ctx context.Context, severity, actor, crossing, subject, act, format string, args ...any)
	Record(ctx context.Context, e domain.JournalEntry)
}

// Deferred lists what is made after the load of tables.
type Deferred func(dst *engine.Opened, cat *domain.Catalog, tables []domain.CrossingTable) []domain.TargetObject

// Builder makes objects.
type Builder struct {
	records   Records
	databases Databases
	journal   Journal
	deferred  Deferred
}

// New returns the builder of this process.
func New(r Records, d Databases, j Journal, deferred Deferred) *Builder {
	return &Builder{records: r, databases: d, journal: j, deferred: deferred}
}

// runs carries out an object's statement and keeps what came of it. An object that was made
// meanwhile, or left out, is not made.
func (b *Builder) runs(ctx context.Context, o *domain.TargetObject, f func() error) error {
	try, err := b.records.BeginObject(ctx, o.ID)
	if err != nil || try == 0 {
		return err
	}
	began := time.Now()
	err = f()
	if ctx.Err() != nil {
		return ctx.Err() // another process tries again
	}
	state, text := domain.ObjectMade, ""
	if err != nil {
		state, text = domain.ObjectFailed, err.Error()
	}
	if _, kept := b.records.EndObject(ctx, o.ID, try, state, text, time.Since(began)); kept != nil {
		return kept
	}
	return err
}

// Statements carries out a person's statements of a stage, in their order: the
// first that fails ends it, as later ones may need it. One whose process ended while it ran
// is not run again unasked: it may have taken effect.
func (b *Builder) Statements(ctx context.Context, c *domain.Crossing, dst *engine.Opened, list []domain.TargetObject,
	stage string, note func(string)) error {
	for i := range list {
		o := &list[i]
		if o.Stage != stage || o.Settled() {
			continue
		}
		if o.State == domain.ObjectRunning {
			err := domain.Conflict("it was under way when its process ended, and whether it took effect is not known: look at "+
				"the target; then leave it out if it did ('dustyferry crossing objects %s --id %d --leave-out'), or give it once "+
				"more to have it run ('--file')", c.Name, o.ID)
			if _, kept := b.records.EndObject(ctx, o.ID, o.Try, domain.ObjectFailed, err.Error(), 0); kept != nil {
				return kept
			}
			return fmt.Errorf("statement %s: %w", o.Name, err)
		}
		note("running statement " + o.Name)
		ran := o.Statement
		err := b.runs(ctx, o, func() error { return dst.Run(ctx, o.Statement) })
		what, severity := "ran on the target", "info"
		if err != nil {
			what, severity = "failed on the target: "+err.Error(), "error"
		}
		if ctx.Err() == nil {
			b.journal.Record(ctx, domain.JournalEntry{Actor: journal.System, Crossing: c.Name, Subject: o.Name, Act: "build",
				Severity: severity,
				Message:  fmt.Sprintf("statement %s %s", o.Name, what), Detail: ran})
		}
		if err != nil {
			return fmt.Errorf("statement %s: %w", o.Name, err)
		}
	}
	return nil
}

// collisions is how often an object is tried whose making collides with others.
const collisions = 8

// recount writes down what the plans in the records defer.
func (b *Builder) recount(ctx context.Context, c *domain.Crossing, dst *engine.Opened) ([]domain.TargetObject, error) {
	tables, err := b.records.Tables(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	cat, err := b.records.CatalogOf(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	if err := b.records.SaveObjects(ctx, c.ID, b.deferred(dst, cat, tables), domain.Listing{Adds: true}); err != nil {
		return nil, err
	}
	return b.records.Objects(ctx, c.ID)
}

// Build makes what was deferred on the target: one that fails does not keep the
// others from being made. Foreign keys wait for cutover (last) when changes cannot
// be applied past them, and triggers always do.
func (b *Builder) Build(ctx context.Context, c *domain.Crossing, note func(string), last bool) error {
	if c.ReturnOf != nil {
		return nil // the database that the way back goes to has what belongs to its tables
	}
	dst, err := b.databases.Open(ctx, c.Target)
	if err != nil {
		return err
	}
	list, err := b.records.Objects(ctx, c.ID)
	if err != nil {
		return err
	}
	if len(list) == 0 { // prepared by a version that kept no account of them
		if list, err = b.recount(ctx, c, dst); err != nil {
			return err
		}
	}
	last = last || c.Kind == domain.KindLoad
	early := last || dst.AppliesQuietly(ctx)
	if err := b.records.SetLate(ctx, c.ID, !early); err != nil {
		return err
	}
	landed, err := b.landedThere(ctx, c)
	if err != nil {
		return err
	}
	var waiting []*domain.TargetObject
	for i := range list {
		o := &list[i]
		if o.Stage != domain.StageDeferred || o.Settled() || o.Kind == "foreign" && !early || !landed(o) {
			continue
		}
		waiting = append(waiting, o)
	}
	sizes, err := b.sizesThere(ctx, c)
	if err != nil {
		return err
	}
	n, failed := b.buildAll(ctx, c, dst, waiting, sizes, note)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if len(failed) > 0 {
		return fmt.Errorf("%d of %d objects could not be made; the first: %w ('dustyferry crossing objects %s' lists them)",
			len(failed), n+len(failed), failed[0], c.Name)
	}
	if n > 0 {
		b.journal.Recordf(ctx, "info", journal.System, c.Name, "", "build",
			"%d deferred indexes and constraints stand on the target", n)
	}
	if err := b.Statements(ctx, c, dst, list, domain.StageAfter, note); err != nil {
		return err
	}
	return b.carry(ctx, c, dst, list, last, note)
}

// landedThere says of what objects are made the rows have landed: others have to wait, as
// those of a table that was added, or began again, in the meantime. Objects of one that is being
// added are listed before it is among the tables, and before it stands on the target.
func (b *Builder) landedThere(ctx context.Context, c *domain.Crossing) (func(*domain.TargetObject) bool, error) {
	tables, err := b.records.Tables(ctx, c.ID)
	if err != nil {
		return nil, err
	}
	landed, all := map[string]bool{}, true
	for i := range tables {
		t := &tables[i]
		if t.ChunksLanded < t.Chunks || t.State == domain.TablePlanned || t.State == domain.TableLoading {
			all = false
		} else {
			landed[t.TargetName] = true
		}
	}
	return func(o *domain.TargetObject) bool { return landed[o.Table] && (o.Kind != "foreign" || all) }, nil
}

// carry makes views, routines and, last, triggers. Some need others: what fails is
// tried again as long as any other could be made. What cannot be made is told, and
// stops nothing.
func (b *Builder) carry(ctx context.Context, c *domain.Crossing, dst *engine.Opened, list []domain.TargetObject,
	last bool, note func(string)) error {
	var waiting []*domain.TargetObject
	for i := range list {
		o := &list[i]
		if o.Stage == domain.StageCarried && !o.Settled() && (o.Kind != "trigger" || last) {
			waiting = append(waiting, o)
		}
	}
	made := 0
	for len(waiting) > 0 {
		var left []*domain.TargetObject
		for _, o := range waiting {
			note(fmt.Sprintf("making %s %s", o.Kind, o.Name))
			if err := b.runs(ctx, o, func() error { return dst.Run(ctx, o.Statement) }); err != nil {
				if ctx.Err() != nil {
					return err
				}
				o.Error = err.Error()
				left = append(left, o)
				continue
			}
			made++
		}
		if len(left) == len(waiting) {
			for _, o := range left {
				b.journal.Recordf(ctx, "warning", journal.System, c.Name, o.Name, "build",
					"%s %s could not be made on the target: %s",
					o.Kind, o.Name, o.Error)
			}
			break
		}
		waiting = left
	}
	if made > 0 {
		b.journal.Recordf(ctx, "info", journal.System, c.Name, "", "build",
			"views, routines and triggers made on the target: %d",
			made)
	}
	return nil
}

// ChangeObject writes an object's statement by hand.
func (b *Builder) ChangeObject(ctx context.Context, c *domain.Crossing, id int64, statement,
	actor string) (domain.TargetObject, error) {
	statement = strings.TrimSpace(statement)
	o, err := b.records.ObjectOf(ctx, c.ID, id)
	if err != nil {
		return o, err
	}
	if err := b.records.RewriteObject(ctx, c.ID, id, statement); err != nil {
		return o, err
	}
	if statement == "" {
		b.journal.Record(ctx, domain.JournalEntry{Actor: actor, Crossing: c.Name, Subject: o.Table, Act: "change",
			Severity: "warning",
			Message:  fmt.Sprintf("%s leaves out %s %s", actor, o.Kind, o.Name), Detail: o.Statement})
	} else {
		b.journal.Record(ctx, domain.JournalEntry{Actor: actor, Crossing: c.Name, Subject: o.Table, Act: "change",
			Severity: "warning",
			Message:  fmt.Sprintf("%s wrote %s %s by hand", actor, o.Kind, o.Name), Detail: o.Statement + "\n→\n" + statement})
	}
	return b.records.ObjectOf(ctx, c.ID, id)
}

// made is what came of building an object.
type made struct {
	o   *domain.TargetObject
	err error
}

// buildAll makes deferred objects, several at once, those of the largest tables first.
// Foreign keys come last and one by one: each locks two tables.
func (b *Builder) buildAll(ctx context.Context, c *domain.Crossing, dst *engine.Opened, waiting []*domain.TargetObject,
	sizes map[string]int64, note func(string)) (n int, failed []error) {
	total := len(waiting)
	q := buildorder.New(waiting, func(o *domain.TargetObject) buildorder.Object {
		return buildorder.Object{Table: o.Table, Foreign: o.Kind == "foreign", Beside: dst.BuildsBeside(objectOf(o)),
			Size: sizes[o.Table]}
	})
	done := make(chan made)
	count := func(m made) {
		q.Ended(func(o *domain.TargetObject) bool { return o == m.o })
		if m.err != nil {
			failed = append(failed, m.err)
		} else {
			n++
		}
	}
	for {
		for ctx.Err() == nil {
			o, ok := q.Next(c.Settings.BuildLanes)
			if !ok {
				break
			}
			note(fmt.Sprintf("building %s (%d of %d built)", buildingText(q.Running()), n, total))
			go func() {
				done <- made{o, domain.Guarded("building "+o.Name, func() error { return b.buildOne(ctx, dst, o) })}
			}()
		}
		if len(q.Running()) == 0 {
			return n, failed
		}
		count(<-done)
	}
}

func objectOf(o *domain.TargetObject) engine.Object {
	table, err := domain.ParseTableName(o.Table)
	if err != nil { // of none, or written by a version that did not quote
		table.Schema, table.Name, _ = strings.Cut(o.Table, ".")
	}
	return engine.Object{Kind: o.Kind, Name: o.Name, Table: table, SQL: o.Statement}
}

// buildOne makes one object; one that collides with changes that are applied
// meanwhile, or with others, is tried again.
func (b *Builder) buildOne(ctx context.Context, dst *engine.Opened, o *domain.TargetObject) error {
	return b.runs(ctx, o, func() (err error) {
		for try := range collisions {
			err = dst.Build(ctx, objectOf(o))
			if !engine.Collided(err) || !waits.Sleep(ctx, time.Duration(try+1)*300*time.Millisecond) {
				break
			}
		}
		return err
	})
}

// buildingText names what is being built.
func buildingText(list []*domain.TargetObject) string {
	var out []string
	for _, o := range list {
		out = append(out, fmt.Sprintf("%s %s on %s", o.Kind, o.Name, o.Table))
	}
	return strings.Join(out, ", ")
}

// sizesThere are the sizes of the crossing's tables, by their names on the target.
func (b *Builder) sizesThere(ctx context.Context, c *domain.Crossing) (map[string]int64, error) {
	tables, err := b.records.Tables(ctx, c.ID)
	out := map[string]int64{}
	for i := range tables {
		out[tables[i].TargetName] = max(tables[i].BytesLanded, tables[i].EstBytes)
	}
	return out, err
}

package mariadb

import (
	"context"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// What follows would write to this engine as a target. It is refused, in words,
// before anything moves: the survey blocks.

func refused() error {
	return domain.Conflict("%s; choose a PostgreSQL database as the target", noTarget)
}

// SurveyTarget blocks.
func (d *database) SurveyTarget(context.Context, *domain.Catalog, []domain.TablePlan, domain.Settings) ([]domain.Entry, error) {
	return targetEntries(), nil
}

// Holds counts nothing, as nothing will be removed.
func (d *database) Holds(context.Context, []domain.TablePlan) (map[domain.TableName]int64, error) {
	return nil, nil
}

// PrepareTarget refuses.
func (d *database) PrepareTarget(context.Context, string, *domain.Catalog, []domain.TablePlan, domain.Settings) error {
	return refused()
}

// OpenWriter refuses.
func (d *database) OpenWriter(context.Context) (engine.Writer, error) { return nil, refused() }

// Fence refuses.
func (d *database) Fence(context.Context, string, int64, int64) (*engine.Mark, error) {
	return nil, refused()
}

// ClearTable refuses.
func (d *database) ClearTable(context.Context, string, *domain.TablePlan, []int64) error {
	return refused()
}

// TakeStream refuses.
func (d *database) TakeStream(context.Context, string, int64, domain.Position) (domain.Position, error) {
	return 0, refused()
}

// OpenApplier refuses.
func (d *database) OpenApplier(context.Context, string, int64) (engine.Applier, error) {
	return nil, refused()
}

// Deferred has nothing.
func (d *database) Deferred(*domain.Catalog, []domain.TablePlan) []engine.Object { return nil }

// AppliesQuietly does not.
func (d *database) AppliesQuietly(context.Context) bool { return false }

// Build refuses.
func (d *database) Build(context.Context, engine.Object) error { return refused() }

// Unbuild has nothing to drop.
func (d *database) Unbuild(context.Context, []engine.Object) error { return nil }

// SetSequences refuses.
func (d *database) SetSequences(context.Context, []engine.SequenceValue) error { return refused() }

// Repair refuses.
func (d *database) Repair(context.Context, string, domain.Position, *domain.TablePlan, []engine.Fix) error {
	return refused()
}

// ForgetStream has nothing to forget.
func (d *database) ForgetStream(context.Context, string) error { return nil }

// Forget has nothing to forget.
func (d *database) Forget(context.Context, string) error { return nil }

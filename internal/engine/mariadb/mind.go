package mariadb

import (
	"context"

	"dustyferry/internal/domain"
)

// Mind has nothing to see to: this server's log holds every table's changes, in the form that
// is set for all of them.
func (d *database) Mind(context.Context, string, []domain.TablePlan, func(string) error) ([]domain.TableName, error) {
	return nil, nil
}

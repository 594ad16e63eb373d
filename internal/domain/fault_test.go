package domain_test

import (
	"errors"
	"strings"
	"testing"

	"dustyferry/internal/domain"
)

func TestAPanicBecomesAnErrorThatHolds(t *testing.T) {
	err := domain.Guarded("reading hives", func() error { var list []int; _ = list[3]; return nil })
	var f *domain.Fault
	if !domain.IsKind(err, domain.ProblemConflict) || !errors.As(err, &f) || !strings.Contains(err.Error(),
		"reading hives") || !strings.Contains(f.Stack, "fault_test.go") {
		t.Errorf("%v", err)
	}
	if err := domain.Guarded("nothing", func() error { return nil }); err != nil {
		t.Errorf("without a panic: %v", err)
	}
}

package sidebyside_test

import (
	"testing"

	"dustyferry/internal/core/sidebyside"
	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
)

func TestAColumnOnBothSides(t *testing.T) {
	id := domain.Column{Name: "id", Type: "integer", BaseType: "integer", NotNull: true, Identity: "a"}
	note := domain.Column{Name: "note", Type: "text", BaseType: "text", Default: "'none'"}
	twice := domain.Column{Name: "twice", Type: "integer", BaseType: "integer", Generated: true, Default: "id * 2"}
	plan := domain.TablePlan{Key: []string{"id"}, Table: domain.Table{Columns: []domain.Column{id, note, twice}},
		Columns: []domain.Column{id, note}}
	stands := func(cols ...domain.Column) *domain.Table { return &domain.Table{Columns: cols} }
	for _, x := range []struct {
		name string
		k    domain.Column
		t    sidebyside.Table
		want sidebyside.Column
	}{
		{"a key that counts", id, sidebyside.Table{Plan: plan},
			sidebyside.Column{Name: "id", SourceType: "integer", Key: 1, TargetName: "id", TargetType: "integer",
				Mapping: "exact", Carried: true, Note: "numbered by the target"}},
		{"with a default", note, sidebyside.Table{Plan: plan},
			sidebyside.Column{Name: "note", SourceType: "text", Nullable: true, TargetName: "note", TargetType: "text",
				Mapping: "exact", Carried: true, Note: "default 'none'"}},
		{"that is computed", twice, sidebyside.Table{Plan: plan},
			sidebyside.Column{Name: "twice", SourceType: "integer", Nullable: true, TargetName: "twice", TargetType: "integer",
				Mapping: "exact", Note: "computed by the target: id * 2"}},
		{"that a rule leaves out", note, sidebyside.Table{Plan: plan, LeftOut: []string{"note"}},
			sidebyside.Column{Name: "note", SourceType: "text", Nullable: true, Note: "a rule leaves it out"}},
		{"of another type there", note, sidebyside.Table{Plan: plan,
			Noted: []typemap.Noted{{Column: "note", Verdict: typemap.Lossy, Note: "cut at 20"},
				{Column: "id", Note: "not its"}}},
			sidebyside.Column{Name: "note", SourceType: "text", Nullable: true, TargetName: "note", TargetType: "text",
				Mapping: "lossy", Carried: true, Note: "cut at 20; default 'none'"}},
		{"that the target lacks", note, sidebyside.Table{Plan: plan, Target: stands(id)},
			sidebyside.Column{Name: "note", SourceType: "text", Nullable: true, TargetName: "note", Mapping: "exact",
				Carried: true, Blocks: true, Note: "the target's table has no such column"}},
		{"that is another there", note, sidebyside.Table{Plan: plan, Target: stands(id, domain.Column{Name: "note",
			Type: "bytea"})},
			sidebyside.Column{Name: "note", SourceType: "text", Nullable: true, TargetName: "note", TargetType: "bytea",
				Mapping: "exact", Carried: true, Blocks: true, Note: "the target's column has another type"}},
		{"that takes no NULL there", note, sidebyside.Table{Plan: plan,
			Target: stands(domain.Column{Name: "note", Type: "text", NotNull: true})},
			sidebyside.Column{Name: "note", SourceType: "text", Nullable: true, TargetName: "note", TargetType: "text",
				Mapping: "exact", Carried: true, Blocks: true, Note: "the target's column does not take NULL"}},
		{"that stands alike", note, sidebyside.Table{Plan: plan, Target: stands(id, note)},
			sidebyside.Column{Name: "note", SourceType: "text", Nullable: true, TargetName: "note", TargetType: "text",
				Mapping: "exact", Carried: true, Note: "default 'none'"}},
	} {
		if got := sidebyside.Of(x.k, &x.t); got != x.want {
			t.Errorf("a column %s:\n%+v, want\n%+v", x.name, got, x.want)
		}
	}
	unlike := plan
	unlike.CrossEngine, unlike.TargetSide = true, nil
	if got := sidebyside.Of(twice, &sidebyside.Table{Plan: unlike}); got.Mapping != "impossible" || got.TargetName != "" ||
		got.Carried {
		t.Errorf("a computed column on its way to another engine: %+v", got)
	}
}

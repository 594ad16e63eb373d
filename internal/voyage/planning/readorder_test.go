package planning

import (
	"context"
	"strings"
	"testing"

	"dustyferry/internal/core/typemap"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// pages are a source that can be read in the order of the disk, and a target that can remember.
type pages struct {
	servers
	orders map[domain.TableName]domain.DiskOrder
	asked  []string
}

func (p *pages) OpenPair(ctx context.Context, c *domain.Crossing) (src, dst *engine.Opened, err error) {
	src, dst, err = p.servers.OpenPair(ctx, c)
	src.ReadsByDisk, dst.Remembers = p, p
	return src, dst, err
}

func (p *pages) DiskOrders(_ context.Context, plans []*domain.TablePlan) (map[domain.TableName]domain.DiskOrder,
	error) {
	p.asked = nil
	for _, t := range plans {
		p.asked = append(p.asked, t.Source.Name)
	}
	return p.orders, nil
}

func (p *pages) Remembered(context.Context, string, *domain.TablePlan) ([]domain.KeyValue, error) {
	return nil, nil
}

// TestTheOrderInWhichTablesAreRead: by pages where the rows of a large table lie in no order of
// the key, and where a person says so; never where that would not be exact.
func TestTheOrderInWhichTablesAreRead(t *testing.T) {
	name := func(n string) domain.TableName { return domain.TableName{Schema: "marsh", Name: n} }
	share := func(f float64) *float64 { return &f }
	unique := hive("unique", 90<<20, "code:uuid", "badge:text")
	unique.Constraints = []domain.Constraint{{Kind: "unique", Name: "one_badge", Columns: []string{"badge"}}}
	for what, c := range map[string]struct {
		change func(o *coop)
		want   string // tables that are read by pages
	}{
		"found":              {func(*coop) {}, "scattered"},
		"wanted":             {func(o *coop) { o.c.Settings.ReadOrder = "disk" }, "ordered scattered unknown cached"},
		"not wanted":         {func(o *coop) { o.c.Settings.ReadOrder = "key" }, ""},
		"a load alone":       {func(o *coop) { o.c.Kind = domain.KindLoad }, ""},
		"another engine":     {func(o *coop) { o.to = typemap.MariaDB }, ""},
		"rows that are kept": {func(o *coop) { o.c.Settings.ExistingRows = "keep" }, ""},
		"larger chunks":      {func(o *coop) { o.c.Settings.ChunkBytes = 1 << 30 }, ""},
	} {
		t.Run(what, func(t *testing.T) {
			o := newCoop(hive("ordered", 90<<20, "id:bigint"), hive("scattered", 90<<20, "code:uuid"),
				hive("unknown", 90<<20, "code:uuid"), hive("cached", 90<<20, "code:uuid"), hive("small", 1<<20, "code:uuid"),
				hive("partitioned", 90<<20, "code:uuid"), unique)
			o.from, o.to = typemap.Postgres, typemap.Postgres
			c.change(o)
			p := &pages{servers: servers{o}, orders: map[domain.TableName]domain.DiskOrder{
				name("ordered"):   {Pages: 9000, Cache: 100, Correlation: share(-0.99)},
				name("scattered"): {Pages: 9000, Cache: 100, Correlation: share(0.013)},
				name("unknown"):   {Pages: 9000, Cache: 100},
				name("cached"):    {Pages: 9000, Cache: 9000, Correlation: share(0)},
				name("small"):     {Pages: 9000, Cache: 100, Correlation: share(0)},
				name("unique"):    {Pages: 9000, Cache: 100, Correlation: share(0)},
			}}
			s, entries, err := New(o, p, o, nil).Plan(t.Context(), o.c)
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, plan := range s.Plans {
				there := plan.TargetPlan()
				if plan.ReadByDisk() != there.ReadByDisk() {
					t.Errorf("%s is read by pages for one side alone", plan.Source)
				}
				if plan.ReadByDisk() {
					got = append(got, plan.Source.Name)
				}
			}
			if strings.Join(got, " ") != c.want {
				t.Errorf("by pages are read %q, want %q", got, c.want)
			}
			if text := lines(entries); strings.Count(text, "read in the order of the disk") != len(got) ||
				c.want == "scattered" &&
					!strings.Contains(text, "correlation 0.01) and its 9000 pages do not fit the server's cache of 100") {
				t.Errorf("the survey says:\n%s", text)
			}
		})
	}
}

package planning

import (
	"context"
	"fmt"
	"math"

	"dustyferry/internal/core/chunkplan"
	"dustyferry/internal/core/follow"
	"dustyferry/internal/domain"
)

// inOrder is from which correlation on the rows of a table count as lying in the order of its key.
const inOrder = 0.9

// topicReadOrder is of tables that are read in the order of the disk.
const topicReadOrder = "read order"

// readOrders chooses for each table whether it is cut by its key, or by the pages in which its rows
// lie, and says why. Only what changes are followed of is cut by pages: without, rows that move
// from one page to another while it is read would be lost, or come twice.
func readOrders(ctx context.Context, c *domain.Crossing, s *Surveyed) ([]domain.Entry, error) {
	way := c.Settings.ReadOrder
	if way == domain.ReadByKey || c.Kind != domain.KindLoadCapture || s.Source.ReadsByDisk == nil ||
		s.Target.Remembers == nil {
		return nil, nil
	}
	var large []*domain.TablePlan
	for i := range s.Plans {
		p := &s.Plans[i]
		if !p.CrossEngine && p.Splittable() && !p.ReplaceRange && p.Watermark == "" &&
			p.ExistingRowsPolicy(c.Settings) != "keep" && !follow.Replaces(p) &&
			chunkplan.Count(p.Table.Bytes, ChunkAim(c.Settings)) > 1 {
			large = append(large, p)
		}
	}
	if len(large) == 0 {
		return nil, nil
	}
	orders, err := s.Source.DiskOrders(ctx, large)
	if err != nil {
		return nil, err
	}
	var out []domain.Entry
	for _, p := range large {
		o, able := orders[p.Source]
		why := byDisk(o, way)
		if !able || why == "" {
			continue
		}
		p.ReadOrder = domain.ByDisk
		if p.TargetSide != nil {
			p.TargetSide.ReadOrder = domain.ByDisk
		}
		out = append(out, domain.Entry{Verdict: domain.OK, Topic: topicReadOrder, Subject: p.Source.String(),
			Measured: "read in the order of the disk, as " + why})
	}
	return out, nil
}

// byDisk says why a table is read in the order of the disk; empty: it is not.
func byDisk(o domain.DiskOrder, way string) string {
	switch {
	case way == domain.ReadByDisk:
		return "read_order says"
	case o.Correlation == nil || o.Pages <= o.Cache || math.Abs(*o.Correlation) >= inOrder:
		return ""
	}
	return fmt.Sprintf("its rows do not lie in the order of its key (correlation %.2f) and its %d pages do not fit the "+
		"server's cache of %d: by the key, most pages would be read many times", *o.Correlation, o.Pages, o.Cache)
}

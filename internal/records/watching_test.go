package records_test

import (
	"fmt"
	"testing"
	"time"

	"dustyferry/internal/core/rowhash"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
)

func exec(t *testing.T, s *records.Store, q string, args ...any) {
	t.Helper()
	if _, err := s.DB.ExecContext(t.Context(), q, args...); err != nil {
		t.Fatalf("%s: %v", q, err)
	}
}

// TestHistoryIsThinnedWithAge: what is old is kept a reading a minute, what is
// older one in ten minutes, and no peak of lag is lost.
func TestHistoryIsThinnedWithAge(t *testing.T) {
	s := open(t)
	c, _ := loading(t, s, 1, 1)
	fill := func(age time.Duration) {
		exec(t, s, `
INSERT INTO samples (crossing_id, at, rows, bytes, changes, lag_seconds, lag_bytes)
SELECT $1, date_bin('1 hour', now() - $2::interval, 'epoch') + n * interval '2 seconds', n, n, n, CASE
  WHEN n = 777 THEN 99 ELSE 1 END, 5 FROM generate_series(0, 1799) n`,
			c.ID, fmt.Sprintf("%d seconds", int(age.Seconds())))
	}
	fill(30 * time.Minute) // an hour of readings that ends within the last two
	fill(10 * time.Hour)
	fill(100 * time.Hour)
	for range 2 { // thinning again changes nothing
		if err := s.ThinSamples(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	count := func(from, to time.Duration) (int, float64) {
		rows, err := s.Samples(t.Context(), c.ID, time.Now().Add(-from), time.Now().Add(-to))
		if err != nil {
			t.Fatal(err)
		}
		peak := 0.0
		for _, r := range rows {
			peak = max(peak, r.LagSeconds)
		}
		return len(rows), peak
	}
	if n, _ := count(90*time.Minute, 0); n < 800 {
		t.Errorf("of the newest readings %d are left", n)
	}
	if n, peak := count(12*time.Hour, 8*time.Hour); n < 60 || n > 62 || peak != 99 {
		t.Errorf("ten hours old: %d readings, peak %v s", n, peak)
	}
	if n, peak := count(102*time.Hour, 98*time.Hour); n < 6 || n > 8 || peak != 99 {
		t.Errorf("four days old: %d readings, peak %v s", n, peak)
	}
}

// TestTheJournalIsFiltered: each filter lets through what it says, and % and _
// are letters.
func TestTheJournalIsFiltered(t *testing.T) {
	s := open(t)
	for _, e := range []domain.JournalEntry{
		{Actor: "ann", Crossing: "spring", Subject: "s.hives", Act: "chunk", Severity: "warning", Message: "chunk 3 failed"},
		{Actor: "ann", Crossing: "spring", Act: "start", Message: "ann started spring"},
		{Actor: "bo", Crossing: "autumn", Act: "hold", Severity: "error", Message: "100% full"},
	} {
		if err := s.Write(t.Context(), e); err != nil {
			t.Fatal(err)
		}
	}
	later := time.Now().Add(time.Hour)
	for name, c := range map[string]struct {
		f    records.EntryFilter
		want int
	}{
		"all":            {records.EntryFilter{}, 3},
		"a crossing":     {records.EntryFilter{Crossing: "spring"}, 2},
		"a person":       {records.EntryFilter{Actor: "bo"}, 1},
		"an act":         {records.EntryFilter{Act: "start"}, 1},
		"a table":        {records.EntryFilter{Subject: "s.hives"}, 1},
		"warnings":       {records.EntryFilter{Severity: "warning"}, 2},
		"errors":         {records.EntryFilter{Severity: "error"}, 1},
		"a text":         {records.EntryFilter{Search: "STARTED"}, 1},
		"a percent sign": {records.EntryFilter{Search: "0%"}, 1},
		"an underscore":  {records.EntryFilter{Search: "_"}, 0},
		"later":          {records.EntryFilter{Since: &later}, 0},
		"before then":    {records.EntryFilter{Until: &later, Crossing: "autumn"}, 1},
		"after one":      {records.EntryFilter{After: 1}, 2},
		"before one":     {records.EntryFilter{Before: 2}, 1},
	} {
		c.f.Limit = 10
		if got, err := s.Journal(t.Context(), c.f); err != nil || len(got) != c.want {
			t.Errorf("%s: %d entries, want %d (%v)", name, len(got), c.want, err)
		}
	}
}

// TestCrossingsAndTablesInPages: orders, filters and sums of what is watched.
func TestCrossingsAndTablesInPages(t *testing.T) {
	s := open(t)
	c, table := loading(t, s, 2, 4)
	k, err := s.Claim(t.Context(), c.ID, "w", domain.BatchHint{})
	if err != nil || k == nil {
		t.Fatal(err)
	}
	if err := s.Landed(t.Context(), k.ID, k.Epoch, domain.Snapshot{Log: domain.PositionAt(7)},
		rowhash.Sum{Rows: 10, Bytes: 1000}); err != nil {
		t.Fatal(err)
	}
	if k, err = s.Claim(t.Context(), c.ID, "w", domain.BatchHint{}); err != nil || k == nil {
		t.Fatal(err)
	}
	if err := s.ChunkProgress(t.Context(), k.ID, k.Epoch, 5, 700, 500, ""); err != nil {
		t.Fatal(err)
	}
	line, err := s.Line(t.Context(), c.Name)
	if err != nil || line.Rows != 15 || line.Bytes != 1500 || line.ChunksLanded != 1 || line.Chunks != 4 ||
		line.WaitsFor != "" {
		t.Errorf("%+v (%v)", line.Progress, err)
	}
	if err := s.TakeSamples(t.Context()); err != nil {
		t.Fatal(err)
	}
	x, err := s.Samples(t.Context(), c.ID, time.Now().Add(-time.Minute), time.Now().Add(time.Minute))
	if err != nil || len(x) != 1 || x[0].BytesIn != 1700 || x[0].BytesOut != 1500 {
		t.Errorf("what came in and went out: %+v (%v)", x, err)
	}
	for range 2 {
		if err := s.RateTables(t.Context()); err != nil {
			t.Fatal(err)
		}
		if err := s.ChunkProgress(t.Context(), k.ID, k.Epoch, 5000, 700_000, 500_000, ""); err != nil {
			t.Fatal(err)
		}
		time.Sleep(20 * time.Millisecond)
	}
	tables, matched, states, err := s.TableLines(t.Context(), c.ID, records.TableFilter{Limit: 10, Sort: "rate",
		Descending: true})
	if err != nil || matched != 1 || states["loading"] != 1 || tables[0].Rows != 5010 || tables[0].BytesRate <= 0 {
		t.Errorf("%+v %v (%v)", tables, states, err)
	}
	if _, matched, _, _ := s.TableLines(t.Context(), c.ID, records.TableFilter{Limit: 10, Search: "%"}); matched != 0 {
		t.Error("a percent sign matches everything")
	}
	cells, err := s.Cells(t.Context(), table.ID, 0, 3, 3)
	if err != nil || len(cells) != 2 || cells[0].Landed != 1 || cells[0].Reading != 1 || cells[0].Pending != 1 ||
		cells[1].First != 3 {
		t.Errorf("%+v (%v)", cells, err)
	}
	if mine, err := s.GiveBack(t.Context(), k, k.Epoch, 0, "the line was cut", true, ""); err != nil || !mine {
		t.Fatal(mine, err)
	}
	again, tries, err := s.ChunkStory(t.Context(), table.ID, k.Ordinal)
	if err != nil || again.State != domain.ChunkPending || len(tries) != 1 || tries[0].Error != "the line was cut" {
		t.Errorf("%+v %+v (%v)", again, tries, err)
	}
	if held, err := s.Hold(t.Context(), c.ID, "mend it"); err != nil || !held {
		t.Fatal(held, err)
	}
	for _, sort := range []string{"need", "name", "phase", "progress", "rate", "lag", "created",
		"'; DROP TABLE crossings"} {
		got, n, err := s.Lines(t.Context(), records.Filter{Sort: sort, Waiting: true})
		if err != nil || n != 1 || len(got) != 1 || got[0].WaitsFor != "mend it" {
			t.Errorf("by %s: %d (%v)", sort, n, err)
		}
	}
	if tot, err := s.Totals(t.Context()); err != nil || tot.Total != 1 || tot.Waiting != 1 || tot.UnderWay != 0 {
		t.Errorf("%+v (%v)", tot, err)
	}
	// A change of columns is counted once for each place in the log.
	for _, at := range []domain.Position{domain.PositionAt(50), domain.PositionAt(50), domain.PositionAt(40),
		domain.PositionAt(60)} {
		if err := s.NoteColumnChange(t.Context(), table.ID, at); err != nil {
			t.Fatal(err)
		}
	}
	if one, err := s.TableLine(t.Context(), c.ID, table.ID); err != nil || one.ColumnChanges != 2 {
		t.Errorf("%d column changes (%v)", one.ColumnChanges, err)
	}
}

package records_test

import (
	"testing"
	"time"

	"dustyferry/internal/domain"
)

// TestSourcesThatStayClosed: those of cutovers, unless a way back leads to them, has led, or may have.
func TestSourcesThatStayClosed(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	c, _ := loading(t, s, 1, 1)
	exec := func(sql string, args ...any) {
		t.Helper()
		if _, err := s.DB.Exec(sql, args...); err != nil {
			t.Fatal(err)
		}
	}
	list := func(want int, why string) (one domain.ClosedSource) {
		t.Helper()
		got, err := s.ClosedSources(ctx)
		if err != nil || len(got) != want {
			t.Fatalf("%s: %+v, %v", why, got, err)
		}
		if want > 0 {
			one = got[0]
		}
		return one
	}
	exec(`INSERT INTO cutovers (crossing_id, rehearsal, state, settings, actor, paused_at) VALUES
  ($1, true, 'done', '{"stop_method": "read-only", "return_path": "none"}', 'ann', now()),
  ($1, false, 'undone', '{"stop_method": "read-only", "return_path": "none"}', 'ann', now())`, c.ID)
	list(0, "it was not cut over")
	exec(`UPDATE crossings SET phase = 'cut over' WHERE id = $1`, c.ID)
	list(0, "it has only rehearsed")
	exec(`INSERT INTO cutovers (crossing_id, rehearsal, state, settings, actor, paused_at) VALUES ($1, false, 'done',
  '{"stop_method": "read-only", "return_path": "none"}', 'ann', now() - interval '1 hour')`, c.ID)
	one := list(1, "there is no way back")
	if one.Method != domain.StopReadOnly || one.Name != c.Name || time.Since(one.Since) < 50*time.Minute {
		t.Errorf("%+v", one)
	}
	if err := s.ClosedAgain(ctx, one.Cutover, false); err != nil {
		t.Fatal(err)
	}
	if one = list(1, "it was closed again"); time.Since(one.Since) > time.Minute {
		t.Errorf("since %s", one.Since)
	}
	exec(`UPDATE cutovers SET settings = '{"stop_method": "read-only", "return_path": "open"}' WHERE id = $1`, one.Cutover)
	list(0, "a way back there was is not known of any more")
	back, err := s.AddCrossing(ctx, domain.Crossing{UID: "b", Name: "spring-back", Kind: domain.KindCapture,
		SourceID: c.TargetID, TargetID: c.SourceID, ReturnOf: &c.ID, Settings: domain.DefaultSettings()})
	if err != nil {
		t.Fatal(err)
	}
	list(1, "the way back is open, and nobody has gone it")
	for _, phase := range []string{"cutting over", "cut over", "closed"} {
		exec(`UPDATE crossings SET phase = $2 WHERE id = $1`, back, phase)
		list(0, "the way back is "+phase)
	}
	exec(`UPDATE crossings SET phase = 'in step' WHERE id = $1`, back)
	exec(`INSERT INTO cutovers (crossing_id, rehearsal, state, settings, actor) VALUES ($1, true, 'running', '{}', 'ann')`,
		back)
	list(1, "going back is rehearsed")
	exec(`INSERT INTO cutovers (crossing_id, rehearsal, state, settings, actor) VALUES ($1, false, 'running', '{}', 'ann')`,
		back)
	list(0, "somebody goes back")
	exec(`DELETE FROM cutovers WHERE crossing_id = $1`, back)
	if err := s.ClosedAgain(ctx, one.Cutover, true); err != nil {
		t.Fatal(err)
	}
	list(0, "a person opened it")
}

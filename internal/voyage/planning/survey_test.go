package planning

import (
	"strings"
	"testing"

	"dustyferry/internal/domain"
)

// TestTablesThatCannotBeCutAreToldOf: where their read is long, and changes wait for it.
func TestTablesThatCannotBeCutAreToldOf(t *testing.T) {
	plan := func(name string, megabytes int64, key ...string) domain.TablePlan {
		return domain.TablePlan{Source: domain.TableName{Schema: "marsh", Name: name}, Key: key, KeyOrder: "ours",
			Table: domain.Table{Bytes: megabytes << 20}}
	}
	plans := []domain.TablePlan{plan("hives", 90_000, "id"), plan("visits", 90_000), plan("notes", 30)}
	for _, c := range []struct {
		kind  domain.Kind
		limit int64
		want  string
	}{
		{domain.KindLoadCapture, 0, "marsh.visits: about 37m30s at 41.9 MB/s"},
		{domain.KindLoadCapture, 1 << 20, "marsh.visits: about 25h0m0s at 1.0 MB/s; marsh.notes: about 30s at 1.0 MB/s"},
		{domain.KindLoad, 1 << 20, ""},
	} {
		set := domain.DefaultSettings()
		set.SpeedLimit = c.limit
		var got []string
		for _, e := range oneChunkEntries(&domain.Crossing{Kind: c.kind, Settings: set}, plans) {
			_, text, _ := strings.Cut(e.Measured, "read, ")
			text, _, _ = strings.Cut(text, ", changes")
			got = append(got, e.Subject+": "+text)
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%s, limit %d: %q, want %q", c.kind, c.limit, got, c.want)
		}
	}
}

package api

import (
	"strings"
	"testing"
	"time"

	"dustyferry/internal/domain"
)

func TestACertificateAsText(t *testing.T) {
	at := time.Date(2026, 11, 30, 2, 0, 5, 0, time.UTC)
	rows, found := int64(1200), int64(0)
	c := &domain.Certificate{Crossing: "spring", Kind: domain.KindLoadCapture,
		Source: domain.CertifiedSide{Name: "old-barn", Engine: "mariadb", Host: "127.0.0.1", Port: 3306,
			Database: "saltmarsh", User: "dusty"},
		Phase: domain.PhaseCutOver, ClosedBy: "ada", CreatedAt: &at, RejectedRows: 3, Rejected: []domain.CertifiedRow{
			{Table: "s.hives", Key: []string{"7", "b"}, Error: "it is too long"}},
		Comparison: &domain.CertifiedProof{State: "clean", Depth: domain.DepthHashes, SourceRows: rows, TargetRows: rows,
			Tables: 2},
		Cutover: &domain.CertifiedCut{DecidedBy: "ada", At: &at, WritePauseSeconds: 1.5, Steps: []domain.CertifiedStep{
			{Step: "drain", State: domain.StepDone, Note: "applied", Seconds: 0.25}}},
		NotCompared: 1, Tables: []domain.CertifiedTable{
			{Table: "s.hives", RowsLoaded: rows, SourceRows: &rows, TargetRows: &rows, Findings: &found, ComparedAt: &at,
				SourceHash: "00ff", TargetHash: "00ff", Inserts: 5, Deletes: 2},
			{Table: "s.lots", RowsLoaded: 4}, {Table: "s.counted", ComparedAt: &at}, {Table: "s.unlike", ComparedAt: &at,
				SourceHash: "aa", TargetHash: "bb"}}}
	text := certificateText(c)
	for _, want := range []string{"CERTIFICATE OF THE CROSSING spring",
		"old-barn (mariadb at 127.0.0.1:3306/saltmarsh as dusty)", "created at           2026-11-30T02:00:05Z",
		"clean (hashes), 0 findings", "1\u2009200 on the source", "writes paused for    1.500 s", "drain",
		"3 rows that the target could not take", "s.hives key (7 b): it is too long", "and 2 more",
		"Not compared since they were loaded last: 1", "not compared since it was loaded", "compared by counts only",
		"aa / bb"} {
		if !strings.Contains(text, want) {
			t.Errorf("it does not say %q:\n%s", want, text)
		}
	}
	if strings.Contains(text, "started at") || strings.Contains(text, "CUT BY THE LOAD") {
		t.Errorf("it says what is not known:\n%s", text)
	}
	c.HideRows(func(string) string { return "(hidden)" })
	if text := certificateText(c); strings.Contains(text, "too long") || strings.Contains(text, "7 b") {
		t.Errorf("it shows values of rows:\n%s", text)
	}
}

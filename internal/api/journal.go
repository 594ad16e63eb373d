package api

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"dustyferry/internal/contract"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
)

func (s *calls) ListJournal(ctx context.Context,
	r contract.ListJournalRequestObject) (contract.ListJournalResponseObject, error) {
	p := r.Params
	f := records.EntryFilter{Crossing: text(p.Crossing), Actor: text(p.Actor), Act: text(p.Act), Subject: text(p.Subject),
		Severity: text(p.Severity), Search: text(p.Search), Since: p.Since, Until: p.Until, Limit: 200}
	take(&f.Limit, p.Limit)
	f.Limit = min(max(f.Limit, 1), 10_000)
	take(&f.After, p.After)
	take(&f.Before, p.Before)
	f.Oldest = p.After != nil
	rows, err := s.Store.Journal(ctx, f)
	return contract.ListJournal200JSONResponse(journalLines(ctx, rows)), err
}

// VerifyJournal looks whether the journal is as it was written.
func (s *calls) VerifyJournal(ctx context.Context,
	_ contract.VerifyJournalRequestObject) (contract.VerifyJournalResponseObject, error) {
	r, err := s.Store.VerifyJournal(ctx)
	return contract.VerifyJournal200JSONResponse{Whole: r.Broken == 0, Entries: r.Entries, Unbound: r.Unbound,
		First: r.First, Last: r.Last, Code: r.LastCode, Broken: r.Broken, Why: r.Why}, err
}

// exported is how many entries of an export are read at a time.
const exported = 2000

// ExportJournal writes the chosen entries as they are read, so that a long
// journal costs no memory.
func (s *calls) ExportJournal(ctx context.Context,
	r contract.ExportJournalRequestObject) (contract.ExportJournalResponseObject, error) {
	p := r.Params
	f := records.EntryFilter{Crossing: text(p.Crossing), Actor: text(p.Actor), Act: text(p.Act), Subject: text(p.Subject),
		Severity: text(p.Severity), Search: text(p.Search), Since: p.Since, Until: p.Until, Oldest: true, Limit: exported}
	e := &journalFile{s: s.Server, ctx: ctx, filter: f, format: "csv"}
	if p.Format != nil {
		e.format = string(*p.Format)
	}
	if e.format != "csv" {
		e.format = "jsonl"
	}
	var err error
	e.first, err = s.Store.Journal(ctx, f)
	return e, err
}

// journalFile is an export under way.
type journalFile struct {
	s      *Server
	ctx    context.Context
	filter records.EntryFilter
	format string
	first  []domain.JournalEntry
}

// VisitExportJournalResponse writes the file.
func (e *journalFile) VisitExportJournalResponse(w http.ResponseWriter) error {
	name := "journal"
	if e.filter.Crossing != "" {
		name += "-" + e.filter.Crossing
	}
	kind := map[string]string{"csv": "text/csv; charset=utf-8", "jsonl": "application/x-ndjson"}[e.format]
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name+"."+e.format))
	write := e.lines(w)
	for rows := e.first; len(rows) > 0; {
		for i := range rows {
			if err := write(&rows[i]); err != nil {
				return err
			}
		}
		if len(rows) < exported {
			break
		}
		e.filter.After = rows[len(rows)-1].ID
		var err error
		if rows, err = e.s.Store.Journal(e.ctx, e.filter); err != nil {
			return err
		}
	}
	return nil
}

func (e *journalFile) lines(w io.Writer) func(*domain.JournalEntry) error {
	if e.format == "jsonl" {
		enc := json.NewEncoder(w)
		return func(x *domain.JournalEntry) error {
			return enc.Encode(journalLines(e.ctx, []domain.JournalEntry{*x})[0])
		}
	}
	c := csv.NewWriter(w)
	_ = c.Write([]string{"number", "time", "actor", "crossing", "subject", "act", "severity", "message"})
	c.Flush()
	return func(x *domain.JournalEntry) error {
		err := c.Write([]string{fmt.Sprint(x.ID), x.At.UTC().Format(time.RFC3339Nano), harmless(x.Actor),
			harmless(x.Crossing), harmless(x.Subject), x.Act, x.Severity, harmless(x.Message)})
		c.Flush()
		return err
	}
}

// harmless keeps a spreadsheet from taking a text for a formula.
func harmless(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

package api

import (
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/domain"
)

// certificateText is the readable form of a certificate: fixed width, to be read, printed and
// filed.
func certificateText(c *domain.Certificate) string {
	var b strings.Builder
	line := func(k, v string) {
		if v != "" {
			fmt.Fprintf(&b, "  %-20s %s\n", k, v)
		}
	}
	side := func(s domain.CertifiedSide) string {
		if s.Host == "" { // a file
			return fmt.Sprintf("%s (%s at %s)", s.Name, s.Engine, s.Database)
		}
		return fmt.Sprintf("%s (%s at %s:%d/%s as %s)", s.Name, s.Engine, s.Host, s.Port, s.Database, s.User)
	}
	fmt.Fprintf(&b, "CERTIFICATE OF THE CROSSING %s\n\n", c.Crossing)
	line("kind", string(c.Kind))
	line("from", side(c.Source))
	line("to", side(c.Target))
	line("phase at closing", string(c.Phase))
	line("created at", moment(c.CreatedAt))
	line("started at", moment(c.StartedAt))
	line("landed at", moment(c.LandedAt))
	line("in step at", moment(c.InStepAt))
	line("cut over at", moment(c.CutOverAt))
	line("closed at", moment(c.ClosedAt))
	line("captured from", c.StartPosition)
	line("closed by", c.ClosedBy)
	if r := c.Comparison; r != nil {
		b.WriteString("\nRECONCILIATION\n")
		line("result", fmt.Sprintf("%s (%s), %s findings", r.State, r.Depth, domain.Grouped(r.Findings)))
		rows := "rows"
		if r.Depth == domain.DepthVouched {
			rows = "rows looked at"
		}
		line(rows, fmt.Sprintf("%s on the source, %s on the target, in %d tables", domain.Grouped(r.SourceRows),
			domain.Grouped(r.TargetRows), r.Tables))
		line("at", r.Position)
		line("ended", moment(r.EndedAt))
	} else {
		b.WriteString("\nNo reconciliation was made.\n")
	}
	if c.VouchedTo != "" {
		fmt.Fprintf(&b,
			"\nRows that changes touched were compared up to log position %s: %s, each as often as it was touched anew.\n",
			c.VouchedTo, domain.Grouped(c.VouchedRows))
	}
	if c.NotCompared > 0 {
		fmt.Fprintf(&b, "\nNot compared since they were loaded last: %s of the tables below.\n",
			domain.Grouped(int64(c.NotCompared)))
	}
	if k := c.Cutover; k != nil {
		b.WriteString("\nCUTOVER\n")
		line("decided by", k.DecidedBy)
		line("at", moment(k.At))
		line("end position", k.EndPosition)
		line("writes paused for", fmt.Sprintf("%.3f s", k.WritePauseSeconds))
		for _, s := range k.Steps {
			fmt.Fprintf(&b, "    %-20s %-8s %8.3f s  %s\n", s.Step, s.State, s.Seconds, s.Note)
		}
	}
	certifiedRows(&b, "REJECTED BY THE LOAD", "rows that the target could not take; where later changes or repairs did "+
		"not bring them, they are not there", c.RejectedRows, c.Rejected)
	certifiedRows(&b, "CUT BY THE LOAD", "notes of values longer than the rules allow, which landed cut; cut values of "+
		"the changes that followed are in the journal", c.RowsCut, c.Cut)
	certifiedTables(&b, c.Tables)
	if c.JournalCode != "" {
		fmt.Fprintf(&b, "\nThe journal stood at entry %d, %s.\n", c.JournalEntry, c.JournalCode)
	}
	return b.String()
}

func certifiedRows(b *strings.Builder, title, what string, n int, rows []domain.CertifiedRow) {
	if n == 0 {
		return
	}
	fmt.Fprintf(b, "\n%s\n  %s %s\n", title, domain.Grouped(int64(n)), what)
	for _, r := range rows {
		fmt.Fprintf(b, "    %s key (%s): %s\n", r.Table, strings.Join(r.Key, " "), r.Error)
	}
	if len(rows) < n {
		fmt.Fprintf(b, "    and %d more\n", n-len(rows))
	}
}

func certifiedTables(b *strings.Builder, tables []domain.CertifiedTable) {
	width := len("table")
	for _, t := range tables {
		width = max(width, len(t.Table))
	}
	fmt.Fprintf(b, "\nTABLES\n  %-*s %14s %14s %14s %10s %9s  %-20s  %s\n", width, "table", "rows loaded", "source rows",
		"target rows", "changes", "findings", "compared", "hash on both sides")
	for i := range tables {
		t := &tables[i]
		hash, when := t.SourceHash, moment(t.ComparedAt)
		switch {
		case t.ComparedAt == nil:
			hash, when = "not compared since it was loaded", "-"
		case hash == "":
			hash = "compared by counts only"
		case hash != t.TargetHash:
			hash += " / " + t.TargetHash
		}
		fmt.Fprintf(b, "  %-*s %14s %14s %14s %10s %9s  %-20s  %s\n", width, t.Table, domain.Grouped(t.RowsLoaded),
			whole(t.SourceRows), whole(t.TargetRows), domain.Grouped(t.Changes()), whole(t.Findings), when, hash)
	}
}

// moment writes a time, and nothing where there is none.
func moment(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

// whole writes a number, and a dash where none is known.
func whole(n *int64) string {
	if n == nil {
		return "-"
	}
	return domain.Grouped(*n)
}

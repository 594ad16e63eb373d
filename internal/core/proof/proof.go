// Package proof says what comparisons prove of a crossing's tables as they were loaded
// last, and what is still to be done. It decides; it neither compares nor keeps anything.
package proof

import (
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/domain"
)

// Compared is what the newest comparison of a depth says of a table, made after the table
// had landed.
type Compared struct {
	Table    string
	Number   int64 // the comparison's
	Depth    domain.Depth
	EndedAt  time.Time
	Rows     int64 // on the source
	Findings int64 // counted
	// Of those that were kept one by one: Open + Repaired + Equal <= Findings.
	Open, Repaired, Equal int64
}

// Best chooses, of the newest comparisons of a table, the one that counts: the one by
// hashes, which looks at every value, unless a newer one by counts found a difference, or rows that
// changes touched are known to differ.
func Best(list []Compared) (Compared, bool) {
	var hashes, counts, vouched *Compared
	for i := range list {
		x := &list[i]
		switch {
		case x.Depth == domain.DepthHashes && (hashes == nil || x.Number > hashes.Number):
			hashes = x
		case x.Depth == domain.DepthCounts && (counts == nil || x.Number > counts.Number):
			counts = x
		case x.Depth == domain.DepthVouched && (vouched == nil || x.Number > vouched.Number):
			vouched = x
		}
	}
	switch {
	case vouched != nil && vouched.Findings > vouched.Equal && (hashes == nil || vouched.Number > hashes.Number):
		return *vouched, true
	case hashes == nil && counts == nil:
		return Compared{}, false
	case hashes == nil, counts != nil && counts.Findings > 0 && counts.Number > hashes.Number:
		return *counts, true
	}
	return *hashes, true
}

// Of says whether the tables are proven equal, as an entry of a readiness list. tables are
// all of the crossing's, by name; less is the verdict where nothing is known to be wrong
// and something is unproven, and why follows what is said then.
func Of(crossing string, tables []string, compared map[string]Compared, less domain.Verdict, why string) domain.Entry {
	e := domain.Entry{Verdict: less, Topic: "reconciliation", Subject: crossing, Remedy: "dustyferry reconcile " +
		crossing}
	var counted, open, unlisted, repaired, mended, unproven, shallow []string
	var rows, openRows, unlistedRows, repairedRows, mendedRows, countedRows int64
	oldest := time.Time{}
	for _, name := range tables {
		x, ok := compared[name]
		if !ok {
			unproven = append(unproven, name)
			continue
		}
		rows += x.Rows
		if oldest.IsZero() || x.EndedAt.Before(oldest) {
			oldest = x.EndedAt
		}
		note := func(list *[]string, sum *int64, n int64) {
			if n > 0 {
				*list = append(*list, name)
				*sum += n
			}
		}
		if x.Depth == domain.DepthCounts {
			note(&counted, &countedRows, x.Findings)
			if x.Findings == 0 {
				shallow = append(shallow, name)
			}
			continue
		}
		note(&open, &openRows, x.Open)
		note(&unlisted, &unlistedRows, x.Findings-x.Open-x.Repaired-x.Equal)
		note(&repaired, &repairedRows, x.Repaired)
		note(&mended, &mendedRows, x.Equal)
	}
	switch {
	case len(counted) > 0:
		e.Verdict = domain.Blocker
		e.Measured = fmt.Sprintf("a comparison by counts found %s more on one side than on the other, in %s; a comparison "+
			"by hashes finds which", domain.Many(countedRows, "row"), some(counted))
	case len(open) > 0:
		e.Verdict, e.Remedy = domain.Blocker, "dustyferry repair "+crossing
		e.Measured = fmt.Sprintf("the last comparison left %s open, in %s", domain.Many(openRows, "finding"), some(open))
	case len(unlisted) > 0:
		e.Verdict = domain.Blocker
		e.Measured = fmt.Sprintf("the last comparison counted %s that it did not keep one by one, in %s; compare again now "+
			"that the others were repaired", domain.Many(unlistedRows, "difference"), some(unlisted))
	case len(unproven) == len(tables):
		e.Measured = "source and target have not been compared since they were loaded" + why
	case len(unproven) > 0:
		e.Measured = fmt.Sprintf("%s of %d not compared since they were loaded: %s%s", verb(len(unproven), "table was",
			"tables were"), len(tables), some(unproven), why)
	case len(repaired) > 0:
		e.Measured = fmt.Sprintf("%s repaired and not compared again, in %s%s", verbs(repairedRows, "finding was",
			"findings were"), some(repaired), why)
		e.Remedy = "dustyferry recheck " + crossing
	case len(shallow) > 0:
		e.Measured = fmt.Sprintf("%s of %d compared by counts only, which sees no changed values: %s%s",
			verb(len(shallow), "table was", "tables were"), len(tables), some(shallow), by(why))
	default:
		e.Verdict, e.Remedy = domain.OK, ""
		e.Measured = fmt.Sprintf("all %s compared by hashes and equal, %s (the oldest comparison ended %s)",
			verb(len(tables), "table was", "tables were"), domain.Many(rows, "row"), oldest.UTC().Format(time.DateTime))
		if mendedRows > 0 {
			e.Measured += fmt.Sprintf("; %s that differed were compared again after a repair and are equal",
				domain.Many(mendedRows, "row"))
		}
	}
	return e
}

// by adds to a reason that counts do not do.
func by(why string) string {
	if why == "" {
		return ""
	}
	return why + ", by hashes"
}

func verb(n int, one, more string) string { return verbs(int64(n), one, more) }

func verbs(n int64, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return domain.Grouped(n) + " " + more
}

// some names the first of a list.
func some(names []string) string {
	const shown = 5
	if len(names) <= shown {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:shown], ", "), len(names)-shown)
}

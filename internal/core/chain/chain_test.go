package chain_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/core/chain"
	"dustyferry/internal/domain"
)

var key = []byte("of the service")

// journal is one of so many entries.
func journal(n int) []domain.JournalEntry {
	var out []domain.JournalEntry
	before := ""
	for i := range n {
		e := domain.JournalEntry{ID: int64(i + 1), At: time.Unix(1_800_000_000, int64(i)*1000).UTC(), Actor: "ann",
			Act: "cutover", Severity: "info", Message: strings.Repeat("m", i), Before: before}
		e.Code = chain.Code(key, before, &e)
		before = e.Code
		out = append(out, e)
	}
	return out
}

func verify(list []domain.JournalEntry, last domain.JournalEntry) chain.Result {
	v := chain.Verifier{Key: key}
	for i := range list {
		if !v.Look(&list[i]) {
			break
		}
	}
	return v.End(last.ID, last.Code)
}

func TestAJournalThatIsWhole(t *testing.T) {
	list := journal(9)
	if r := verify(list, list[8]); r.Broken != 0 || r.Entries != 9 || r.First != 1 || r.Last != 9 ||
		r.LastCode != list[8].Code {
		t.Errorf("%+v", r)
	}
	// The oldest are thinned out by a rule, and older ones have no code.
	if r := verify(list[4:], list[8]); r.Broken != 0 || r.Entries != 5 || r.First != 5 {
		t.Errorf("thinned: %+v", r)
	}
	old := []domain.JournalEntry{{ID: -1, Message: "before"}, {ID: 0, Message: "there was a chain"}}
	if r := verify(append(old, list...), list[8]); r.Broken != 0 || r.Unbound != 2 || r.Entries != 9 {
		t.Errorf("older: %+v", r)
	}
	// Those of a key that was replaced.
	other := journal(3)
	for i := range other {
		other[i].Code = chain.Code([]byte("of before"), other[i].Before, &other[i])
	}
	anew := domain.JournalEntry{ID: 4, Before: other[2].Code, Message: "the key was replaced"}
	anew.Code = chain.Code(key, anew.Before, &anew)
	if r := verify(append(other, anew), anew); r.Broken != 0 || r.Unbound != 3 || r.Entries != 1 {
		t.Errorf("another key: %+v", r)
	}
	if r := verify(nil, domain.JournalEntry{}); r.Broken != 0 || r.Entries != 0 {
		t.Errorf("none: %+v", r)
	}
}

// TestEveryChangeBreaksIt: of any field of any entry, and any entry taken out, put in or moved.
func TestEveryChangeBreaksIt(t *testing.T) {
	whole := journal(7)
	for i := range whole {
		for name, change := range map[string]func(e *domain.JournalEntry){
			"at":       func(e *domain.JournalEntry) { e.At = e.At.Add(time.Microsecond) },
			"actor":    func(e *domain.JournalEntry) { e.Actor = "bob" },
			"crossing": func(e *domain.JournalEntry) { e.Crossing = "x" },
			"subject":  func(e *domain.JournalEntry) { e.Subject = "x" },
			"act":      func(e *domain.JournalEntry) { e.Act = "close" },
			"severity": func(e *domain.JournalEntry) { e.Severity = "error" },
			"message":  func(e *domain.JournalEntry) { e.Message += "!" },
			"detail":   func(e *domain.JournalEntry) { e.Detail = "x" },
			"moved":    func(e *domain.JournalEntry) { e.Actor, e.Crossing = "an", "n" },
			"no code":  func(e *domain.JournalEntry) { e.Code = "" },
			"without the key": func(e *domain.JournalEntry) {
				e.Message += "!"
				e.Code = chain.Code(nil, e.Before, e)
			},
		} {
			list := slices.Clone(whole)
			change(&list[i])
			// The first ones may be from before there was a chain, and are counted as such.
			before := i == 0 && (name == "no code" || name == "without the key")
			if r := verify(list, whole[6]); (r.Broken == 0) != before || before && r.Unbound != 1 {
				t.Errorf("%s of entry %d: %+v", name, i+1, r)
			}
		}
		if gone := slices.Delete(slices.Clone(whole), i, i+1); i > 0 {
			if r := verify(gone, whole[6]); r.Broken == 0 {
				t.Errorf("entry %d is gone: %+v", i+1, r)
			}
		}
	}
	twice := slices.Insert(slices.Clone(whole), 3, whole[2])
	if r := verify(twice, whole[6]); r.Broken != 3 {
		t.Errorf("an entry twice: %+v", r)
	}
	if r := verify(nil, whole[6]); r.Broken != 7 {
		t.Errorf("all gone: %+v", r)
	}
}

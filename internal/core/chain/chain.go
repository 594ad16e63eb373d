// Package chain ties the entries of a journal to one another: each carries a code over itself and the
// code of the one before, by a key that the records do not hold. An entry that is changed, taken out or
// put in afterwards, by whoever can write to the records alone, does not fit any more.
//
// The code is the key's name, a colon, and HMAC-SHA-256 (RFC 2104) over the fields in order, each behind
// its length.
package chain

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"dustyferry/internal/domain"
)

// Code is the code of an entry that follows the one with the code before.
func Code(key []byte, before string, e *domain.JournalEntry) string {
	h := hmac.New(sha256.New, key)
	for _, field := range []string{before, e.At.UTC().Truncate(time.Microsecond).Format(time.RFC3339Nano), e.Actor,
		e.Crossing, e.Subject, e.Act, e.Severity, e.Message, e.Detail} {
		var n [8]byte
		binary.BigEndian.PutUint64(n[:], uint64(len(field)))
		_, _ = h.Write(n[:])
		_, _ = h.Write([]byte(field))
	}
	return name(key) + ":" + hex.EncodeToString(h.Sum(nil))
}

// name tells keys apart without telling them.
func name(key []byte) string {
	h := hmac.New(sha256.New, key)
	_, _ = h.Write([]byte("name"))
	return hex.EncodeToString(h.Sum(nil))[:8]
}

// Result is what was found of a journal's chain.
type Result struct {
	Entries  int64 // that fit
	Unbound  int64 // from before there was a chain, or before the key was replaced
	First    int64 // number of the first entry of the chain that is still there
	Last     int64
	LastCode string
	Broken   int64  // number of the first entry that does not fit; 0: none
	Why      string // it does not
}

// Verifier looks at a journal's entries, oldest first.
type Verifier struct {
	Key []byte
	Result
}

// Look takes the next entry in; it reports whether the chain is whole up to it.
func (v *Verifier) Look(e *domain.JournalEntry) bool {
	switch {
	case v.Broken != 0:
		return false
	case v.Entries == 0 && !strings.HasPrefix(e.Code, name(v.Key)+":"):
		v.Unbound++
		return true
	case e.Code == "":
		return v.broken(e.ID, "it carries no code, and the entries before it do")
	case v.Entries > 0 && e.Before != v.LastCode:
		return v.broken(e.ID, fmt.Sprintf("it does not follow entry %d: an entry between them is gone, or one was put in",
			v.Last))
	case Code(v.Key, e.Before, e) != e.Code:
		return v.broken(e.ID, "it is not as it was written, or was written with another key")
	}
	if v.Entries == 0 {
		v.First = e.ID
	}
	v.Entries++
	v.Last, v.LastCode = e.ID, e.Code
	return true
}

func (v *Verifier) broken(id int64, why string) bool {
	v.Broken, v.Why = id, why
	return false
}

// End holds what was seen last against the newest code that the records know.
func (v *Verifier) End(last int64, code string) Result {
	if v.Broken == 0 && code != v.LastCode && (v.Entries > 0 || strings.HasPrefix(code, name(v.Key)+":")) {
		v.broken(last, "the newest entries are gone, of which the last was this one")
	}
	return v.Result
}

package hunt

import (
	"context"
	"regexp"
	"time"
)

var figures = regexp.MustCompile(`[0-9][0-9a-f]*|"[^"]*"`)

// kindOf is what a fault is about, without its figures and names.
func kindOf(v Verdict) string {
	k := figures.ReplaceAllString(short(v.Fault), "#")
	if len(k) > 60 {
		k = k[:60]
	}
	return k
}

// Shrink takes steps out of a script as long as it fails in the same way, for some minutes at
// the most.
func (l *Lane) Shrink(ctx context.Context, s *Script, v Verdict) (*Script, Verdict) {
	end := time.Now().Add(3 * time.Minute)
	kind := kindOf(v)[:min(14, len(kindOf(v)))]
	for size := max(len(s.Steps)/3, 1); size >= 1; size /= 2 {
		for at := len(s.Steps) - size; at >= 0 && time.Now().Before(end) && ctx.Err() == nil; at -= size {
			if at+size > len(s.Steps) || essential(s, at, at+size) {
				continue
			}
			less := s.Without(at, at+size)
			w := l.Run(ctx, less)
			if k := kindOf(w); w.Fault != "" && k[:min(14, len(k))] == kind {
				s, v = less, w
			}
		}
	}
	return s, v
}

// essential steps stay: without them nothing is tested.
func essential(s *Script, from, to int) bool {
	for _, st := range s.Steps[from:to] {
		if st.Do == Ferry && (st.Text == "create" || st.Text == "start") {
			return true
		}
	}
	return false
}

// broken reports whether the lane's product no longer answers.
func (l *Lane) broken() bool {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	for _, s := range []side{l.source, l.target} { // a server may not have come back from a crash
		if s.server != nil && l.superuser(ctx, s.server, "SELECT 1") != nil {
			return true
		}
		if s.maria != nil && !s.maria.Up(ctx) {
			return true
		}
	}
	code, _, err := l.product.call(ctx, "GET", "/api/crossings", nil)
	return err != nil || code != 200
}

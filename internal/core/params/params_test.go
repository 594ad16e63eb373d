package params

import (
	"slices"
	"strings"
	"testing"
	"time"
)

func TestFill(t *testing.T) {
	now := time.Date(2026, 3, 31, 14, 5, 9, 0, time.FixedZone("", 7200))
	values := map[string]string{"since": "today - 7 days", "until": "now", "lately": "now - 90 minutes",
		"month": "today - 1 month", "leap": "today + 2 years",
		"day": "today", "hive": "-12.5", "name": `O'Brien \ son`, "none": ""}
	for sql, want := range map[string]string{
		"read_at >= :since AND read_at < :until": "read_at >= '2026-03-24' AND read_at < '2026-03-31 12:05:09'",
		"at > :lately":                           "at > '2026-03-31 10:35:09'",
		":month::date, :leap":                    "'2026-02-28'::date, '2028-03-31'",
		"day = :day OR id=:hive":                 "day = '2026-03-31' OR id=-12.5",
		"name = :name AND note <> :none":         `name = 'O''Brien \ son' AND note <> ''`,
		"':since' || \":day\" || `:day`":         "':since' || \":day\" || `:day`",
		"a -- :since\n/* :day */ + x::int":       "a -- :since\n/* :day */ + x::int",
		"'it''s :day' || $$ :day $$ || a[1:2]":   "'it''s :day' || $$ :day $$ || a[1:2]",
		"a[1:3], b[n:2], ':'":                    "a[1:3], b[n:2], ':'",
	} {
		got, _, err := Set{Values: values, Now: now}.Fill(sql)
		if err != nil || got != want {
			t.Errorf("%s\nbecame %s (%v)\nwant   %s", sql, got, err, want)
		}
	}
	got, used, err := Set{Values: values, Now: now, Backslash: true}.Fill(":name, :hive, :name")
	if err != nil || got != `'O''Brien \\ son', -12.5, 'O''Brien \\ son'` ||
		!slices.Equal(used, []string{"name", "hive", "name"}) {
		t.Errorf("%s %q %v", got, used, err)
	}
	if _, _, err := (Set{Values: values}).Fill("a = :other"); err == nil || !strings.Contains(err.Error(),
		`no parameter "other"`) {
		t.Errorf("an unknown name: %v", err)
	}
}

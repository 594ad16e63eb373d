package isotime

import "testing"

func TestWhatTextsAre(t *testing.T) {
	for _, c := range []struct {
		text                         string
		day, moment, zoned, ofTheDay bool
		written                      string
	}{
		{"2026-05-01", true, false, false, false, "2026-05-01 00:00:00"},
		{"2024-02-29", true, false, false, false, "2024-02-29 00:00:00"},
		{"2026-02-29", false, false, false, false, ""},
		{"1900-02-29", false, false, false, false, ""},
		{"2000-02-29", true, false, false, false, "2000-02-29 00:00:00"},
		{"0000-01-01", false, false, false, false, ""},
		{"2026-13-01", false, false, false, false, ""},
		{"2026-5-1", false, false, false, false, ""},
		{"20x6-05-01", false, false, false, false, ""},
		{"2026-05-01 10:00:00", false, true, false, false, "2026-05-01 10:00:00"},
		{"2026-05-01T10:00:00.250", false, true, false, false, "2026-05-01 10:00:00.25"},
		{"2026-05-01 10:00", false, true, false, false, "2026-05-01 10:00:00"},
		{"2026-05-01 24:00:00", false, false, false, false, ""},
		{"2026-05-01 10:00:00.1234567", false, false, false, false, ""}, // the last digit could not be kept
		{"2026-05-01 10:00:00Z", false, false, true, false, "2026-05-01 10:00:00+00"},
		{"2026-05-01T10:00:00.5+02:00", false, false, true, false, "2026-05-01 08:00:00.5+00"},
		{"2026-05-01 10:00:00+00", false, false, true, false, "2026-05-01 10:00:00+00"},
		{"10:30", false, false, false, true, "10:30:00"},
		{"23:59:59.5", false, false, false, true, "23:59:59.5"},
		{"24:00", false, false, false, false, ""},
		{"", false, false, false, false, ""},
		{"now", false, false, false, false, ""},
	} {
		if IsDate(c.text) != c.day || IsMoment(c.text) != c.moment || IsZoned(c.text) != c.zoned ||
			IsTime(c.text) != c.ofTheDay {
			t.Errorf("%q: day %v, moment %v, zoned %v, time %v", c.text, IsDate(c.text), IsMoment(c.text), IsZoned(c.text),
				IsTime(c.text))
			continue
		}
		var got []byte
		switch {
		case c.day, c.moment:
			got = AppendMoment(nil, c.text)
		case c.zoned:
			got = AppendZoned(nil, c.text)
		case c.ofTheDay:
			got = AppendTime(nil, c.text)
		}
		if string(got) != c.written {
			t.Errorf("%q is written %q, not %q", c.text, got, c.written)
		}
	}
}

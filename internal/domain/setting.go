package domain

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
)

// SettingKind is the form of a setting's value.
type SettingKind string

// The kinds of setting, with the type of their values.
const (
	SettingCount    SettingKind = "count"    // int64
	SettingSize     SettingKind = "size"     // int64, bytes; written like 64MB
	SettingRate     SettingKind = "rate"     // int64, bytes a second; written like 64MB
	SettingShare    SettingKind = "share"    // float64, from 0 to 1
	SettingDuration SettingKind = "duration" // time.Duration; written like 2m30s
	SettingChoice   SettingKind = "choice"   // string, one of the choices
	SettingText     SettingKind = "text"     // string
	SettingTexts    SettingKind = "texts"    // []string
	SettingChoices  SettingKind = "choices"  // []string of the choices
)

// Choice is one of the values that a setting may have.
type Choice struct {
	Value string
	Label string // what it does, in a form
}

// Setting is one choice of a crossing. Manifest and its schema, flags, API, form, defaults,
// locks of the policy, journal and docs/settings.md come from it.
type Setting struct {
	Key         string   // in a manifest, the journal and the policy's locks; a flag has dashes
	Was         []string // keys of before, which are still read
	API         string   // in requests and answers; empty: Key
	Kind        SettingKind
	Group       string
	Label       string // in a form
	Help        string // one sentence
	Zero        string // what 0 or an empty text means, in a form
	Choices     []Choice
	Least       float64 // of counts, sizes, rates and shares, and of durations in seconds
	Most        float64 // 0: any
	Default     any     // nil: off
	Live        bool    // it can be changed while the crossing runs
	Cutover     bool    // it can be given with a cutover
	Admin       bool    // only administrators may set it
	Secret      bool    // what it is may hold a password
	WithoutRows bool    // only crossings that do not copy rows have it

	of    func(*Settings) any // its field
	check func(v any) error   // what kind and bounds do not say
}

// Property is the setting's name in requests and answers.
func (d Setting) Property() string {
	switch {
	case d.API != "":
		return d.API
	case d.Kind == SettingDuration:
		return d.Key + "_seconds"
	}
	return d.Key
}

// Flag is the setting's name on a command line.
func (d Setting) Flag() string { return strings.ReplaceAll(d.Key, "_", "-") }

func (d Setting) field(s *Settings) reflect.Value { return reflect.ValueOf(d.of(s)).Elem() }

// Value is what the setting is, in the type of its kind.
func (d Setting) Value(s Settings) any {
	f := d.field(&s)
	switch v := f.Interface().(type) {
	case time.Duration, float64, int64:
		return v
	case int:
		return int64(v)
	case []string:
		return append([]string{}, v...)
	}
	if f.Kind() == reflect.Slice {
		out := make([]string, f.Len())
		for i := range out {
			out[i] = f.Index(i).String()
		}
		return out
	}
	return f.String()
}

// put sets the setting to a value of its kind's type.
func (d Setting) put(s *Settings, v any) {
	f := d.field(s)
	list, many := v.([]string)
	if !many {
		f.Set(reflect.ValueOf(v).Convert(f.Type()))
		return
	}
	f.SetZero()
	for _, x := range list {
		f.Set(reflect.Append(f, reflect.ValueOf(x).Convert(f.Type().Elem())))
	}
}

// Parse reads the setting as people write it.
func (d Setting) Parse(text string) (any, error) {
	text = strings.TrimSpace(text)
	switch d.Kind {
	case SettingCount:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return nil, Invalid("%s is %q; give a whole number", d.Key, text)
		}
		return n, nil
	case SettingSize, SettingRate:
		n, err := ParseSize(text)
		if err != nil {
			return nil, Invalid("%s: %s", d.Key, err)
		}
		return int64(n), nil
	case SettingShare:
		x, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return nil, Invalid("%s is %q; give a number from 0 to 1", d.Key, text)
		}
		return x, nil
	case SettingDuration:
		x, err := time.ParseDuration(text)
		if err != nil {
			return nil, Invalid("%s is %q; give a duration such as 5s or 2m30s", d.Key, text)
		}
		return x, nil
	case SettingTexts, SettingChoices:
		list := []string{}
		for x := range strings.SplitSeq(text, ",") {
			if x = strings.TrimSpace(x); x != "" {
				list = append(list, x)
			}
		}
		return list, nil
	}
	return text, nil
}

// Text is the setting as people read and write it.
func (d Setting) Text(v any) string {
	switch x := v.(type) {
	case time.Duration:
		return DurationText(x)
	case []string:
		return listText(x)
	case int64:
		if d.Kind == SettingSize || d.Kind == SettingRate {
			return Size(x).String()
		}
	}
	if text := fmt.Sprint(v); text != "" {
		return text
	}
	return "none"
}

// JSON is the setting's value in requests and answers: durations in seconds.
func (d Setting) JSON(v any) any {
	if x, ok := v.(time.Duration); ok {
		return x.Seconds()
	}
	return v
}

// FromJSON reads what [Setting.JSON] makes, after it has been text.
func (d Setting) FromJSON(v any) (any, error) {
	wrong := func(want string) error { return Invalid("%s is %v; give %s", d.Property(), v, want) }
	switch d.Kind {
	case SettingCount, SettingSize, SettingRate:
		x, ok := v.(float64)
		if !ok || x != float64(int64(x)) {
			return nil, wrong("a whole number")
		}
		return int64(x), nil
	case SettingShare, SettingDuration:
		x, ok := v.(float64)
		if !ok {
			return nil, wrong("a number")
		}
		if d.Kind == SettingDuration {
			return time.Duration(x * float64(time.Second)), nil
		}
		return x, nil
	case SettingTexts, SettingChoices:
		raw, ok := v.([]any)
		out := make([]string, len(raw))
		for i := range raw {
			text, is := raw[i].(string)
			out[i], ok = text, ok && is
		}
		if !ok {
			return nil, wrong("a list of texts")
		}
		return out, nil
	}
	text, ok := v.(string)
	if !ok {
		return nil, wrong("a text")
	}
	return text, nil
}

// Values are the setting's choices.
func (d Setting) Values() []string {
	out := make([]string, len(d.Choices))
	for i, c := range d.Choices {
		out[i] = c.Value
	}
	return out
}

// bound writes one of the setting's bounds.
func (d Setting) bound(x float64) string {
	switch d.Kind {
	case SettingSize, SettingRate:
		return Size(x).String()
	case SettingDuration:
		return DurationText(time.Duration(x * float64(time.Second)))
	}
	return strconv.FormatFloat(x, 'f', -1, 64)
}

// Bounds says what the setting may be, in words.
func (d Setting) Bounds() string {
	what := map[SettingKind]string{SettingCount: "a number", SettingSize: "a size",
		SettingRate: "bytes a second, such as 20MB,", SettingShare: "a share", SettingDuration: "a duration"}[d.Kind]
	switch {
	case d.Kind == SettingChoice:
		return "choose " + OneOf(d.Values())
	case d.Most > 0:
		what += " from " + d.bound(d.Least) + " to " + d.bound(d.Most)
	case d.Least > 0:
		what += " of at least " + d.bound(d.Least)
	default:
		what += " of 0 or more"
	}
	if d.Zero != "" && d.Least == 0 {
		what += "; 0 for " + d.Zero
	}
	return "give " + what
}

// valid says what is wrong with a value, or nil.
func (d Setting) valid(v any) error {
	x := d.Least
	switch v := v.(type) {
	case int64:
		x = float64(v)
	case float64:
		x = v
	case time.Duration:
		x = v.Seconds()
	case string:
		if d.Kind == SettingChoice && !slices.Contains(d.Values(), v) {
			return Invalid("%s is %q; %s", d.Key, v, d.Bounds())
		}
	case []string:
		for _, one := range v {
			if d.Kind == SettingChoices && !slices.Contains(d.Values(), one) {
				return Invalid("%s names %q; choose from %s", d.Key, one, OneOf(d.Values()))
			}
		}
	}
	if x < d.Least || d.Most > 0 && x > d.Most || x != x {
		return Invalid("%s is %s; %s", d.Key, d.Text(v), d.Bounds())
	}
	if d.check != nil {
		return d.check(v)
	}
	return nil
}

// DurationText writes a duration as people do: 2m rather than 2m0s.
func DurationText(d time.Duration) string {
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// OneOf lists choices in a sentence.
func OneOf(list []string) string {
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:len(list)-1], ", ") + " or " + list[len(list)-1]
}

package manifest

import (
	"encoding/json"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/invopop/jsonschema"

	"dustyferry/internal/domain"
)

// Settings are the settings that a manifest gives, as people write them: sizes like 64MB,
// durations like 2m30s.
type Settings struct {
	domain.Given
	was []string // keys of before that were used
}

// size is a number of bytes in a manifest.
type size domain.Size

// UnmarshalYAML implements the YAML library's decoder.
func (z *size) UnmarshalYAML(b []byte) error {
	n, err := domain.ParseSize(strings.Trim(strings.TrimSpace(string(b)), `"'`))
	*z = size(n)
	return err
}

// form is a struct with a field for each setting, so that the YAML library reads them as
// strictly as the rest, and says at which line something is wrong.
var form = func() reflect.Type {
	var fields []reflect.StructField
	add := func(d domain.Setting, key string) {
		fields = append(fields, reflect.StructField{Name: "F" + strconv.Itoa(len(fields)), Type: reflect.PointerTo(formOf(d)),
			Tag: reflect.StructTag(`yaml:"` + key + `" setting:"` + d.Key + `"`)})
	}
	for _, d := range domain.SettingsList() {
		for _, key := range append([]string{d.Key}, d.Was...) {
			add(d, key)
		}
	}
	return reflect.StructOf(fields)
}()

func formOf(d domain.Setting) reflect.Type {
	switch d.Kind {
	case domain.SettingCount:
		return reflect.TypeFor[int64]()
	case domain.SettingSize, domain.SettingRate:
		return reflect.TypeFor[size]()
	case domain.SettingShare:
		return reflect.TypeFor[float64]()
	case domain.SettingDuration:
		return reflect.TypeFor[time.Duration]()
	case domain.SettingTexts, domain.SettingChoices:
		return reflect.TypeFor[[]string]()
	}
	return reflect.TypeFor[string]()
}

// UnmarshalYAML implements the YAML library's decoder.
func (s *Settings) UnmarshalYAML(decode func(any) error) error {
	read := reflect.New(form)
	if err := decode(read.Interface()); err != nil {
		return err
	}
	*s = Settings{Given: domain.Given{}}
	for i := range form.NumField() {
		f := read.Elem().Field(i)
		if f.IsNil() {
			continue
		}
		v := f.Elem().Interface()
		if n, ok := v.(size); ok {
			v = int64(n)
		}
		key := form.Field(i).Tag
		s.Given[key.Get("setting")] = v
		if key.Get("yaml") != key.Get("setting") {
			s.was = append(s.was, key.Get("yaml"))
		}
	}
	return nil
}

// MarshalYAML implements the YAML library's encoder: sizes and durations as people write
// them, in the order of the list.
func (s Settings) MarshalYAML() (any, error) {
	var out yaml.MapSlice
	for _, d := range domain.SettingsList() {
		v, ok := s.Given[d.Key]
		if !ok {
			continue
		}
		switch d.Kind {
		case domain.SettingSize, domain.SettingRate, domain.SettingDuration:
			v = d.Text(v)
		}
		out = append(out, yaml.MapItem{Key: d.Key, Value: v})
	}
	return out, nil
}

// JSONSchema implements the schema library's interface.
func (Settings) JSONSchema() *jsonschema.Schema {
	out := &jsonschema.Schema{Type: "object", Properties: jsonschema.NewProperties(),
		AdditionalProperties: jsonschema.FalseSchema}
	for _, d := range domain.SettingsList() {
		p := schemaOf(d)
		p.Description, p.Default = d.Help, nil
		if d.Zero != "" && d.Kind != domain.SettingTexts && d.Kind != domain.SettingChoices {
			p.Description += map[bool]string{true: "; empty: ", false: "; 0 for "}[d.Kind == domain.SettingText] + d.Zero
		}
		if d.Default != nil {
			p.Default = d.JSON(d.Default)
			if !slices.Contains([]domain.SettingKind{domain.SettingCount, domain.SettingChoice}, d.Kind) {
				p.Default = d.Text(d.Default)
			}
		}
		out.Properties.Set(d.Key, p)
	}
	return out
}

func schemaOf(d domain.Setting) *jsonschema.Schema {
	bounded := func(s *jsonschema.Schema) *jsonschema.Schema {
		s.Minimum = json.Number(strconv.FormatFloat(d.Least, 'f', -1, 64))
		if d.Most > 0 {
			s.Maximum = json.Number(strconv.FormatFloat(d.Most, 'f', -1, 64))
		}
		return s
	}
	text := &jsonschema.Schema{Type: "string"}
	for _, c := range d.Choices {
		text.Enum = append(text.Enum, c.Value)
	}
	switch d.Kind {
	case domain.SettingCount:
		return bounded(&jsonschema.Schema{Type: "integer"})
	case domain.SettingShare:
		return bounded(&jsonschema.Schema{Type: "number"})
	case domain.SettingSize, domain.SettingRate:
		return &jsonschema.Schema{OneOf: []*jsonschema.Schema{bounded(&jsonschema.Schema{Type: "integer"}),
			{Type: "string", Pattern: `^[0-9]+ *([KkMmGgTt][Ii]?)?[Bb]?$`, Examples: []any{"64MB", "64MiB"}}}}
	case domain.SettingDuration:
		return &jsonschema.Schema{Type: "string", Pattern: `^([0-9]+(\.[0-9]+)?(ns|us|µs|ms|s|m|h))+$`,
			Examples: []any{"2m30s"}}
	case domain.SettingTexts, domain.SettingChoices:
		return &jsonschema.Schema{Type: "array", Items: text}
	}
	return text
}

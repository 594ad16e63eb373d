package manifest

import (
	"encoding/json"
	"reflect"
	"time"

	"github.com/invopop/jsonschema"
)

// Schema is the manifest's format as a JSON Schema (draft 2020-12), made from the
// very types that Parse reads.
func Schema() ([]byte, error) {
	r := &jsonschema.Reflector{FieldNameTag: "yaml", Anonymous: true, RequiredFromJSONSchemaTags: true, ExpandedStruct: true,
		Mapper: func(t reflect.Type) *jsonschema.Schema {
			if t == reflect.TypeFor[time.Duration]() {
				return &jsonschema.Schema{Type: "string", Pattern: `^([0-9]+(\.[0-9]+)?(ns|us|µs|ms|s|m|h))+$`, Examples: []any{"2m30s"}}
			}
			return nil
		}}
	s := r.Reflect(File{})
	s.Title = "Manifest of a Dusty Ferry crossing"
	return json.MarshalIndent(s, "", "  ")
}

// JSONSchema implements the schema library's interface.
func (Size) JSONSchema() *jsonschema.Schema {
	return &jsonschema.Schema{OneOf: []*jsonschema.Schema{
		{Type: "integer", Minimum: "0"}, {Type: "string", Pattern: `^[0-9]+ *([KkMmGgTt][Ii]?)?[Bb]?$`, Examples: []any{"64MB", "64MiB"}}}}
}

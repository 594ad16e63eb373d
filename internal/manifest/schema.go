package manifest

import (
	"encoding/json"

	"github.com/invopop/jsonschema"
)

// Schema is the manifest's format as a JSON Schema (draft 2020-12), made from the
// very types that Parse reads.
func Schema() ([]byte, error) {
	r := &jsonschema.Reflector{FieldNameTag: "yaml", Anonymous: true, RequiredFromJSONSchemaTags: true,
		ExpandedStruct: true}
	s := r.Reflect(File{})
	s.Title = "Manifest of a Dusty Ferry crossing"
	return json.MarshalIndent(s, "", "  ")
}

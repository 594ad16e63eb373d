package manifest_test

import (
	"fmt"

	"dustyferry/internal/manifest"
)

// A crossing as a file: what it leaves out is as new crossings begin with, and a mistake is
// named with its place.
func ExampleParse() {
	f, err := manifest.Parse([]byte(`dusty_ferry: 1
crossing:
  name: spring
  source: old-barn
  target: new-barn
  tables: ["saltmarsh.*"]
  settings: {lanes: 4, chunk_size: 32MB}
`))
	if err != nil {
		fmt.Println(err)
		return
	}
	kind, _ := f.Crossing.Kind()
	fmt.Println(f.Crossing.Name, "from", f.Crossing.Source, "to", f.Crossing.Target+":", kind)
	fmt.Println("lanes", f.Crossing.Settings.Given["lanes"], "chunk_size", f.Crossing.Settings.Given["chunk_size"])

	_, err = manifest.Parse([]byte("dusty_ferry: 1\ncrossing:\n  name: spring\n  sorce: old-barn\n"))
	fmt.Println(err)
	// Output:
	// spring from old-barn to new-barn: load+capture
	// lanes 4 chunk_size 32000000
	// the manifest is wrong at line 4, column 3: unknown field "sorce"
}

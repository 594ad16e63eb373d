package service

import (
	"slices"

	"dustyferry/internal/engine"
	"dustyferry/internal/engine/folder"
	"dustyferry/internal/engine/mariadb"
	"dustyferry/internal/engine/postgres"
	"dustyferry/internal/engine/rowfile"
	"dustyferry/internal/engine/sqlite"
)

// Engines are those that databases can be of: one line for each.
var Engines = []engine.Driver{
	postgres.Driver{},
	mariadb.Driver{},
	sqlite.Driver{},
	rowfile.Texts(),
	rowfile.JSONLines(),
	rowfile.Parquet(),
	rowfile.Workbook(),
	folder.Driver{},
}

// within has engines whose databases are files open those in these folders alone.
func within(drivers []engine.Driver, folders []string) []engine.Driver {
	out := slices.Clone(drivers)
	for i, d := range out {
		if f, ok := d.(engine.Files); ok {
			out[i] = f.Within(folders)
		}
	}
	return out
}

package service

import (
	"dustyferry/internal/engine"
	"dustyferry/internal/engine/mariadb"
	"dustyferry/internal/engine/postgres"
)

// Engines are those that databases can be of: one line for each.
var Engines = []engine.Driver{
	postgres.Driver{},
	mariadb.Driver{},
}

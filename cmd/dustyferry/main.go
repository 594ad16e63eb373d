// Command dustyferry takes tables from one live database to another.
package main

import (
	"os"

	"dustyferry/internal/cli"
)

func main() { os.Exit(cli.Main()) }

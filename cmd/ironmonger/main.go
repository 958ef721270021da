// Ironmonger builds star schemas: it loads dimensions and facts as a model declares them, and keeps
// account of every row.
package main

import (
	"os"
	_ "time/tzdata" // time zones are in the program

	"ironmonger/internal/cli"
	_ "ironmonger/internal/warehouse/postgres" // the kinds of warehouses that the program knows
	_ "ironmonger/internal/warehouse/sqlite"
	_ "ironmonger/internal/warehouse/trino"
)

func main() { os.Exit(cli.Main(os.Args, os.Stdout, os.Stderr)) }

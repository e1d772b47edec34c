// Command homing is central, the local store's command line, and everything between.
package main

import (
	"os"

	"homing/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args)) }

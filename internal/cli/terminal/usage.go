// Package terminal is what all commands share: reading what was typed, tables, JSON and progress, questions, and exit
// codes.
package terminal

import (
	"fmt"
	"runtime/debug"
	"strings"

	"github.com/urfave/cli/v3"
)

// Arguments gives the command's arguments if there are as many as it wants.
func Arguments(c *cli.Command, names ...string) ([]string, error) {
	if c.Args().Len() != len(names) {
		return nil, Usage(fmt.Errorf("%s takes %s, not %d arguments (see %s --help)", c.FullName(),
			strings.Join(names, " and "), c.Args().Len(), c.FullName()))
	}
	return c.Args().Slice(), nil
}

// Build is the program's version: the revision it was built from, or "development".
func Build() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, setting := range info.Settings {
			if setting.Key == "vcs.revision" && len(setting.Value) >= 12 {
				return setting.Value[:12]
			}
		}
	}
	return "development"
}

package trial

import (
	"context"
	"os"

	"github.com/urfave/cli/v3"

	"homing/conformance"
	"homing/conformance/driver"
)

// DriveCommand is homing drive.
func DriveCommand() *cli.Command {
	return &cli.Command{
		Name:  "drive",
		Usage: "be a device that is driven line by line, over standard input and output",
		Description: `Reads one JSON object a line and does with a local store what it says, as docs/conformance.md describes; for homing conform, and as a pattern
for programs in other languages.

EXAMPLE
   homing conform --driver "homing drive"`,
		Action: func(ctx context.Context, c *cli.Command) error {
			return driver.Serve(ctx, os.Stdin, os.Stdout, nil, conformance.WorkOut)
		},
	}
}

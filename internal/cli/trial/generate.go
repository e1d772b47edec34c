package trial

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"homing/core/definition"
	"homing/generate"
	"homing/internal/cli/office"
	"homing/internal/cli/terminal"
	"homing/wire"
)

// GenerateCommand is homing generate.
func GenerateCommand() *cli.Command {
	return &cli.Command{
		Name:      "generate",
		Usage:     "write types for your app from the definitions",
		ArgsUsage: "go|typescript [FILE…]",
		Description: `From definition files, or from central's definitions when no file is named. The source text goes to standard output. For each
collection there is a type for what is read, one for what an add or an edit sets, and one for the ids of its records.

EXAMPLES
   homing generate go > records/records.go
   homing generate typescript trails.yaml structures.yaml > records.ts
   homing generate typescript --library homing-device/browser > records.ts`,
		Flags: append(office.CentralFlags(), &cli.StringFlag{Name: "library",
			Usage: "for typescript: the `MODULE` of the library that keeps the records, so that its stores have these types"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return terminal.Usage(fmt.Errorf("for which language? (see %s --help)", c.FullName()))
			}
			var definitions []definition.Definition
			if files := c.Args().Tail(); len(files) > 0 {
				var err error
				if definitions, err = office.ReadDefinitions(files); err != nil {
					return err
				}
			} else {
				call, err := office.NewCaller(c)
				if err != nil {
					return err
				}
				var all wire.Definitions
				if err := call.Get(ctx, "/v1/definitions", &all); err != nil {
					return err
				}
				definitions = all.Definitions
			}
			text, err := generate.Write(c.Args().First(), c.String("library"), definitions)
			if err != nil {
				return terminal.Usage(err)
			}
			_, err = c.Root().Writer.Write(text)
			return err
		},
	}
}

package office

import (
	"context"
	"errors"
	"fmt"

	"github.com/urfave/cli/v3"

	"homing/internal/cli/terminal"
	"homing/service"
)

// AnalystsCommand is homing analysts.
func AnalystsCommand() *cli.Command {
	return &cli.Command{
		Name:  "analysts",
		Usage: "let people read the collections with SQL tools",
		Description: `An analyst is a role of central's database that may read the views in the schema data, one for each collection, and nothing else. It is made
and taken away where the database is, by whoever runs central. Territories and reading rules do not bind it: it reads all records.

EXAMPLES
   homing analysts add reports
   homing analysts remove reports`,
		Commands: []*cli.Command{
			{Name: "add", Usage: "make a role that may read, and say the address to use", ArgsUsage: "NAME", Flags: databaseFlags(terminal.JSON),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "NAME")
					if err != nil {
						return err
					}
					made, err := service.AddAnalyst(ctx, c.String("database"), c.String("data"), args[0])
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return terminal.WriteJSON(c.Root().Writer, made)
					}
					fmt.Fprintf(c.Root().Writer, "%s reads all records of all collections, whatever territories and reading rules say.\nAddress for SQL tools, with the "+
						"password, which is not shown again:\n   %s\n", made.Name, made.Address)
					return nil
				}},
			{Name: "list", Usage: "list them", Flags: databaseFlags(terminal.JSON), Action: func(ctx context.Context, c *cli.Command) error {
				all, err := service.Analysts(ctx, c.String("database"), c.String("data"))
				if err != nil {
					return err
				}
				if c.Bool("json") {
					return terminal.WriteJSON(c.Root().Writer, append([]service.Analyst{}, all...))
				}
				if len(all) == 0 {
					fmt.Fprintln(c.Root().Writer, "No analysts. Make one with: homing analysts add NAME")
				}
				for _, one := range all {
					fmt.Fprintln(c.Root().Writer, one.Name)
				}
				return nil
			}},
			{Name: "remove", Usage: "take a role away; what it has open ends", ArgsUsage: "NAME", Flags: databaseFlags(),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "NAME")
					if err != nil {
						return err
					}
					err = service.RemoveAnalyst(ctx, c.String("database"), c.String("data"), args[0])
					if errors.Is(err, service.ErrNoAnalyst) {
						return terminal.Coded(err, terminal.ExitNotFound)
					}
					if err == nil {
						fmt.Fprintf(c.Root().Writer, "%s reads nothing any more.\n", args[0])
					}
					return err
				}},
		},
	}
}

package local

import (
	"context"
	"fmt"
	"io"
	"strconv"

	"github.com/urfave/cli/v3"

	"homing/device"
	"homing/internal/cli/terminal"
)

func localTotals(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "COLLECTION")
	if err != nil {
		return err
	}
	return withStore(ctx, c, func(store *device.Store) error {
		totals, err := store.Totals(ctx, args[0], c.Duration("over"))
		if err != nil {
			return err
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return terminal.WriteJSON(w, totals)
		}
		if len(totals) == 0 {
			fmt.Fprintf(w, "Nothing was streamed into %s within %s.\n", args[0], c.Duration("over"))
			return nil
		}
		return PrintTotals(w, totals)
	})
}

// PrintTotals writes totals as a table.
func PrintTotals(w io.Writer, totals []device.Total) error {
	table := terminal.NewTable(w, "OF", "N", "SUM", "LEAST", "MEAN", "MOST")
	for _, one := range totals {
		if one.Field == "" {
			table.Row("records", one.N, "", "", "", "")
			continue
		}
		table.Row(one.Field, one.N, amount(one.Sum), amount(one.Least), amount(one.Mean()), amount(one.Most))
	}
	return table.Flush()
}

// amount writes a number with as many digits as one reads.
func amount(value float64) string { return strconv.FormatFloat(value, 'g', 7, 64) }

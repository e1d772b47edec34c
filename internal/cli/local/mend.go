package local

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/core/change"
	"homing/device"
	"homing/internal/cli/terminal"
)

// numbered runs a command on the change whose number is its argument.
func numbered(ctx context.Context, c *cli.Command, work func(*device.Store, int64) error) error {
	args, err := terminal.Arguments(c, "NUMBER")
	if err != nil {
		return err
	}
	number, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil {
		return terminal.Usage(fmt.Errorf("%q is not the number of a change; homing local review lists them", args[0]))
	}
	return withStore(ctx, c, func(store *device.Store) error { return work(store, number) })
}

func localSendAgain(ctx context.Context, c *cli.Command) error {
	return numbered(ctx, c, func(store *device.Store, number int64) error {
		r, err := store.SendAgain(ctx, number)
		if err != nil {
			return err
		}
		if err := saved(c, r, "To be sent again"); err != nil || c.Bool("json") {
			return err
		}
		for _, decision := range r.Decisions {
			if decision.Kept == change.KeptCentral && decision.Field != "" {
				fmt.Fprintf(c.Root().Writer, "Your value of %s has given way to another's, by the rule %s.\n", decision.Field, decision.Rule)
			}
		}
		return nil
	})
}

func localDiscard(ctx context.Context, c *cli.Command) error {
	return numbered(ctx, c, func(store *device.Store, number int64) error {
		backup := cmp.Or(c.String("backup"), store.Path()+".discarded.ndjson")
		if err := store.Discard(ctx, number, backup); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "Discarded. What it said is in %s.\n", backup)
		return nil
	})
}

func localUnite(ctx context.Context, c *cli.Command) error {
	return numbered(ctx, c, func(store *device.Store, number int64) error {
		refused, first, err := store.Twins(ctx, number)
		if err != nil {
			return err
		}
		d, err := store.Collection(ctx, first.Collection)
		if err != nil {
			return err
		}
		take, leave, w := c.StringSlice("take"), c.StringSlice("leave"), c.Root().Writer
		var open []string
		t := terminal.NewTable(w, "FIELD", "THERE", "YOURS")
		for _, field := range d.Fields {
			there, yours := first.Fields[field.Name], refused.Fields[field.Name]
			settable, _ := field.Settable()
			if !settable || there == nil || yours == nil || string(there) == string(yours) {
				continue
			}
			if !slices.Contains(take, field.Name) && !slices.Contains(leave, field.Name) {
				open = append(open, field.Name)
				t.Row(field.Name, terminal.Plain(there), terminal.Plain(yours))
			}
		}
		if len(open) > 0 {
			if err := t.Flush(); err != nil {
				return err
			}
			names := strings.Join(open, ",")
			return terminal.Usage(fmt.Errorf("%s and yours say different things; take yours with --take %s, or leave what is there with "+
				"--leave %[2]s", first.Label, names))
		}
		backup := cmp.Or(c.String("backup"), store.Path()+".discarded.ndjson")
		r, err := store.Unite(ctx, number, take, backup)
		if err != nil {
			return err
		}
		if err := saved(c, r, "United"); err != nil || c.Bool("json") {
			return err
		}
		fmt.Fprintf(w, "What was refused stands in %s.\n", backup)
		return nil
	})
}

func localGivenUp(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "FILE")
	if err != nil {
		return err
	}
	return withStore(ctx, c, func(store *device.Store) error {
		lines, err := store.ReadGivenUp(args[0])
		if err != nil {
			return err
		}
		for _, line := range lines {
			fmt.Fprintln(c.Root().Writer, string(line))
		}
		return nil
	})
}

func localSettle(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "COLLECTION", "RECORD", "FIELD", "VALUE")
	if err != nil {
		return err
	}
	return withStore(ctx, c, func(store *device.Store) error {
		d, err := store.Collection(ctx, args[0])
		if err != nil {
			return err
		}
		var id uuid.UUID
		if id, err = store.Resolve(ctx, args[0], args[1]); err != nil {
			return err
		}
		value, err := terminal.SettlingValue(d, args[2], args[3])
		if err != nil {
			return terminal.Coded(err, terminal.ExitRefused)
		}
		r, err := store.Settle(ctx, args[0], id, args[2], value)
		if err != nil {
			return err
		}
		return saved(c, r, "Settled")
	})
}

package local

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/core/change"
	"homing/core/definition"
	"homing/device"
	"homing/internal/cli/terminal"
)

func localLost(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		all, err := store.LostRecords(ctx)
		if err != nil {
			return err
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return terminal.WriteJSON(w, all)
		}
		if len(all) == 0 {
			fmt.Fprintln(w, "Central has lost nothing that this device has.")
			return nil
		}
		t := terminal.NewTable(w, "COLLECTION", "RECORD", "LOST", "FIELD", "CENTRAL → THEN")
		for _, one := range all {
			what, record := "values", terminal.Shorten(one.Label, 36)
			if one.Whole {
				what = "the record"
			} else if one.Removed {
				what, record = "its return", one.ID.String() // nothing but its id finds what is removed
			}
			first := []any{one.Collection, record, what}
			for _, name := range one.Fields.Names() {
				edit := one.Fields[name]
				t.Row(
					append(
						first,
						name,
						terminal.Edited(change.Edit, edit, terminal.Plain(edit.From), terminal.Shorten(terminal.Plain(edit.To), 48)),
					)...)
				first = []any{"", "", ""}
			}
		}
		if err := t.Flush(); err != nil {
			return err
		}
		fmt.Fprintln(w, "What its own devices offer again goes from this list by itself. Otherwise: homing local lost "+
			"offer COLLECTION RECORD")
		return nil
	})
}

func localOffer(ctx context.Context, c *cli.Command) error {
	return localTarget(ctx, c, func(store *device.Store, d *definition.Collection, id uuid.UUID) error {
		if err := store.OfferLost(ctx, d.Definition.Collection, id); err != nil {
			return err
		}
		fmt.Fprintln(c.Root().Writer, "It goes to central with the next exchange, in your name.")
		return nil
	})
}

func localDrop(ctx context.Context, c *cli.Command) error {
	return localTarget(ctx, c, func(store *device.Store, d *definition.Collection, id uuid.UUID) error {
		file := store.Path() + ".given-up.jsonl"
		if err := store.DropLost(ctx, d.Definition.Collection, id, file); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "Let go. It is in %s.\n", file)
		return nil
	})
}

func localDetach(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		backup, err := store.Detach(ctx)
		if err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "Detached. What the store holds stays; a backup is in %s.\nMake it a device again "+
			"with: homing local attach\n", backup)
		return nil
	})
}

func localAttach(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		status, err := store.Status(ctx)
		if err != nil {
			return err
		}
		name := c.String("name")
		if name == "" {
			name = status.Name
		}
		if c.Bool("discard") && !c.Bool("yes") {
			if !terminal.OnTerminal(os.Stdin) {
				return terminal.Usage(errors.New("nothing was done; say --yes to discard without being asked"))
			}
			yes, err := terminal.Ask(c.Root().ErrWriter, os.Stdin, fmt.Sprintf("Give up what %s holds, %s unsent? [y/N] ", store.Path(),
				terminal.Count(status.Unsent+status.Refused+status.Waiting, "change")))
			if err != nil || !yes {
				return terminal.Coded(errors.New("nothing was done"), terminal.ExitRefused)
			}
		}
		backup, err := store.Attach(ctx, c.String("central"), c.String("code"), name, c.Bool("discard"))
		if err != nil {
			return err
		}
		if status, err = store.Status(ctx); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "%s is a device of %s again, for %s, with %s to send. A backup is in %s.\n",
			status.Name, status.Central, status.Worker, terminal.Count(status.Unsent+status.Waiting, "change"), backup)
		return nil
	})
}

package local

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"homing/device"
	"homing/internal/cli/terminal"
)

// cursor is how far a collection is pulled.
type cursor struct {
	Collection string `json:"collection"`
	Cursor     int64  `json:"cursor"`
	Head       int64  `json:"head"`
	Lag        int64  `json:"lag"`
}

func localCursors(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		all, err := store.Collections(ctx)
		if err != nil {
			return err
		}
		cursors := []cursor{}
		for _, one := range all {
			if one.Loads() {
				cursors = append(cursors, cursor{one.Name, one.Cursor, one.Head, one.Head - one.Cursor})
			}
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return terminal.WriteJSON(w, cursors)
		}
		if len(cursors) == 0 {
			fmt.Fprintln(w, "Nothing is loaded yet: homing local exchange")
			return nil
		}
		t := terminal.NewTable(w, "COLLECTION", "CURSOR", "HEAD", "LAG")
		for _, one := range cursors {
			t.Row(one.Collection, one.Cursor, one.Head, one.Lag)
		}
		if err := t.Flush(); err != nil {
			return err
		}
		fmt.Fprintln(w, "HEAD is central's when this store last pulled.")
		return nil
	})
}

func localTurnBack(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "COLLECTION", "POSITION")
	if err != nil {
		return err
	}
	to, err := strconv.ParseInt(args[1], 10, 64)
	if err != nil {
		return terminal.Usage(fmt.Errorf("%q is not a position: take a number from 0", args[1]))
	}
	return withStore(ctx, c, func(store *device.Store) error {
		if err := store.TurnBack(ctx, args[0], to); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "The cursor of %s is %d. The next exchange pulls again what was accepted since; "+
			"nothing here is doubled by that.\n", args[0], to)
		return nil
	})
}

func localForget(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "COLLECTION")
	if err != nil {
		return err
	}
	return withStore(ctx, c, func(store *device.Store) error {
		if err := store.LoadAnew(ctx, args[0]); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "The next exchange loads %s from the start. What is unsent stays.\n", args[0])
		return nil
	})
}

// VerifyCommand is homing verify.
func VerifyCommand() *cli.Command {
	return &cli.Command{
		Name:  "verify",
		Usage: "compare a local store with central, by fingerprints",
		Description: `It pulls first, then compares fingerprints; the records do not travel. Each difference is named. What is unsent does not count. With --mend what
differs is fetched anew, after a backup; unsent changes stay on top.`,
		Flags: storeFlags(terminal.JSON, &cli.BoolFlag{Name: "mend", Usage: "fetch anew what differs"},
			&cli.BoolFlag{Name: "no-pull", Usage: "compare the store as it is"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			return withStore(ctx, c, func(store *device.Store) error {
				all, err := store.Verify(ctx, c.Bool("no-pull"), c.Bool("mend"))
				if err != nil {
					return err
				}
				w := c.Root().Writer
				if c.Bool("json") {
					return terminal.WriteJSON(w, all)
				}
				t := terminal.NewTable(w, "COLLECTION", "RECORDS", "CURSOR", "HEAD", "DIFFERENCES", "MENDED")
				differ, mended := 0, 0
				for _, one := range all {
					t.Row(one.Collection, one.Records, one.Cursor, one.Head, len(one.Differences), one.Mended)
					differ, mended = differ+len(one.Differences), mended+one.Mended
				}
				if err := t.Flush(); err != nil {
					return err
				}
				if differ == 0 {
					fmt.Fprintln(w, "The store holds what central says it should.")
					return nil
				}
				fmt.Fprintln(w)
				t = terminal.NewTable(w, "COLLECTION", "RECORD", "WHAT", "REVISION HERE", "AT CENTRAL")
				for _, one := range all {
					for _, d := range one.Differences {
						name := d.Label
						if name == "" {
							name = d.Record.String()
						}
						t.Row(one.Collection, terminal.Shorten(name, 40), d.What, d.Here, d.Central)
					}
				}
				if err := t.Flush(); err != nil {
					return err
				}
				if !c.Bool("mend") {
					return terminal.Coded(fmt.Errorf("%s; homing verify --mend fetches them anew", terminal.Count(differ, "difference")),
						terminal.ExitRefused)
				}
				if mended < differ {
					fmt.Fprintln(w, "What only this store has is kept: homing local lost list")
				}
				return nil
			})
		},
	}
}

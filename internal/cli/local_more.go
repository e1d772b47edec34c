package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/core/change"
	"homing/core/definition"
	"homing/device"
)

func localListen(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		fmt.Fprintln(c.Root().ErrWriter, "Listening to central; Ctrl-C ends it. What is unsent waits for an exchange.")
		return store.Follow(ctx, func(summary device.Summary, err error) {
			switch {
			case err != nil:
				fmt.Fprintf(c.Root().ErrWriter, "%s  %v; trying again\n", when(time.Now()), err)
			case c.Bool("json"):
				if err := writeJSON(c.Root().Writer, summary); err != nil {
					fmt.Fprintln(c.Root().ErrWriter, err)
				}
			default:
				fmt.Fprintf(c.Root().Writer, "%s  %s received, %d withdrawn\n", when(time.Now()),
					count(summary.Received, "record"), summary.Withdrawn)
			}
		})
	})
}

// member is one change of a group, as people write it.
type member struct {
	Kind       change.Kind                `json:"kind"`
	Collection string                     `json:"collection"`
	ID         string                     `json:"id"`
	As         string                     `json:"as"`
	Fields     map[string]json.RawMessage `json:"fields"`
}

func localGroup(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, "FILE")
	if err != nil {
		return err
	}
	text, err := readAll(args[0])
	if err != nil {
		return err
	}
	var members []member
	if err := json.Unmarshal(text, &members); err != nil {
		return codedError{fmt.Errorf("%s is not a JSON list of changes: %w; nothing was saved", args[0], err), exitRefused}
	}
	return withStore(ctx, c, func(store *device.Store) error {
		var saved []device.Record
		err := store.Group(ctx, func(g *device.Group) error {
			saved = nil
			named := map[string]uuid.UUID{}
			for n, m := range members {
				r, err := m.save(ctx, store, g, named)
				if err != nil {
					return fmt.Errorf("change %d of the group: %w; nothing of it was saved", n+1, err)
				}
				saved = append(saved, r)
			}
			return nil
		})
		if err != nil {
			return err
		}
		if c.Bool("json") {
			return writeJSON(c.Root().Writer, saved)
		}
		fmt.Fprintf(c.Root().Writer, "Saved %s that stand or fall together. They go with the next exchange.\n",
			count(len(saved), "change"))
		return nil
	})
}

func (m member) save(ctx context.Context, store *device.Store, g *device.Group,
	named map[string]uuid.UUID) (device.Record, error) {
	fields := device.Fields{}
	for name, value := range m.Fields {
		fields[name] = value
		var text string
		if json.Unmarshal(value, &text) == nil && strings.HasPrefix(text, "$") {
			id, known := named[text[1:]]
			if !known {
				return device.Record{}, fmt.Errorf("%s: nothing before it is called %q", name, text[1:])
			}
			fields[name] = id
		}
	}
	if m.Kind == change.Add {
		r, err := g.Add(m.Collection, fields)
		if m.As != "" {
			named[m.As] = r.ID
		}
		return r, err
	}
	id, err := uuid.Parse(m.ID)
	if err != nil {
		return device.Record{}, fmt.Errorf("%q is not the id of a record", m.ID)
	}
	switch m.Kind {
	case change.Edit:
		return g.Edit(m.Collection, id, fields)
	case change.Remove:
		return device.Record{Collection: m.Collection, ID: id}, g.Remove(m.Collection, id)
	}
	return device.Record{}, fmt.Errorf("the kind %q is not add, edit or remove", m.Kind)
}

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
			return writeJSON(w, cursors)
		}
		if len(cursors) == 0 {
			fmt.Fprintln(w, "Nothing is loaded yet: homing local exchange")
			return nil
		}
		t := newTable(w, "COLLECTION", "CURSOR", "HEAD", "LAG")
		for _, one := range cursors {
			t.row(one.Collection, one.Cursor, one.Head, one.Lag)
		}
		if err := t.flush(); err != nil {
			return err
		}
		fmt.Fprintln(w, "HEAD is central's when this store last pulled.")
		return nil
	})
}

func localTurnBack(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, "COLLECTION", "POSITION")
	if err != nil {
		return err
	}
	to, err := strconv.ParseInt(args[1], 10, 64)
	if err != nil {
		return usageError{fmt.Errorf("%q is not a position: take a number from 0", args[1])}
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
	args, err := arguments(c, "COLLECTION")
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

func localLost(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		all, err := store.LostRecords(ctx)
		if err != nil {
			return err
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return writeJSON(w, all)
		}
		if len(all) == 0 {
			fmt.Fprintln(w, "Central has lost nothing that this device has.")
			return nil
		}
		t := newTable(w, "COLLECTION", "RECORD", "LOST", "FIELD", "CENTRAL → THEN")
		for _, one := range all {
			what, record := "values", shorten(one.Label, 36)
			if one.Whole {
				what = "the record"
			} else if one.Removed {
				what, record = "its return", one.ID.String() // nothing but its id finds what is removed
			}
			first := []any{one.Collection, record, what}
			for _, name := range one.Fields.Names() {
				edit := one.Fields[name]
				t.row(append(first, name, edited(change.Edit, edit, plain(edit.From), shorten(plain(edit.To), 48)))...)
				first = []any{"", "", ""}
			}
		}
		if err := t.flush(); err != nil {
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
			if !onTerminal(os.Stdin) {
				return usageError{errors.New("nothing was done; say --yes to discard without being asked")}
			}
			yes, err := ask(c.Root().ErrWriter, os.Stdin, fmt.Sprintf("Give up what %s holds, %s unsent? [y/N] ", store.Path(),
				count(status.Unsent+status.Refused+status.Waiting, "change")))
			if err != nil || !yes {
				return codedError{errors.New("nothing was done"), exitRefused}
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
			status.Name, status.Central, status.Worker, count(status.Unsent+status.Waiting, "change"), backup)
		return nil
	})
}

func verifyCommand() *cli.Command {
	return &cli.Command{
		Name:  "verify",
		Usage: "compare a local store with central, by fingerprints",
		Description: `It pulls first, then compares fingerprints; the records do not travel. Each difference is named. What is unsent does not count. With --mend what
differs is fetched anew, after a backup; unsent changes stay on top.`,
		Flags: storeFlags(jsonFlag, &cli.BoolFlag{Name: "mend", Usage: "fetch anew what differs"},
			&cli.BoolFlag{Name: "no-pull", Usage: "compare the store as it is"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			return withStore(ctx, c, func(store *device.Store) error {
				all, err := store.Verify(ctx, c.Bool("no-pull"), c.Bool("mend"))
				if err != nil {
					return err
				}
				w := c.Root().Writer
				if c.Bool("json") {
					return writeJSON(w, all)
				}
				t := newTable(w, "COLLECTION", "RECORDS", "CURSOR", "HEAD", "DIFFERENCES", "MENDED")
				differ, mended := 0, 0
				for _, one := range all {
					t.row(one.Collection, one.Records, one.Cursor, one.Head, len(one.Differences), one.Mended)
					differ, mended = differ+len(one.Differences), mended+one.Mended
				}
				if err := t.flush(); err != nil {
					return err
				}
				if differ == 0 {
					fmt.Fprintln(w, "The store holds what central says it should.")
					return nil
				}
				fmt.Fprintln(w)
				t = newTable(w, "COLLECTION", "RECORD", "WHAT", "REVISION HERE", "AT CENTRAL")
				for _, one := range all {
					for _, d := range one.Differences {
						name := d.Label
						if name == "" {
							name = d.Record.String()
						}
						t.row(one.Collection, shorten(name, 40), d.What, d.Here, d.Central)
					}
				}
				if err := t.flush(); err != nil {
					return err
				}
				if !c.Bool("mend") {
					return codedError{fmt.Errorf("%s; homing verify --mend fetches them anew", count(differ, "difference")),
						exitRefused}
				}
				if mended < differ {
					fmt.Fprintln(w, "What only this store has is kept: homing local lost list")
				}
				return nil
			})
		},
	}
}

package local

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/core/change"
	"homing/device"
	"homing/internal/cli/terminal"
)

func localListen(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		fmt.Fprintln(c.Root().ErrWriter, "Listening to central; Ctrl-C ends it. What is unsent waits for an exchange.")
		return store.Follow(ctx, func(summary device.Summary, err error) {
			switch {
			case err != nil:
				fmt.Fprintf(c.Root().ErrWriter, "%s  %v; trying again\n", terminal.When(time.Now()), err)
			case c.Bool("json"):
				if err := terminal.WriteJSON(c.Root().Writer, summary); err != nil {
					fmt.Fprintln(c.Root().ErrWriter, err)
				}
			default:
				fmt.Fprintf(c.Root().Writer, "%s  %s received, %d withdrawn\n", terminal.When(time.Now()),
					terminal.Count(summary.Received, "record"), summary.Withdrawn)
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
	args, err := terminal.Arguments(c, "FILE")
	if err != nil {
		return err
	}
	text, err := terminal.ReadAll(args[0])
	if err != nil {
		return err
	}
	var members []member
	if err := json.Unmarshal(text, &members); err != nil {
		return terminal.Coded(fmt.Errorf("%s is not a JSON list of changes: %w; nothing was saved", args[0], err), terminal.ExitRefused)
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
			return terminal.WriteJSON(c.Root().Writer, saved)
		}
		fmt.Fprintf(c.Root().Writer, "Saved %s that stand or fall together. They go with the next exchange.\n",
			terminal.Count(len(saved), "change"))
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

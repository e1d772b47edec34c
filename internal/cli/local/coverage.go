package local

import (
	"context"
	"fmt"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/core/coverage"
	"homing/core/definition"
	"homing/device"
	"homing/internal/cli/office"
	"homing/internal/cli/terminal"
)

// localMark is homing local complete, or reopen.
func localMark(mark func(*device.Store, context.Context, string, uuid.UUID, ...device.SaveOption) (device.Record, error), done string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		return localTarget(ctx, c, func(store *device.Store, d *definition.Collection, id uuid.UUID) error {
			saw, err := seenRecord(c, d.Definition, id)
			if err != nil {
				return err
			}
			r, err := mark(store, ctx, d.Definition.Collection, id, saw...)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return terminal.WriteJSON(c.Root().Writer, r)
			}
			fmt.Fprintf(c.Root().Writer, "%s: %s (%s %s). It is sent with the next exchange.\n", done, r.Label, r.Collection, r.ID)
			return nil
		})
	}
}

func localCoverage(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "COLLECTION")
	if err != nil {
		return err
	}
	ask := device.CoverageAsk{From: c.String("from"), Until: c.String("until"), Ask: coverage.Ask{State: c.String("state"), Search: c.String("search")}}
	if c.Bool("owed") && ask.State == "" {
		ask.State = "owed"
	}
	return withStore(ctx, c, func(store *device.Store) error {
		grid, err := office.CoverageOf(c, func(limit, offset int) (coverage.Grid, error) {
			ask.Limit, ask.Offset = limit, offset
			return store.Coverage(ctx, args[0], ask)
		})
		if err != nil {
			return usageOr(err)
		}
		return office.PrintCoverage(c, grid)
	})
}

package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/central"
	"homing/central/finding"
	"homing/core/definition"
	"homing/core/merge"
	"homing/device"
	"homing/wire"
)

func conflictsCommand() *cli.Command {
	return &cli.Command{
		Name:  "conflicts",
		Usage: "see the fields that wait for a person, and settle them",
		Description: `A field whose definition has the rule ask is held when two edits of it meet: central keeps the one that came first, and the others
wait beside it. Whoever settles says what the field is to be. Where the definition asks about removals, FIELD is record-removal, and its
values are removed and stays.`,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list the open conflicts, the oldest first", Flags: centralFlags(jsonFlag),
				Action: listConflicts},
			{Name: "settle", Usage: "settle a conflict", ArgsUsage: "COLLECTION RECORD FIELD",
				Description: "With --take N the value that the list shows under that number; 1 is what central has.",
				Flags: centralFlags(jsonFlag, &cli.IntFlag{Name: "take", Usage: "`N` of the value to take"},
					&cli.StringFlag{Name: "value", Usage: "another `VALUE`, as the field's type reads it"}), Action: settleConflict},
			{Name: "settle-all", Usage: "settle many conflicts by a rule",
				Description: `newest takes the value that was edited last, first the one that central has, min and max the smallest and the largest. What would be done is
shown first. Each conflict is settled by a change of its own, and can be opened again.`,
				Flags: centralFlags(jsonFlag, &cli.StringFlag{Name: "by", Required: true,
					Usage: "`RULE`: newest, first, min or max"}, &cli.StringFlag{Name: "collection",
					Usage: "only those of a `COLLECTION`"},
					&cli.StringFlag{Name: "field", Usage: "only those over a `FIELD`"},
					&cli.DurationFlag{Name: "older-than", Usage: "only those open for longer, such as `72h`"},
					&cli.BoolFlag{Name: "yes", Usage: "do not ask"}), Action: settleAll},
			{Name: "reopen", Usage: "open a conflict again that was settled", ArgsUsage: "COLLECTION RECORD FIELD",
				Flags: centralFlags(jsonFlag), Action: reopenConflict},
		},
	}
}

func listConflicts(ctx context.Context, c *cli.Command) error {
	call, err := newCaller(c)
	if err != nil {
		return err
	}
	var all []finding.Conflict
	if err := call.get(ctx, "/v1/conflicts", &all); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		return writeJSON(w, all)
	}
	return printConflicts(w, all)
}

func printConflicts(w io.Writer, all []finding.Conflict) error {
	if len(all) == 0 {
		fmt.Fprintln(w, "Nothing waits for a person.")
		return nil
	}
	t := newTable(w, "COLLECTION", "RECORD", "FIELD", "N", "VALUE", "BY", "DEVICE", "EDITED", "OPEN SINCE")
	for _, one := range all {
		first := []any{one.Collection, shorten(one.Label, 36), one.Field}
		since := when(one.OpenedAt)
		for n, v := range one.Values {
			device := v.Device
			if device == "" {
				device = "(at central)"
			}
			t.row(append(append([]any{}, first...), n+1, shorten(disputed(one.Field, v.Value), 48), v.Author, device,
				when(v.EditedAt), since)...)
			first, since = []any{"", "", ""}, ""
		}
	}
	if err := t.flush(); err != nil {
		return err
	}
	fmt.Fprintf(w, "%s; settle one with homing conflicts settle COLLECTION RECORD FIELD --take N\n",
		count(len(all), "open conflict"))
	return nil
}

func settleConflict(ctx context.Context, c *cli.Command) error {
	if c.IsSet("take") == c.IsSet("value") {
		return usageError{errors.New("say what the field is to be: --take N, or --value VALUE")}
	}
	call, d, id, err := target(ctx, c, "FIELD")
	if err != nil {
		return err
	}
	args := c.Args().Slice()
	var all []finding.Conflict
	if err := call.get(ctx, "/v1/conflicts", &all); err != nil {
		return err
	}
	for _, one := range all {
		if one.Collection != args[0] || one.Record != id || one.Field != args[2] {
			continue
		}
		value, err := settledValue(c, d, one)
		if err != nil {
			return err
		}
		var answer wire.Answer
		body := map[string]any{"collection": one.Collection, "record": one.Record, "field": one.Field, "base": one.Revision,
			"value": value}
		if err := call.call(ctx, http.MethodPost, "/v1/conflicts/settlements", body, &answer); err != nil {
			return err
		}
		if c.Bool("json") {
			return writeJSON(c.Root().Writer, answer)
		}
		fmt.Fprintf(c.Root().Writer, "Settled: %s of %s is %s, at revision %d. Devices follow with their next exchange.\n",
			one.Field, one.Label, disputed(one.Field, value), answer.Revision)
		return nil
	}
	return codedError{fmt.Errorf("%s of this record is not in dispute; homing conflicts list shows what is", args[2]),
		exitNotFound}
}

func settledValue(c *cli.Command, d *definition.Collection, one finding.Conflict) (json.RawMessage, error) {
	if c.IsSet("value") {
		return settlingValue(d, one.Field, c.String("value"))
	}
	n := c.Int("take")
	if n < 1 || n > len(one.Values) {
		return nil, usageError{fmt.Errorf("--take %d: there are the values 1 to %d", n, len(one.Values))}
	}
	if one.Values[n-1].Value == nil {
		return json.RawMessage("null"), nil
	}
	return one.Values[n-1].Value, nil
}

// settlingValue reads the value that a disputed field is to have.
func settlingValue(d *definition.Collection, name, text string) (json.RawMessage, error) {
	if name == merge.RecordRemoval {
		switch text {
		case "true", "removed":
			return json.RawMessage("true"), nil
		case "false", "stays":
			return json.RawMessage("false"), nil
		}
		return nil, usageError{fmt.Errorf("%q: say removed or stays", text)}
	}
	field, known := d.FieldAt(name)
	if !known {
		return nil, codedError{fmt.Errorf("%s has no field %q", d.Definition.Collection, name), exitNotFound}
	}
	return typed(field, text)
}

// disputed writes a value of a conflict.
func disputed(field string, value json.RawMessage) string {
	switch {
	case field != merge.RecordRemoval:
		return plain(value)
	case string(value) == "true":
		return "removed"
	}
	return "stays"
}

func localSettle(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, "COLLECTION", "RECORD", "FIELD", "VALUE")
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
		value, err := settlingValue(d, args[2], args[3])
		if err != nil {
			return codedError{err, exitRefused}
		}
		r, err := store.Settle(ctx, args[0], id, args[2], value)
		if err != nil {
			return err
		}
		return saved(c, r, "Settled")
	})
}

func settleAll(ctx context.Context, c *cli.Command) error {
	call, err := newCaller(c)
	if err != nil {
		return err
	}
	body := map[string]any{"rule": c.String("by"), "collection": c.String("collection"), "field": c.String("field"),
		"preview": true}
	if span := c.Duration("older-than"); span > 0 {
		body["opened_before"] = time.Now().Add(-span)
	}
	var plan, done []central.SettledOne
	if err := call.call(ctx, http.MethodPost, "/v1/conflicts/settlements-by-rule", body, &plan); err != nil {
		return err
	}
	w := c.Root().Writer
	if len(plan) == 0 {
		fmt.Fprintln(c.Root().ErrWriter, "No open conflict fits.")
		if c.Bool("json") {
			return writeJSON(w, plan)
		}
		return nil
	}
	if !c.Bool("json") {
		if err := printSettlements(w, plan); err != nil {
			return err
		}
	}
	if !c.Bool("yes") {
		if !onTerminal(os.Stdin) {
			return usageError{errors.New("nothing was settled; say --yes to settle without being asked")}
		}
		yes, err := ask(c.Root().ErrWriter, os.Stdin, fmt.Sprintf("Settle %s so? [y/N] ", count(len(plan), "conflict")))
		if err != nil || !yes {
			return codedError{errors.New("nothing was settled"), exitRefused}
		}
	}
	body["preview"] = false
	if err := call.call(ctx, http.MethodPost, "/v1/conflicts/settlements-by-rule", body, &done); err != nil {
		return err
	}
	if c.Bool("json") {
		return writeJSON(w, done)
	}
	left := 0
	for _, one := range done {
		if one.Problem != "" {
			left++
			fmt.Fprintf(w, "Left open: %s of %s: %s\n", one.Conflict.Field, one.Conflict.Label, one.Problem)
		}
	}
	fmt.Fprintf(w, "Settled %s by %s. Devices follow with their next exchange.\n", count(len(done)-left, "conflict"),
		c.String("by"))
	return nil
}

func printSettlements(w io.Writer, plan []central.SettledOne) error {
	t := newTable(w, "COLLECTION", "RECORD", "FIELD", "WILL BE", "BY", "EDITED")
	for _, one := range plan {
		if one.Take == 0 {
			t.row(one.Conflict.Collection, shorten(one.Conflict.Label, 36), one.Conflict.Field, "left open: "+one.Problem)
			continue
		}
		v := one.Conflict.Values[one.Take-1]
		t.row(one.Conflict.Collection, shorten(one.Conflict.Label, 36), one.Conflict.Field,
			shorten(disputed(one.Conflict.Field, v.Value), 48), v.Author, when(v.EditedAt))
	}
	return t.flush()
}

func reopenConflict(ctx context.Context, c *cli.Command) error {
	call, d, id, err := target(ctx, c, "FIELD")
	if err != nil {
		return err
	}
	field := c.Args().Get(2)
	var answer wire.Answer
	if err := call.call(ctx, http.MethodPost, "/v1/conflicts/reopenings",
		map[string]any{"collection": d.Collection, "record": id, "field": field}, &answer); err != nil {
		return err
	}
	if c.Bool("json") {
		return writeJSON(c.Root().Writer, answer)
	}
	fmt.Fprintf(c.Root().Writer, "The conflict over %s is open again, at revision %d: homing conflicts list\n", field,
		answer.Revision)
	return nil
}

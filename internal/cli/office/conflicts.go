package office

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"homing/central"
	"homing/central/finding"
	"homing/core/definition"
	"homing/core/merge"
	"homing/internal/cli/terminal"
	"homing/wire"
)

// ConflictsCommand is homing conflicts.
func ConflictsCommand() *cli.Command {
	return &cli.Command{
		Name:  "conflicts",
		Usage: "see the fields that wait for a person, and settle them",
		Description: `A field whose definition has the rule ask is held when two edits of it meet: central keeps the one that came first, and the others
wait beside it. Whoever settles says what the field is to be. Where the definition asks about removals, FIELD is record-removal, and its
values are removed and stays.`,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list the open conflicts, the oldest first", Flags: CentralFlags(terminal.JSON),
				Action: listConflicts},
			{Name: "settle", Usage: "settle a conflict", ArgsUsage: "COLLECTION RECORD FIELD",
				Description: "With --take N the value that the list shows under that number; 1 is what central has.",
				Flags: CentralFlags(terminal.JSON, &cli.IntFlag{Name: "take", Usage: "`N` of the value to take"},
					&cli.StringFlag{Name: "value", Usage: "another `VALUE`, as the field's type reads it"}), Action: settleConflict},
			{Name: "settle-all", Usage: "settle many conflicts by a rule",
				Description: `newest takes the value that was edited last, first the one that central has, min and max the smallest and the largest. What would be done is
shown first. Each conflict is settled by a change of its own, and can be opened again.`,
				Flags: CentralFlags(terminal.JSON, &cli.StringFlag{Name: "by", Required: true,
					Usage: "`RULE`: newest, first, min or max"}, &cli.StringFlag{Name: "collection",
					Usage: "only those of a `COLLECTION`"},
					&cli.StringFlag{Name: "field", Usage: "only those over a `FIELD`"},
					&cli.DurationFlag{Name: "older-than", Usage: "only those open for longer, such as `72h`"},
					&cli.BoolFlag{Name: "yes", Usage: "do not ask"}), Action: settleAll},
			{Name: "reopen", Usage: "open a conflict again that was settled", ArgsUsage: "COLLECTION RECORD FIELD",
				Flags: CentralFlags(terminal.JSON), Action: reopenConflict},
		},
	}
}

func listConflicts(ctx context.Context, c *cli.Command) error {
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	var all []finding.Conflict
	if err := call.Get(ctx, "/v1/conflicts", &all); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		return terminal.WriteJSON(w, all)
	}
	return PrintConflicts(w, all)
}

// PrintConflicts writes conflicts as a table.
func PrintConflicts(w io.Writer, all []finding.Conflict) error {
	if len(all) == 0 {
		fmt.Fprintln(w, "Nothing waits for a person.")
		return nil
	}
	t := terminal.NewTable(w, "COLLECTION", "RECORD", "FIELD", "N", "VALUE", "BY", "DEVICE", "EDITED", "OPEN SINCE")
	for _, one := range all {
		first := []any{one.Collection, terminal.Shorten(one.Label, 36), one.Field}
		since := terminal.When(one.OpenedAt)
		for n, v := range one.Values {
			device := v.Device
			if device == "" {
				device = "(at central)"
			}
			t.Row(append(append([]any{}, first...), n+1, terminal.Shorten(Disputed(one.Field, v.Value), 48), v.Author, device,
				terminal.When(v.EditedAt), since)...)
			first, since = []any{"", "", ""}, ""
		}
	}
	if err := t.Flush(); err != nil {
		return err
	}
	fmt.Fprintf(w, "%s; settle one with homing conflicts settle COLLECTION RECORD FIELD --take N\n",
		terminal.Count(len(all), "open conflict"))
	return nil
}

func settleConflict(ctx context.Context, c *cli.Command) error {
	if c.IsSet("take") == c.IsSet("value") {
		return terminal.Usage(errors.New("say what the field is to be: --take N, or --value VALUE"))
	}
	call, d, id, err := target(ctx, c, "FIELD")
	if err != nil {
		return err
	}
	args := c.Args().Slice()
	var all []finding.Conflict
	if err := call.Get(ctx, "/v1/conflicts", &all); err != nil {
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
		if err := call.Send(ctx, http.MethodPost, "/v1/conflicts/settlements", body, &answer); err != nil {
			return err
		}
		if c.Bool("json") {
			return terminal.WriteJSON(c.Root().Writer, answer)
		}
		fmt.Fprintf(c.Root().Writer, "Settled: %s of %s is %s, at revision %d. Devices follow with their next exchange.\n",
			one.Field, one.Label, Disputed(one.Field, value), answer.Revision)
		return nil
	}
	return terminal.Coded(fmt.Errorf("%s of this record is not in dispute; homing conflicts list shows what is", args[2]),
		terminal.ExitNotFound)
}

func settledValue(c *cli.Command, d *definition.Collection, one finding.Conflict) (json.RawMessage, error) {
	if c.IsSet("value") {
		return terminal.SettlingValue(d, one.Field, c.String("value"))
	}
	n := c.Int("take")
	if n < 1 || n > len(one.Values) {
		return nil, terminal.Usage(fmt.Errorf("--take %d: there are the values 1 to %d", n, len(one.Values)))
	}
	if one.Values[n-1].Value == nil {
		return json.RawMessage("null"), nil
	}
	return one.Values[n-1].Value, nil
}

// Disputed writes a value of a conflict.
func Disputed(field string, value json.RawMessage) string {
	switch {
	case field != merge.RecordRemoval:
		return terminal.Plain(value)
	case string(value) == "true":
		return "removed"
	}
	return "stays"
}

func settleAll(ctx context.Context, c *cli.Command) error {
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	body := map[string]any{"rule": c.String("by"), "collection": c.String("collection"), "field": c.String("field"),
		"preview": true}
	if span := c.Duration("older-than"); span > 0 {
		body["opened_before"] = time.Now().Add(-span)
	}
	var plan, done []central.SettledOne
	if err := call.Send(ctx, http.MethodPost, "/v1/conflicts/settlements-by-rule", body, &plan); err != nil {
		return err
	}
	w := c.Root().Writer
	if len(plan) == 0 {
		fmt.Fprintln(c.Root().ErrWriter, "No open conflict fits.")
		if c.Bool("json") {
			return terminal.WriteJSON(w, plan)
		}
		return nil
	}
	if !c.Bool("json") {
		if err := printSettlements(w, plan); err != nil {
			return err
		}
	}
	if !c.Bool("yes") {
		if !terminal.OnTerminal(os.Stdin) {
			return terminal.Usage(errors.New("nothing was settled; say --yes to settle without being asked"))
		}
		yes, err := terminal.Ask(c.Root().ErrWriter, os.Stdin, fmt.Sprintf("Settle %s so? [y/N] ", terminal.Count(len(plan), "conflict")))
		if err != nil || !yes {
			return terminal.Coded(errors.New("nothing was settled"), terminal.ExitRefused)
		}
	}
	body["preview"] = false
	if err := call.Send(ctx, http.MethodPost, "/v1/conflicts/settlements-by-rule", body, &done); err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.WriteJSON(w, done)
	}
	left := 0
	for _, one := range done {
		if one.Problem != "" {
			left++
			fmt.Fprintf(w, "Left open: %s of %s: %s\n", one.Conflict.Field, one.Conflict.Label, one.Problem)
		}
	}
	fmt.Fprintf(w, "Settled %s by %s. Devices follow with their next exchange.\n", terminal.Count(len(done)-left, "conflict"),
		c.String("by"))
	return nil
}

func printSettlements(w io.Writer, plan []central.SettledOne) error {
	t := terminal.NewTable(w, "COLLECTION", "RECORD", "FIELD", "WILL BE", "BY", "EDITED")
	for _, one := range plan {
		if one.Take == 0 {
			t.Row(one.Conflict.Collection, terminal.Shorten(one.Conflict.Label, 36), one.Conflict.Field, "left open: "+one.Problem)
			continue
		}
		v := one.Conflict.Values[one.Take-1]
		t.Row(one.Conflict.Collection, terminal.Shorten(one.Conflict.Label, 36), one.Conflict.Field,
			terminal.Shorten(Disputed(one.Conflict.Field, v.Value), 48), v.Author, terminal.When(v.EditedAt))
	}
	return t.Flush()
}

func reopenConflict(ctx context.Context, c *cli.Command) error {
	call, d, id, err := target(ctx, c, "FIELD")
	if err != nil {
		return err
	}
	field := c.Args().Get(2)
	var answer wire.Answer
	if err := call.Send(ctx, http.MethodPost, "/v1/conflicts/reopenings",
		map[string]any{"collection": d.Collection, "record": id, "field": field}, &answer); err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.WriteJSON(c.Root().Writer, answer)
	}
	fmt.Fprintf(c.Root().Writer, "The conflict over %s is open again, at revision %d: homing conflicts list\n", field,
		answer.Revision)
	return nil
}

package trial

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/internal/cli/terminal"
)

// TryCommand is homing try-merge.
func TryCommand() *cli.Command {
	return &cli.Command{
		Name:      "try-merge",
		Usage:     "see what a definition makes of two edits of one record",
		ArgsUsage: "DEFINITION BASE ONE OTHER",
		Description: `BASE, ONE and OTHER are files with the record as JSON objects: as it was, and as two people have made it without knowing of each other. ONE
was edited first, and reaches central first unless --other-first is given. Nothing is asked of central, and nothing is stored.

EXAMPLE
   homing try-merge structures.yaml base.json mira.json tobin.json`,
		Flags: []cli.Flag{terminal.JSON, &cli.BoolFlag{Name: "other-first",
			Usage: "OTHER, though edited later, reaches central first"}},
		Action: func(_ context.Context, c *cli.Command) error {
			args, err := terminal.Arguments(c, "DEFINITION", "BASE", "ONE", "OTHER")
			if err != nil {
				return err
			}
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			d, err := definition.ReadSource(args[0], text)
			if err != nil {
				return err
			}
			var documents [3]record.Fields
			for n, file := range args[1:] {
				if documents[n], err = readDocument(d, file); err != nil {
					return err
				}
			}
			met, err := d.Meet(documents[0], documents[1], documents[2], c.Bool("other-first"))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return terminal.WriteJSON(c.Root().Writer, met)
			}
			return tell(c.Root().Writer, d, documents[1], documents[2], met)
		},
	}
}

func readDocument(d definition.Definition, file string) (record.Fields, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	fields, err := record.Parse(text)
	if err != nil {
		return nil, terminal.Coded(fmt.Errorf("%s: %w", file, err), terminal.ExitRefused)
	}
	compiled, err := d.Compile()
	if err != nil {
		return nil, err
	}
	for _, wrong := range compiled.Validate(fields) {
		return nil, terminal.Coded(fmt.Errorf("%s: %s: %s", file, wrong.Field, wrong.Message), terminal.ExitRefused)
	}
	return fields, nil
}

func tell(w io.Writer, d definition.Definition, one, other record.Fields, met definition.Meeting) error {
	why := map[string]string{}
	for _, decision := range met.Decisions {
		why[decision.Field] = map[string]string{change.KeptCentral: "what came first was kept",
			change.KeptChange: "what came second was taken", change.KeptBoth: "both came together"}[decision.Kept]
		if decision.Rule == string(merge.Ask) {
			why[decision.Field] = "held for a person; until then what came first stands"
		}
	}
	rules := d.Rules()
	table := terminal.NewTable(w, "FIELD", "RULE", "ONE", "OTHER", "COMES TO", "WHY")
	for _, field := range d.Fields {
		if one[field.Name] == nil && other[field.Name] == nil && met.Record[field.Name] == nil {
			continue
		}
		rule := rules.Fields[field.Name]
		if rule == "" {
			rule = merge.Newest
		}
		reason := why[field.Name]
		if reason == "" {
			reason = "nobody disputes it"
		}
		table.Row(
			field.Name,
			rule,
			terminal.Shorten(terminal.Plain(one[field.Name]), 24),
			terminal.Shorten(terminal.Plain(other[field.Name]), 24),
			terminal.Shorten(terminal.Plain(met.Record[field.Name]), 32),
			reason,
		)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	for _, one := range met.Follows {
		fmt.Fprintf(w, "After %s, %s %s.\n", strings.ToUpper(one.After), one.Rule, followed(one))
	}
	fmt.Fprintf(w, "ONE is answered %s, OTHER %s.\n", met.One, met.Other)
	return nil
}

// followed says in words what a follow-up would do.
func followed(one definition.WouldFollow) string {
	if one.Wrong != "" {
		return "would do nothing: " + one.Wrong
	}
	values := func(fields record.Fields) string {
		var parts []string
		for name, value := range fields {
			parts = append(parts, fmt.Sprintf("%s: %s", name, cmp.Or(terminal.Plain(value), "nothing")))
		}
		slices.Sort(parts)
		return strings.Join(parts, ", ")
	}
	var acts []string
	if one.Set != nil {
		acts = append(acts, "sets "+values(one.Set))
	}
	if one.SetParent != nil {
		acts = append(acts, "sets in the parent "+values(one.SetParent))
	}
	if one.AddTo != "" {
		acts = append(acts, fmt.Sprintf("adds to %s a record with %s", one.AddTo, values(one.Add)))
	}
	return strings.Join(acts, "; ")
}

package trial

import (
	"context"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/core/change"
	"homing/core/clock"
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
			tried, err := try(d, documents, c.Bool("other-first"))
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return terminal.WriteJSON(c.Root().Writer, tried)
			}
			return tried.print(c.Root().Writer, d)
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

// tried is what came out.
type tried struct {
	Answers   map[string]change.Verdict `json:"answers"`
	Record    record.Fields             `json:"record"`
	Decisions []change.Decision         `json:"decisions,omitempty"`
	Disputes  map[string]merge.Dispute  `json:"disputes,omitempty"`
	one       record.Fields
	other     record.Fields
}

// try lets two edits of a record meet: one edited a minute before the other.
func try(d definition.Definition, documents [3]record.Fields, otherFirst bool) (tried, error) {
	base, one, other := documents[0], documents[1], documents[2]
	source := func(store byte) change.Source { return change.Source{Incarnation: uuid.UUID{15: store}, Number: 1} }
	start := time.Date(2026, 1, 1, 12, 0, 0, 0, time.UTC)
	state, err := merge.Merge(d.Rules(), merge.State{}, merge.Edit{Kind: change.Add, Fields: record.Diff(nil, base),
		Stamp: clock.At(start), Source: source(9)})
	if err != nil {
		return tried{}, err
	}
	edits := []merge.Edit{
		{Kind: change.Edit, Base: 1, Fields: record.Diff(base, one), Stamp: clock.At(start.Add(time.Minute)),
			Source: source(1)},
		{Kind: change.Edit, Base: 1, Fields: record.Diff(base, other), Stamp: clock.At(start.Add(2 * time.Minute)),
			Source: source(2)},
	}
	names := []string{"ONE", "OTHER"}
	if otherFirst {
		edits[0], edits[1], names[0], names[1] = edits[1], edits[0], names[1], names[0]
	}
	result := tried{Answers: map[string]change.Verdict{}, one: one, other: other}
	for n, edit := range edits {
		out, err := merge.Merge(d.Rules(), state.State, edit)
		if err != nil {
			return tried{}, err
		}
		state = out
		result.Answers[names[n]] = out.Verdict
		result.Decisions = append(result.Decisions, out.Decisions...)
	}
	result.Record, result.Disputes = state.State.Fields, state.State.Marks.Disputes
	return result, nil
}

func (t tried) print(w io.Writer, d definition.Definition) error {
	why := map[string]string{}
	for _, decision := range t.Decisions {
		why[decision.Field] = map[string]string{change.KeptCentral: "what came first was kept",
			change.KeptChange: "what came second was taken", change.KeptBoth: "both came together"}[decision.Kept]
		if decision.Rule == string(merge.Ask) {
			why[decision.Field] = "held for a person; until then what came first stands"
		}
	}
	rules := d.Rules()
	table := terminal.NewTable(w, "FIELD", "RULE", "ONE", "OTHER", "COMES TO", "WHY")
	for _, field := range d.Fields {
		if t.one[field.Name] == nil && t.other[field.Name] == nil && t.Record[field.Name] == nil {
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
			terminal.Shorten(terminal.Plain(t.one[field.Name]), 24),
			terminal.Shorten(terminal.Plain(t.other[field.Name]), 24),
			terminal.Shorten(terminal.Plain(t.Record[field.Name]), 32),
			reason,
		)
	}
	if err := table.Flush(); err != nil {
		return err
	}
	fmt.Fprintf(w, "ONE is answered %s, OTHER %s.\n", t.Answers["ONE"], t.Answers["OTHER"])
	return nil
}

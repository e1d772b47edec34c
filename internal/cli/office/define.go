package office

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"homing/central/changes"
	"homing/core/definition"
	"homing/door"
	"homing/internal/cli/terminal"
	"homing/web"
	"homing/wire"
)

// DefineCommand is homing define.
func DefineCommand() *cli.Command {
	return &cli.Command{
		Name:      "define",
		Usage:     "create or change collections from definition files",
		ArgsUsage: "FILE…",
		Description: `A definition is a YAML file: the collection's name, a title, how a record is labelled, and for each field a JSON Schema
(2020-12). All files are taken, or none. A wrong file is refused with file, line and reason. What changes is shown; --preview shows it and
changes nothing. A definition that does not fit records that are there is refused, unless it says under carry how their values go over.

--check needs no central. It reads the files, and tries the records that stand under examples in them: what is wrong with each, where it falls,
and what each rule lets a worker do who covers it.

EXAMPLE (trails.yaml)
   collection: trails
   title: Trails
   label: "{name}"
   required: [name]
   fields:
     name: {type: string, minLength: 1}
     length_km: {type: number, minimum: 0}
     start: {$ref: "urn:homing:point"}    # a GeoJSON point; urn:homing:line is a line
   sync:
     rules: {length_km: newest}           # newest is the default
     removal: edit-stays`,
		Flags: CentralFlags(terminal.JSON, &cli.BoolFlag{Name: "preview",
			Usage: "only say what would change, and which records and devices it touches"},
			&cli.BoolFlag{Name: "check", Usage: "only read the files and try their examples, without central"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return terminal.Usage(fmt.Errorf("which files? (see %s --help)", c.FullName()))
			}
			definitions, err := ReadDefinitions(c.Args().Slice())
			if err != nil {
				return err
			}
			if c.Bool("check") {
				return checkDefinitions(c, definitions)
			}
			call, err := NewCaller(c)
			if err != nil {
				return err
			}
			var plans []changes.Plan
			if err := call.Send(ctx, http.MethodPost, "/v1/definitions/preview", wire.Definitions{Definitions: definitions},
				&plans); err != nil {
				return err
			}
			if c.Bool("preview") && c.Bool("json") {
				return terminal.WriteJSON(c.Root().Writer, plans)
			}
			if !c.Bool("json") {
				printPlans(c.Root().Writer, plans)
			}
			if c.Bool("preview") {
				return nil
			}
			var defined []changes.Defined
			if err := call.Send(ctx, http.MethodPut, "/v1/definitions", wire.Definitions{Definitions: definitions},
				&defined); err != nil {
				return err
			}
			w := c.Root().Writer
			if c.Bool("json") {
				return terminal.WriteJSON(w, defined)
			}
			byName := map[string]definition.Definition{}
			for _, d := range definitions {
				byName[d.Collection] = d
			}
			t := terminal.NewTable(w, "COLLECTION", "VERSION", "OUTCOME", "HOW EDITS OF A FIELD MEET")
			for _, one := range defined {
				t.Row(one.Collection, one.Version, one.Outcome, rulesOf(byName[one.Collection]))
			}
			return t.Flush()
		},
	}
}

// checkDefinitions tries the examples of definitions.
func checkDefinitions(c *cli.Command, definitions []definition.Definition) error {
	type checked struct {
		Collection string             `json:"collection"`
		Examples   []definition.Trial `json:"examples"`
	}
	var results []checked
	compiled := map[string]*definition.Collection{}
	wrong := 0
	for _, d := range definitions {
		one, err := d.Compile()
		if err != nil {
			return err
		}
		compiled[d.Collection] = one
		results = append(results, checked{d.Collection, one.Try()})
	}
	w := c.Root().Writer
	for _, result := range results {
		for _, t := range result.Examples {
			wrong += min(len(t.Wrong), 1)
		}
	}
	if c.Bool("json") {
		if err := terminal.WriteJSON(w, results); err != nil {
			return err
		}
	} else {
		for _, result := range results {
			if err := printTrials(w, compiled[result.Collection], result.Examples); err != nil {
				return err
			}
		}
	}
	if wrong > 0 {
		return terminal.Coded(fmt.Errorf("%s would not be taken", terminal.Count(wrong, "example")), terminal.ExitRefused)
	}
	return nil
}

func printTrials(w io.Writer, c *definition.Collection, trials []definition.Trial) error {
	if len(trials) == 0 {
		fmt.Fprintf(w, "%s: in order; it has no examples to try its rules on\n", c.Definition.Collection)
		return nil
	}
	fmt.Fprintf(w, "%s: in order; for a worker who covers the record:\n", c.Definition.Collection)
	headings := []string{"EXAMPLE", "FITS", "FALLS INTO"}
	for _, act := range c.Acts() {
		headings = append(headings, strings.ToUpper("may "+act))
	}
	t := terminal.NewTable(w, headings...)
	for n, one := range trials {
		cells := []any{cmp.Or(one.Label, fmt.Sprintf("example %d", n+1)), cmp.Or(strings.Join(one.Wrong, "; "), "yes"), strings.Join(one.Territories, ", ")}
		for _, act := range c.Acts() {
			cells = append(cells, one.May[act])
		}
		t.Row(cells...)
	}
	return t.Flush()
}

// rulesOf says by which rules the edits of a collection meet, those included that its fields' types suggest.
func rulesOf(d definition.Definition) string {
	rules := d.Rules().Fields
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(rules)) {
		text := name + ": " + string(rules[name])
		if _, said := d.Sync.Rules[name]; !said {
			text += " (by its type)"
		}
		parts = append(parts, text)
	}
	return strings.Join(append(parts, "newest"), ", ")
}

// printPlans says what differs, and what becomes of the records and devices.
func printPlans(w io.Writer, plans []changes.Plan) {
	for _, p := range plans {
		switch p.Outcome {
		case "created":
			fmt.Fprintf(w, "%s is new; %s to get it with the next exchange\n", p.Collection, terminal.Count(p.Devices, "device"))
			continue
		case "unchanged":
			fmt.Fprintf(w, "%s is as it is defined, in version %d; nothing would change\n", p.Collection, p.Version)
			continue
		}
		fmt.Fprintf(w, "%s, version %d:\n", p.Collection, p.Version)
		for _, d := range p.Differences {
			fmt.Fprintf(w, "   %s %s\n", d.Field, d.What)
		}
		fmt.Fprintf(w, "   %s, %d to be carried over; %s to get the version with the next exchange\n",
			terminal.Count(p.Records, "record"), p.Carried, terminal.Count(p.Devices, "device"))
		for _, f := range p.FollowUps {
			if f.Records == 0 {
				fmt.Fprintf(w, "   the follow-up %s would have followed the add of none of them; defining follows nothing up\n", f.Rule)
				continue
			}
			fmt.Fprintf(w, "   the follow-up %s would have followed the add of %s, such as %s; defining follows nothing up\n", f.Rule, terminal.Count(f.Records, "record"), f.Example)
			if f.Wrong != "" {
				fmt.Fprintf(w, "   ! %s\n", f.Wrong)
			}
		}
		for _, b := range p.Broken {
			fmt.Fprintf(w, "   ! %s: %s, in %s, such as %s\n", b.Field, b.Message, terminal.Count(b.Records, "record"), b.Example)
		}
	}
}

// ReadDefinitions reads all files and reports everything that is wrong with any of them.
func ReadDefinitions(files []string) ([]definition.Definition, error) {
	var all []definition.Definition
	var wrong []error
	claimed := map[string]string{}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			wrong = append(wrong, err)
			continue
		}
		d, err := definition.ReadSource(file, text)
		if err == nil && claimed[d.Collection] != "" {
			err = &definition.SourceError{File: file, Message: fmt.Sprintf("the name %s is claimed by %s already",
				d.Collection, claimed[d.Collection])}
		}
		if err != nil {
			wrong = append(wrong, err)
			continue
		}
		claimed[d.Collection] = file
		all = append(all, d)
	}
	if len(wrong) > 0 {
		return nil, terminal.Coded(fmt.Errorf("nothing was changed:\n%w", errors.Join(wrong...)), terminal.ExitRefused)
	}
	return all, nil
}

// OpenAPICommand is homing openapi.
func OpenAPICommand() *cli.Command {
	return &cli.Command{
		Name:  "openapi",
		Usage: "write the OpenAPI 3.1 description of central's API",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "door", Usage: "of the door that homing local serve opens on a device"}},
		Action: func(_ context.Context, c *cli.Command) error {
			describe := web.Description
			if c.Bool("door") {
				describe = door.Description
			}
			text, err := describe(terminal.Build())
			if err != nil {
				return err
			}
			fmt.Fprintln(c.Root().Writer, string(text))
			return nil
		},
	}
}

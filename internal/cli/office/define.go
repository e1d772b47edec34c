package office

import (
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
			Usage: "only say what would change, and which records and devices it touches"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return terminal.Usage(fmt.Errorf("which files? (see %s --help)", c.FullName()))
			}
			definitions, err := ReadDefinitions(c.Args().Slice())
			if err != nil {
				return err
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
		if p.Outcome != "changed" {
			continue
		}
		fmt.Fprintf(w, "%s, version %d:\n", p.Collection, p.Version)
		for _, d := range p.Differences {
			fmt.Fprintf(w, "   %s %s\n", d.Field, d.What)
		}
		fmt.Fprintf(w, "   %s, %d to be carried over; %s to get the version with the next exchange\n",
			terminal.Count(p.Records, "record"), p.Carried, terminal.Count(p.Devices, "device"))
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
		Action: func(_ context.Context, c *cli.Command) error {
			text, err := web.Description(terminal.Build())
			if err != nil {
				return err
			}
			fmt.Fprintln(c.Root().Writer, string(text))
			return nil
		},
	}
}

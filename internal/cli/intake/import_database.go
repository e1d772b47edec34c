package intake

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"homing/core/definition"
	"homing/core/propose"
	"homing/internal/cli/office"
	"homing/internal/cli/terminal"
	"homing/sheet"
	"homing/tables"
	"homing/wire"
)

// importDatabase brings in tables of an existing PostgreSQL database: all are checked, then all are defined, then all
// are loaded, those that are referred to first.
func importDatabase(ctx context.Context, c *cli.Command, address string) (err error) {
	for _, flag := range []string{"sheet", "encoding", "key"} {
		if c.IsSet(flag) {
			return terminal.Usage(fmt.Errorf("--%s is for files, not for tables of a database", flag))
		}
	}
	source, err := tables.Open(ctx, address)
	if err != nil {
		return terminal.Coded(err, terminal.ExitUnreachable)
	}
	defer func() { err = errors.Join(err, source.Close()) }()
	found, err := source.Describe(ctx, c.StringSlice("table"))
	if err != nil {
		return terminal.Coded(err, terminal.ExitRefused)
	}
	if c.String("rejects") != "" && len(found) != 1 {
		return terminal.Usage(errors.New("--rejects takes the rows of one table; name one with --table"))
	}
	if name := c.String("collection"); name != "" {
		if len(found) != 1 || !definition.Name.MatchString(name) {
			return terminal.Usage(errors.New("--collection names the collection of one table: small letters, digits and _"))
		}
		found[0].Definition.Collection = name
	}
	if to := c.String("propose"); to != "" {
		return proposeTables(c, found, to)
	}
	call, err := office.NewCaller(c)
	if err != nil {
		return err
	}
	runs, fresh, err := prepareTables(ctx, c, call, source, found)
	if err != nil {
		return err
	}
	results, wrong := make([]imported, len(runs)), 0
	for n, run := range runs {
		if results[n], err = run.check(); err != nil {
			return terminal.Coded(err, terminal.ExitRefused)
		}
		wrong += results[n].Wrong
	}
	if wrong > 0 && c.String("rejects") == "" {
		for n, run := range runs {
			if results[n].Wrong > 0 {
				fmt.Fprintf(c.Root().Writer, "%s:\n", run.path)
				if err := run.listWrong(results[n]); err != nil {
					return err
				}
			}
		}
		return terminal.Coded(fmt.Errorf("nothing was changed: %s wrong. Mend the tables, or import the others with --table",
			terminal.Count(wrong, "row")), terminal.ExitRefused)
	}
	if len(fresh) > 0 {
		if err := call.Send(ctx, http.MethodPut, "/v1/definitions", wire.Definitions{Definitions: fresh}, nil); err != nil {
			return err
		}
	}
	var problems []error
	for n, run := range runs {
		if err := run.load(ctx, &results[n]); err != nil {
			return fmt.Errorf("%s: %w", run.path, err)
		}
		if err := run.report(results[n]); err != nil {
			problems = append(problems, err)
		}
	}
	return errors.Join(problems...)
}

func proposeTables(c *cli.Command, found []*tables.Table, to string) error {
	if len(found) != 1 {
		return proposeInto(c, found, to)
	}
	if err := os.WriteFile(to, definition.WriteSource(found[0].Definition), 0o644); err != nil {
		return err
	}
	fmt.Fprintf(c.Root().Writer, "Wrote a proposal for %s to %s. Change it as you like, then: homing define %s\n",
		found[0].Definition.Collection, to, to)
	return nil
}

// proposeInto writes the definitions of several tables into a folder, one file for each.
func proposeInto(c *cli.Command, found []*tables.Table, folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return terminal.Usage(fmt.Errorf("--propose names a folder for several tables: %w", err))
	}
	var names []string
	for _, t := range found {
		name := filepath.Join(folder, t.Definition.Collection+".yaml")
		if err := os.WriteFile(name, definition.WriteSource(t.Definition), 0o644); err != nil {
			return err
		}
		names = append(names, name)
		for _, note := range t.Notes {
			fmt.Fprintf(c.Root().ErrWriter, "%s: %s\n", t.Name, note)
		}
	}
	fmt.Fprintf(c.Root().Writer, "Wrote proposals for %s. Change them as you like, then: homing define %s\n", terminal.Count(len(names), "collection"),
		strings.Join(names, " "))
	return nil
}

// prepareTables shows what would be defined, asks, and gets each table ready to be read.
func prepareTables(ctx context.Context, c *cli.Command, call office.Caller, source *tables.Source,
	found []*tables.Table) (runs []*importing, fresh []definition.Definition, err error) {
	var all wire.Definitions
	if err := call.Get(ctx, "/v1/definitions", &all); err != nil {
		return nil, nil, err
	}
	known := map[string]definition.Definition{}
	for _, d := range all.Definitions {
		known[d.Collection] = d
	}
	out := c.Root().ErrWriter
	for _, t := range found {
		d, there := known[t.Definition.Collection]
		if !there {
			d = t.Definition
			fresh = append(fresh, d)
			fmt.Fprintf(out, "%s is not defined yet. Proposed from the table %s, %s:\n\n%s\n", d.Collection, t.Name,
				terminal.Count(t.Rows, "row"), definition.WriteSource(d))
		}
		for _, note := range t.Notes {
			fmt.Fprintf(out, "%s: %s\n", t.Name, note)
		}
		compiled, err := d.Compile()
		if err != nil {
			return nil, nil, err
		}
		runs = append(runs, &importing{command: c, call: call, path: t.Name, collection: d.Collection, target: compiled,
			fresh: !there, total: t.Rows,
			open: func() (sheet.Reader, error) { return source.Read(ctx, t) }})
	}
	for n, run := range runs {
		if err := run.matchTable(found[n]); err != nil {
			return nil, nil, terminal.Coded(err, terminal.ExitRefused)
		}
	}
	if len(fresh) > 0 && !c.Bool("yes") {
		return runs, fresh, agree(out)
	}
	return runs, fresh, nil
}

// matchTable finds the field of each column; for a collection that was there before, columns may be missing there.
func (i *importing) matchTable(t *tables.Table) error {
	i.fit = propose.Fit{Target: i.target.Definition, Figures: i.figures, Fields: map[string]definition.Field{}}
	var missing []string
	for _, field := range t.Definition.Fields {
		if into, known := i.target.Field(field.Name); known {
			i.fit.Fields[field.Name] = into
		} else {
			missing = append(missing, field.Name)
		}
	}
	if len(missing) > 0 {
		return fmt.Errorf("the table %s has columns that %s has no fields for: %s; define them first", t.Name, i.collection,
			strings.Join(missing, ", "))
	}
	return nil
}

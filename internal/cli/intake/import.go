// Package intake is homing import: from a table of unknown make to records, with a look at what would come of it.
package intake

import (
	"cmp"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"homing/central/changes"
	"homing/central/finding"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/propose"
	"homing/core/record"
	"homing/internal/cli/office"
	"homing/internal/cli/terminal"
	"homing/sheet"
	"homing/wire"
)

// ImportCommand is homing import.
func ImportCommand() *cli.Command {
	return &cli.Command{
		Name:      "import",
		Usage:     "bring in a table: CSV, XLSX, NDJSON or GeoJSON, or the tables of a PostgreSQL database",
		ArgsUsage: "FILE|DATABASE",
		Description: `For a collection that is not defined yet, a definition is proposed from the rows and shown; with --yes, or when you agree, it is
defined and the rows are loaded. With --propose FILE it is only written, for you to change and give to homing define.

A row whose key a record has already updates that record, so importing a file again doubles nothing. All rows are checked before
any is loaded. If some are wrong, nothing is loaded and they are listed; with --rejects FILE the good rows go in, and the wrong
ones go to a CSV file with their reasons, to be mended and imported again.

Without a key each row adds a record: rows that are all there already, by what they say, are not added a second time unless you say
--add-again. How many records would change is said before anything does.

Numbers and dates are read as people write them (0,5; 1.000,50; 12%; 01.02.2025; yes, ja), by what the file shows; --decimal and --dates say
otherwise. Two columns of latitude and longitude become one place.

A column that refers to records of another collection may hold their ids or their keys. A column homing_id, as exports have it, names
the record outright.

DATABASE is an address such as postgres://reader@127.0.0.1:5432/works. Its tables become collections: columns, primary and foreign
keys, not-null, enums and simple checks become a definition, and the rows follow with their relations. The database is only read. Its
password may stand in PGPASSWORD. Importing it again brings what has changed; rows that are gone from it stay as records.

EXAMPLES
   homing import trails.csv
   homing import old-list.xlsx --sheet "2025" --collection repairs --rejects wrong.csv --yes
   homing import postgres://reader@127.0.0.1:5432/works --table sites --table visits`,
		Flags: office.CentralFlags(terminal.JSON,
			&cli.StringFlag{Name: "collection", Usage: "`NAME` of the collection; the file's name when left out"},
			&cli.StringFlag{Name: "key", Usage: "the `FIELD` that tells records apart, or several together, such as site,date; the definition's when left out"},
			&cli.BoolFlag{Name: "add-again", Usage: "without a key: add rows though records that say the same are there"},
			&cli.StringFlag{Name: "decimal", Usage: "what stands before decimals in texts: `point` or comma; told by the file when left out"},
			&cli.StringFlag{Name: "dates", Usage: "the `ORDER` of dates such as 1/2/2025: dmy or mdy; told by the file when left out"},
			&cli.StringFlag{Name: "zone", Usage: "of a workbook: the `ZONE` that its times are of, such as Europe/Zurich", Value: "UTC"},
			&cli.BoolFlag{Name: "keep-totals", Usage: "take a last row that looks like totals for a record"},
			&cli.StringSliceFlag{Name: "table", Usage: "of a database: a `TABLE` or SCHEMA.TABLE; may be given several " +
				"times; all of the schema public when left out"},
			&cli.StringFlag{Name: "sheet", Usage: "the `SHEET` of a workbook; the first when left out"},
			&cli.StringFlag{Name: "encoding", Usage: "of a CSV file: utf-8 or windows-1252", Value: "utf-8"},
			&cli.StringFlag{Name: "rejects", Usage: "load the good rows and write the wrong ones to this `FILE`"},
			&cli.StringFlag{Name: "propose", Usage: "write the proposed definition to this `FILE` and do no more; of several tables, one file each into a folder of that name"},
			&cli.BoolFlag{Name: "yes", Usage: "define and load without asking"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := terminal.Arguments(c, "FILE")
			if err != nil {
				return err
			}
			if strings.HasPrefix(args[0], "postgres://") || strings.HasPrefix(args[0], "postgresql://") {
				return importDatabase(ctx, c, args[0])
			}
			return importFile(ctx, c, args[0])
		},
	}
}

func importFile(ctx context.Context, c *cli.Command, path string) error {
	options := sheet.Options{Sheet: c.String("sheet"), Encoding: c.String("encoding"), Totals: c.Bool("keep-totals")}
	var err error
	if options.Zone, err = time.LoadLocation(c.String("zone")); err != nil {
		return terminal.Usage(fmt.Errorf("the zone %q is not known; take one such as UTC or Europe/Zurich", c.String("zone")))
	}
	figures := propose.Figures{Decimal: c.String("decimal"), Dates: c.String("dates")}
	if !slices.Contains([]string{"", propose.Point, propose.Comma}, figures.Decimal) {
		return terminal.Usage(fmt.Errorf("--decimal is point or comma, not %q", figures.Decimal))
	}
	if !slices.Contains([]string{"", propose.DMY, propose.MDY}, figures.Dates) {
		return terminal.Usage(fmt.Errorf("--dates is dmy or mdy, not %q", figures.Dates))
	}
	i := &importing{command: c, path: path, collection: c.String("collection"), figures: figures,
		open: func() (sheet.Reader, error) { return sheet.Open(path, options) }}
	if i.collection == "" {
		i.collection = propose.FieldName(strings.TrimSuffix(filepath.Base(path), filepath.Ext(path)))
	}
	if !definition.Name.MatchString(i.collection) {
		return terminal.Usage(fmt.Errorf("%q cannot name a collection; give one with --collection", i.collection))
	}
	return i.run(ctx)
}

// importing is one run of the command, for one table.
type importing struct {
	command    *cli.Command
	path       string                       // of the file, or the name of the table
	open       func() (sheet.Reader, error) // from the start
	collection string
	call       office.Caller
	target     *definition.Collection
	fresh      bool   // the collection is still to be defined
	key        string // the field that tells records apart, or several, separated by commas
	figures    propose.Figures
	fit        propose.Fit
	named      bool // a column holds the records' ids
	total      int
	mended     []string // by whoever reads the file
	said       []string // of how texts are read
}

// imported is what a run did.
type imported struct {
	Collection string     `json:"collection"`
	Rows       int        `json:"rows"`
	Added      int        `json:"added"`
	Updated    int        `json:"updated"`
	Unchanged  int        `json:"unchanged"`
	Wrong      int        `json:"wrong"`
	Notes      []string   `json:"notes,omitempty"`
	List       []wrongRow `json:"list,omitempty"`
}

// wrongRow is one thing that is wrong with one row.
type wrongRow struct {
	Row    int    `json:"row"`
	Column string `json:"column,omitempty"`
	Value  string `json:"value,omitempty"`
	Reason string `json:"reason"`
}

const (
	listWrong  = 20 // things that are shown
	RowsAtOnce = 500
	// Progress is shown each time so many more rows were looked at.
	progressRows = 5000
	bytesAtOnce  = 1 << 20
)

func (i *importing) run(ctx context.Context) error {
	var err error
	if i.call, err = office.NewCaller(i.command); err != nil {
		return err
	}
	// Rows are checked here, so a wrong file is found before anything is asked of central.
	table, err := i.look()
	if err != nil {
		return terminal.Coded(err, terminal.ExitRefused)
	}
	if to := i.command.String("propose"); to != "" {
		return i.writeProposal(ctx, table, to)
	}
	if err := i.findTarget(ctx, table); err != nil {
		return err
	}
	if !i.fresh {
		i.settle(table)
		i.tellNotes()
	}
	if err := i.match(table); err != nil {
		return terminal.Coded(err, terminal.ExitRefused)
	}
	result, err := i.check()
	if err != nil {
		return terminal.Coded(err, terminal.ExitRefused)
	}
	if result.Wrong > 0 && i.command.String("rejects") == "" {
		return i.refuse(result)
	}
	if !i.fresh {
		if err := i.foresee(ctx); err != nil {
			return err
		}
	}
	if i.fresh {
		if err := i.call.Send(ctx, http.MethodPut, "/v1/definitions",
			wire.Definitions{Definitions: []definition.Definition{i.target.Definition}}, nil); err != nil {
			return err
		}
	}
	if err := i.load(ctx, &result); err != nil {
		return err
	}
	return i.report(result)
}

// each reads the file from the start.
func (i *importing) each(take func(sheet.Row) error) (err error) {
	i.mended, err = sheet.Each(i.open, take)
	return err
}

// look reads the file once, to know its columns and what they hold.
func (i *importing) look() (*propose.Table, error) {
	reader, err := i.open()
	if err != nil {
		return nil, err
	}
	headers := reader.Headers()
	if err := reader.Close(); err != nil {
		return nil, err
	}
	own := func(name string) bool { return name == sheet.IDColumn || name == rejectReason } // what an export or a rejects file adds
	table := propose.NewTable(slices.DeleteFunc(slices.Clone(headers), own))
	line := terminal.NewProgressLine(i.command.Root().ErrWriter)
	defer line.Done()
	err = i.each(func(row sheet.Row) error {
		if i.total++; i.total%progressRows == 0 {
			line.Show(fmt.Sprintf("reading %s: %d rows", filepath.Base(i.path), i.total))
		}
		_, named := row.Cells[sheet.IDColumn]
		i.named = i.named || named
		maps.DeleteFunc(row.Cells, func(name string, _ propose.Value) bool { return own(name) })
		table.Add(row.Cells, slices.DeleteFunc(row.Names, own)...)
		return nil
	})
	if err == nil && i.total == 0 {
		err = fmt.Errorf("%s: there are no rows below the heading", i.path)
	}
	return table, err
}

// settle decides how texts are to be read. What homing has exported is read as it was written.
func (i *importing) settle(table *propose.Table) {
	if i.named {
		return
	}
	var matters func(string) bool
	if i.target != nil && !i.fresh {
		matters = propose.Matters(i.target.Definition)
	}
	var said []string
	i.figures, said = table.Settle(i.figures, matters)
	i.said = append(i.said, said...)
}

// tellNotes says what was mended, or read in one of several ways; all at once, before anything is done.
func (i *importing) tellNotes() {
	for _, note := range append(slices.Clone(i.mended), i.said...) {
		fmt.Fprintf(i.command.Root().ErrWriter, "%s: %s\n", filepath.Base(i.path), note)
	}
}

// proposal is a definition for the table, and why it has the key that it has, or what it means that it has none.
func (i *importing) proposal(ctx context.Context, table *propose.Table, others []definition.Definition) (d definition.Definition, about string,
	err error) {
	i.settle(table)
	if d, err = table.Definition(i.collection); err != nil {
		return d, "", err
	}
	keys := strings.Split(i.command.String("key"), ",")
	for _, key := range keys {
		if _, known := d.Field(key); key != "" && !known {
			return d, "", fmt.Errorf("the key %q is no column; there are %s", key, strings.Join(terminal.FieldNames(d), ", "))
		}
	}
	_, why := table.Key()
	field, referred, err := i.referred(ctx, table, others)
	if err != nil {
		return d, "", err
	}
	if field != "" {
		d.Key, why = field, referred
	}
	switch {
	case len(keys) > 1:
		d.Key, about = "", fmt.Sprintf("Records are told apart by %s together. A definition names one field as its key, so say --key %[1]s with each import.",
			i.command.String("key"))
	case keys[0] != "":
		d.Key = keys[0]
	case d.Key != "":
		about = fmt.Sprintf("The key is %s: %s.\nA row of the next import with the same %[1]s changes that record. Say --key FIELD for another.", d.Key, why)
	default:
		about = "No column looks like a key, so each row adds a record, and the next file adds its rows to those that are there.\nSay --key FIELD, or --key " +
			"FIELD,FIELD where several tell the records apart together."
	}
	return d, about, nil
}

// referred is the column whose values stand in a field of another collection that is called like this one.
func (i *importing) referred(ctx context.Context, table *propose.Table, others []definition.Definition) (field, why string, err error) {
	for _, other := range others {
		for _, from := range other.Fields {
			kind := from.Shape().Type
			if from.Reference != "" || kind != "string" && kind != "integer" || !calledLike(from.Name, definition.Definition{Collection: i.collection,
				Key: "key"}) {
				continue
			}
			var listing finding.Listing
			if err := i.call.Get(ctx, office.RecordsPath(other.Collection)+"?limit=200", &listing); err != nil {
				return "", "", err
			}
			var values []string
			for _, r := range listing.Records {
				var fields record.Fields
				if err := json.Unmarshal(r.Fields, &fields); err != nil {
					return "", "", err
				}
				if value := fields[from.Name]; value != nil {
					values = append(values, definition.Plain(value))
				}
			}
			if field, why = table.Referred(other.Collection, values); field != "" {
				return field, why, nil
			}
		}
	}
	return "", "", nil
}

func (i *importing) writeProposal(ctx context.Context, table *propose.Table, to string) error {
	d, about, err := i.proposal(ctx, table, nil)
	if err != nil {
		return terminal.Coded(err, terminal.ExitRefused)
	}
	i.tellNotes()
	if about != "" {
		fmt.Fprintln(i.command.Root().ErrWriter, about)
	}
	if err := os.WriteFile(to, definition.WriteSource(d), 0o644); err != nil {
		return err
	}
	fmt.Fprintf(i.command.Root().Writer, "Wrote a proposal for %s, from %s, to %s. Change it as you like, then: "+
		"homing define %s\n", i.collection, terminal.Count(i.total, "row"), to, to)
	return nil
}

// findTarget finds the collection, or proposes it. It is defined when its rows have been checked.
func (i *importing) findTarget(ctx context.Context, table *propose.Table) error {
	var all wire.Definitions
	if err := i.call.Get(ctx, "/v1/definitions", &all); err != nil {
		return err
	}
	for _, d := range all.Definitions {
		if d.Collection == i.collection {
			var err error
			i.target, err = d.Compile()
			return err
		}
	}
	d, about, err := i.proposal(ctx, table, all.Definitions)
	if err != nil {
		return terminal.Coded(err, terminal.ExitRefused)
	}
	if err := i.proposeReferences(ctx, table, &d, all.Definitions); err != nil {
		return err
	}
	if i.target, err = d.Compile(); err != nil {
		return terminal.Coded(err, terminal.ExitRefused)
	}
	out := i.command.Root().ErrWriter
	fmt.Fprintf(out, "%s is not defined yet. Proposed from %s:\n\n%s\n", i.collection, terminal.Count(i.total, "row"),
		definition.WriteSource(d))
	i.tellNotes()
	if about != "" {
		fmt.Fprintln(out, about)
	}
	if !i.command.Bool("yes") {
		if err := agree(out); err != nil {
			return err
		}
	}
	i.fresh = true
	return nil
}

// agree asks whether to define and load what was shown.
func agree(out io.Writer) error {
	if !terminal.OnTerminal(os.Stdin) {
		return terminal.Coded(errors.New("nothing was changed; run it again with --yes to define and load, or with "+
			"--propose FILE to change the proposal first"), terminal.ExitRefused)
	}
	if yes, err := terminal.Ask(out, os.Stdin, "Define it so, and load the rows? [y/N] "); err != nil || !yes {
		return terminal.Coded(errors.New("nothing was changed"), terminal.ExitRefused)
	}
	return nil
}

// proposeReferences makes a column a reference when it is called like a collection that there is, alone or with its
// key, and its values are keys of records there.
func (i *importing) proposeReferences(ctx context.Context, table *propose.Table, d *definition.Definition,
	all []definition.Definition) error {
	for n, field := range d.Fields {
		for _, target := range all {
			if target.Key == "" || field.Name == d.Key || !calledLike(field.Name, target) {
				continue
			}
			samples := table.Samples(field.Name)
			for _, sample := range samples {
				var listing finding.Listing
				ask := url.Values{"where": {target.Key + "=" + sample}, "limit": {"1"}}
				if err := i.call.Get(ctx, office.RecordsPath(target.Collection)+"?"+ask.Encode(), &listing); err != nil {
					return err
				}
				if listing.Total == 0 {
					samples = nil
					break
				}
			}
			if len(samples) == 0 {
				continue
			}
			schema, err := json.Marshal(map[string]any{"title": field.Title, "type": "string", "format": "uuid",
				"reference": target.Collection})
			if err != nil {
				return err
			}
			d.Fields[n].Schema, d.Fields[n].Reference = schema, target.Collection
			break
		}
	}
	return nil
}

// calledLike says whether a column's name is that of a collection, in the singular or not, alone or with the
// collection's key or id behind.
func calledLike(name string, target definition.Definition) bool {
	for _, one := range []string{target.Collection, strings.TrimSuffix(target.Collection, "s"),
		strings.TrimSuffix(target.Collection, "es")} {
		if slices.Contains([]string{one, one + "_" + target.Key, one + "_id", one + "_no", one + "_number", one + "_code"}, name) {
			return true
		}
	}
	return false
}

// match finds the field of each column, and the key.
func (i *importing) match(table *propose.Table) error {
	var err error
	if i.fit, err = table.Fit(i.target.Definition, i.figures); err != nil {
		return fmt.Errorf("%s: %w", i.path, err)
	}
	i.key = i.command.String("key")
	if i.key == "" {
		i.key = i.target.Key
	}
	if i.key == "" || i.named && i.command.String("key") == "" {
		i.key = "" // each row says which record it is
		return nil
	}
	for _, key := range strings.Split(i.key, ",") {
		if !i.fit.Has(key) {
			return fmt.Errorf("%s: there is no column for the key %s", i.path, key)
		}
	}
	return nil
}

// values makes the fields of a row, and says which record it is of, where the row does.
func (i *importing) values(row sheet.Row) map[string]json.RawMessage {
	values := i.fit.Values(row.Cells)
	if id := row.Cells[sheet.IDColumn]; !id.Empty() {
		values[changes.RowID] = i.figures.Convert(definition.Field{Schema: json.RawMessage(`{"type":"string"}`)}, id)
	}
	return values
}

// wrongWith says what is wrong with a row; seen are the keys of the rows before it.
func (i *importing) wrongWith(row sheet.Row, seen *seenKeys) ([]wrongRow, error) {
	values := i.values(row)
	unique, column := keyOf(values, i.key), i.key
	if i.key == "" {
		unique, column = keyOf(values, changes.RowID), changes.RowID
	}
	if key := unique; key != "" {
		first, err := seen.note(key, row.Number)
		if err != nil {
			return nil, err
		}
		if first != row.Number {
			return []wrongRow{{row.Number, column, key, fmt.Sprintf("row %d has this key already", first)}}, nil
		}
	}
	delete(values, changes.RowID)
	fields, wrong := propose.Wrong(i.target, values)
	var all []wrongRow
	for _, reason := range wrong {
		name, _, _ := strings.Cut(reason.Field, "/")
		value := terminal.Plain(fields[name])
		if fields == nil { // it is no value at all
			value = string(values[name])
		}
		all = append(all, wrongRow{row.Number, reason.Field, terminal.Shorten(value, 40), reason.Message})
	}
	return all, nil
}

// keyOf is the key of a row as people read it; empty where a part of it is missing.
func keyOf(values map[string]json.RawMessage, key string) string {
	var parts []string
	for _, name := range strings.Split(key, ",") {
		text := definition.Plain(values[name])
		if text == "" || string(values[name]) == "null" {
			return ""
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, ", ")
}

// check goes through all rows before any is loaded.
func (i *importing) check() (imported, error) {
	result := imported{Collection: i.collection, Rows: i.total}
	seen, err := newSeenKeys()
	if err != nil {
		return result, err
	}
	line := terminal.NewProgressLine(i.command.Root().ErrWriter)
	done := 0
	err = i.each(func(row sheet.Row) error {
		wrong, err := i.wrongWith(row, seen)
		if err != nil {
			return err
		}
		if len(wrong) > 0 {
			result.Wrong++
		}
		for _, one := range wrong {
			if len(result.List) < listWrong {
				result.List = append(result.List, one)
			}
		}
		if done++; done%progressRows == 0 {
			line.Show(fmt.Sprintf("checking %s: %d of %d rows (%d%%)", i.collection, done, i.total, 100*done/i.total))
		}
		return nil
	})
	line.Done()
	return result, errors.Join(err, seen.close())
}

// foresee asks central what would become of the rows, says how many records would change, and asks before that is done.
func (i *importing) foresee(ctx context.Context) error {
	counts := map[string]int{}
	line := terminal.NewProgressLine(i.command.Root().ErrWriter)
	done := 0
	all := func(sheet.Row) (bool, error) { return true, nil } // central says what is wrong with a wrong one
	err := i.inParts(all, func(_ []sheet.Row, rows []map[string]json.RawMessage) error {
		var outcomes []changes.Row
		if err := i.call.Send(ctx, http.MethodPut, "/v1/rows/"+url.PathEscape(i.collection), map[string]any{"key": i.key, "rows": rows,
			"preview": true}, &outcomes); err != nil {
			return err
		}
		for _, one := range outcomes {
			counts[one.Outcome]++
		}
		done += len(rows)
		line.Show(fmt.Sprintf("comparing %s: %d of %d rows (%d%%)", i.collection, done, i.total, 100*done/i.total))
		return nil
	})
	line.Done()
	if err != nil {
		return err
	}
	out := i.command.Root().ErrWriter
	if there := counts[changes.RowThere]; there > 0 && !i.command.Bool("add-again") {
		return terminal.Coded(fmt.Errorf("nothing was changed: %s of %d say just what records of %s say that are there already. Name what tells "+
			"them apart with --key FIELD or --key FIELD,FIELD, or say --add-again to add them once more", terminal.Count(there, "row"), i.total,
			i.collection), terminal.ExitRefused)
	}
	if counts[changes.RowUpdated] == 0 {
		return nil
	}
	fmt.Fprintf(out, "%s: %s would change, found by %s; %d added, %d left as they are.\n", i.collection,
		terminal.Count(counts[changes.RowUpdated], "record"), cmp.Or(i.key, changes.RowID), counts[changes.RowAdded]+counts[changes.RowThere],
		counts[changes.RowUnchanged])
	if i.command.Bool("yes") || !terminal.OnTerminal(os.Stdin) {
		return nil
	}
	if yes, err := terminal.Ask(out, os.Stdin, "Go on? [y/N] "); err != nil || !yes {
		return terminal.Coded(errors.New("nothing was changed"), terminal.ExitRefused)
	}
	return nil
}

// inParts gives the rows that are kept, in parts that are small enough to be sent. None is given after an error.
func (i *importing) inParts(keep func(row sheet.Row) (bool, error),
	take func(part []sheet.Row, rows []map[string]json.RawMessage) error) error {
	var part []sheet.Row
	var rows []map[string]json.RawMessage
	size := 0
	send := func() error {
		if len(rows) == 0 {
			return nil
		}
		err := take(part, rows)
		part, rows, size = part[:0], nil, 0
		return err
	}
	err := i.each(func(row sheet.Row) error {
		if kept, err := keep(row); err != nil || !kept {
			return err
		}
		values := i.values(row)
		for name, value := range values {
			size += len(name) + len(value)
		}
		part, rows = append(part, row), append(rows, values)
		if len(rows) >= RowsAtOnce || size >= bytesAtOnce {
			return send()
		}
		return nil
	})
	if err != nil {
		return err
	}
	return send()
}

func (i *importing) refuse(result imported) error {
	if i.command.Bool("json") {
		if err := terminal.WriteJSON(i.command.Root().Writer, result); err != nil {
			return err
		}
	} else if err := i.listWrong(result); err != nil {
		return err
	}
	return terminal.Coded(fmt.Errorf("nothing was changed: %s of %d wrong. Mend the file, or load the good ones with "+
		"--rejects FILE", terminal.Count(result.Wrong, "row"), result.Rows), terminal.ExitRefused)
}

func (i *importing) listWrong(result imported) error {
	t := terminal.NewTable(i.command.Root().Writer, "ROW", "COLUMN", "VALUE", "REASON")
	for _, one := range result.List {
		t.Row(one.Row, one.Column, one.Value, one.Reason)
	}
	if len(result.List) == listWrong {
		t.Row("…", "", "", "")
	}
	return t.Flush()
}

// load sends the good rows in parts, and the wrong ones to the rejects file.
func (i *importing) load(ctx context.Context, result *imported) error {
	rejects, err := i.openRejects()
	if err != nil {
		return err
	}
	line := terminal.NewProgressLine(i.command.Root().ErrWriter)
	seen, err := newSeenKeys()
	if err != nil {
		return errors.Join(err, rejects.close())
	}
	good := func(row sheet.Row) (bool, error) {
		if result.Wrong == 0 { // all were found good
			return true, nil
		}
		wrong, err := i.wrongWith(row, seen)
		if err != nil || len(wrong) == 0 {
			return err == nil, err
		}
		return false, rejects.write(row, wrong)
	}
	done := 0
	err = i.inParts(good, func(part []sheet.Row, rows []map[string]json.RawMessage) error {
		var outcomes []changes.Row
		path := "/v1/rows/" + url.PathEscape(i.collection)
		if err := i.call.Send(ctx, http.MethodPut, path, map[string]any{"key": i.key, "rows": rows}, &outcomes); err != nil {
			return fmt.Errorf("%w\n%s were loaded before; importing the file again goes on from there", err, terminal.Count(done, "row"))
		}
		for n, outcome := range outcomes {
			if err := i.tally(result, rejects, part[n], outcome); err != nil {
				return err
			}
		}
		done += len(rows)
		line.Show(fmt.Sprintf("loading %s: %d of %d rows (%d%%)", i.collection, done, i.total, 100*done/i.total))
		return nil
	})
	line.Done()
	return errors.Join(err, seen.close(), rejects.close())
}

func (i *importing) tally(result *imported, rejects *rejectsFile, row sheet.Row, outcome changes.Row) error {
	switch outcome.Outcome {
	case changes.RowAdded:
		result.Added++
	case changes.RowUpdated:
		result.Updated++
	case changes.RowUnchanged:
		result.Unchanged++
	default:
		result.Wrong++
		wrong := wrongFrom(row, outcome.Reasons)
		result.List = append(result.List, wrong[:min(len(wrong), max(0, listWrong-len(result.List)))]...)
		return rejects.write(row, wrong)
	}
	return nil
}

func wrongFrom(row sheet.Row, reasons []change.Reason) []wrongRow {
	all := []wrongRow{}
	for _, reason := range reasons {
		all = append(all, wrongRow{Row: row.Number, Column: reason.Field, Reason: reason.Message})
	}
	return all
}

func (i *importing) report(result imported) error {
	w := i.command.Root().Writer
	result.Notes = append(slices.Clone(i.mended), i.said...)
	if i.command.Bool("json") {
		if err := terminal.WriteJSON(w, result); err != nil {
			return err
		}
	} else {
		if result.Wrong > 0 {
			if err := i.listWrong(result); err != nil {
				return err
			}
		}
		fmt.Fprintf(w, "%s: %s added, %d updated, %d unchanged, %d wrong.\n", i.collection, terminal.Count(result.Added, "record"),
			result.Updated, result.Unchanged, result.Wrong)
	}
	if result.Wrong > 0 {
		where := ""
		if to := i.command.String("rejects"); to != "" {
			where = " and are in " + to
		}
		return terminal.Coded(fmt.Errorf("%s did not go in%s; mend them and import them again", terminal.Count(result.Wrong, "row"),
			where), terminal.ExitRefused)
	}
	return nil
}

// rejectReason is the column that a rejects file adds.
const rejectReason = "homing_reason"

// rejectsFile takes the rows that do not go in; nil takes none.
type rejectsFile struct {
	file    *os.File
	csv     *csv.Writer
	headers []string
}

func (i *importing) openRejects() (*rejectsFile, error) {
	path := i.command.String("rejects")
	if path == "" {
		return nil, nil
	}
	file, err := os.Create(path)
	if err != nil {
		return nil, err
	}
	r := &rejectsFile{file: file, csv: csv.NewWriter(file)}
	if i.fit.Place != "" {
		r.headers = append(r.headers, i.fit.Latitude, i.fit.Longitude)
	}
	for _, field := range i.target.Fields { // the headings in the order of the fields
		for header, its := range i.fit.Fields {
			if its.Name == field.Name {
				r.headers = append(r.headers, header)
			}
		}
	}
	return r, r.csv.Write(append(append([]string{}, r.headers...), rejectReason))
}

func (r *rejectsFile) write(row sheet.Row, wrong []wrongRow) error {
	if r == nil {
		return nil
	}
	var cells, reasons []string
	for _, header := range r.headers {
		value := row.Cells[header]
		if value.JSON != nil {
			value.Text = definition.Plain(value.JSON)
		}
		cells = append(cells, value.Text)
	}
	for _, one := range wrong {
		reasons = append(reasons, strings.TrimPrefix(one.Column+": "+one.Reason, ": "))
	}
	return r.csv.Write(append(cells, strings.Join(reasons, "; ")))
}

func (r *rejectsFile) close() error {
	if r == nil {
		return nil
	}
	r.csv.Flush()
	return errors.Join(r.csv.Error(), r.file.Close())
}

package office

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/central/finding"
	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/internal/cli/terminal"
	"homing/link"
	"homing/wire"
)

// QueryFlags narrow and order a list of records.
func QueryFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "where", Usage: "`CONDITION` such as state=open, length_km>5 or name~ridge; all must " +
			"hold, but of several with = for one field any"},
		&cli.StringFlag{Name: "search", Usage: "`WORDS` that the record contains"},
		&cli.StringFlag{Name: "sort", Usage: "`FIELDS`, comma-separated; a leading dash reverses"},
		&cli.IntFlag{Name: "limit", Value: 50, Usage: "records of a page, at most 1000"},
		&cli.IntFlag{Name: "offset", Usage: "records to skip"},
	}
}

// queryOf is what the flags of a query ask central for, one page of it.
func queryOf(c *cli.Command, limit, offset int) url.Values {
	ask := url.Values{"where": c.StringSlice("where"), "limit": {strconv.Itoa(limit)}, "offset": {strconv.Itoa(offset)}}
	for _, name := range []string{"search", "sort"} {
		if c.String(name) != "" {
			ask.Set(name, c.String(name))
		}
	}
	return ask
}

// RecordsCommand is homing records.
func RecordsCommand() *cli.Command {
	return &cli.Command{
		Name:  "records",
		Usage: "read and write records at central, by the same rules as a push",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list records of a collection", ArgsUsage: "COLLECTION",
				Flags: CentralFlags(append(QueryFlags(), terminal.JSON)...), Action: listRecords},
			{Name: "show", Usage: "show one record, as it is or as it was", ArgsUsage: "COLLECTION RECORD", Action: showRecord,
				Flags: CentralFlags(terminal.JSON, &cli.Int64Flag{Name: "revision", Usage: "as it was at this `REVISION`"},
					&cli.StringFlag{Name: "as-of", Usage: "as central had it at this `TIME`: 2026-11-20, or 2026-11-20T16:00:00Z"})},
			{Name: "bring-back", Usage: "make a record what it was at a revision, by a new change",
				ArgsUsage: "COLLECTION RECORD REVISION", Flags: CentralFlags(terminal.JSON), Action: bringBack},
			{Name: "history", Usage: "show all versions of a record", ArgsUsage: "COLLECTION RECORD",
				Flags: CentralFlags(terminal.JSON), Action: recordHistory},
			{Name: "add", Usage: "add a record", ArgsUsage: "COLLECTION",
				Flags: CentralFlags(append(terminal.FieldFlags(false), terminal.JSON)...), Action: addRecord},
			{Name: "edit", Usage: "edit some fields of a record", ArgsUsage: "COLLECTION RECORD",
				Flags: CentralFlags(append(terminal.FieldFlags(true), terminal.JSON,
					&cli.Int64Flag{Name: "base", Usage: "the `REVISION` you saw; fields that others changed since follow the " +
						"collection's rules"})...), Action: editRecord},
			{Name: "remove", Usage: "remove a record; a tombstone and its history stay", ArgsUsage: "COLLECTION RECORD",
				Flags: CentralFlags(terminal.JSON, &cli.BoolFlag{Name: "with-children",
					Usage: "also remove the records that belong to it, where their definition says that they go with it"}),
				Action: removeRecord},
			markCommand("complete", "mark a record complete, in a collection whose coverage says so", http.MethodPut),
			markCommand("reopen", "open a record again that was marked complete", http.MethodDelete),
		},
		Description: "RECORD is the record's id, its key, or its label, where only one record has it.",
	}
}

// definitionAt gives a collection's definition as central has it.
func (c Caller) definitionAt(ctx context.Context, name string) (*definition.Collection, error) {
	var all wire.Definitions
	if err := c.Get(ctx, "/v1/definitions", &all); err != nil {
		return nil, err
	}
	var names []string
	for _, d := range all.Definitions {
		if d.Collection == name {
			return d.Compile()
		}
		names = append(names, d.Collection)
	}
	return nil, terminal.Coded(fmt.Errorf("there is no collection %s; there are: %s", name, strings.Join(names, ", ")),
		terminal.ExitNotFound)
}

// RecordsPath is where the records of a collection lie.
func RecordsPath(collection string) string {
	return "/v1/records/" + url.PathEscape(collection)
}

// wantedOf is what a record wants attention for, in the words of its definition.
func wantedOf(r wire.Record) string {
	if r.Wants == nil {
		return ""
	}
	return r.Wants.Say
}

func listRecords(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "COLLECTION")
	if err != nil {
		return err
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	d, err := call.definitionAt(ctx, args[0])
	if err != nil {
		return err
	}
	ask := queryOf(c, c.Int("limit"), c.Int("offset"))
	var listing finding.Listing
	if err := call.Get(ctx, RecordsPath(args[0])+"?"+ask.Encode(), &listing); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		return terminal.WriteJSON(w, listing)
	}
	headings, columns := ListColumns(d.Definition)
	attends := d.Attends()
	first := []string{"RECORD"}
	if attends {
		first = append(first, "ATTENTION")
	}
	t := terminal.NewTable(w, append(first, append(headings, "REV", "EDITED", "BY")...)...)
	for _, r := range listing.Records {
		fields, err := record.Parse(r.Fields)
		if err != nil {
			return err
		}
		cells := []any{r.ID}
		if attends {
			cells = append(cells, wantedOf(r))
		}
		cells = append(cells, FieldCells(fields, columns)...)
		t.Row(append(cells, r.Revision, terminal.When(r.EditedAt), r.Author)...)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	PageNote(w, len(listing.Records), listing.Offset, int(listing.Total), listing.More)
	if listing.Total > 0 {
		return nil
	}
	return NoteValues(w, c.StringSlice("where"), func() (all []record.Fields, err error) {
		var others finding.Listing
		if err := call.Get(ctx, RecordsPath(args[0])+"?limit="+strconv.Itoa(SampledRecords), &others); err != nil {
			return nil, err
		}
		for _, r := range others.Records {
			fields, err := record.Parse(r.Fields)
			if err != nil {
				return nil, err
			}
			all = append(all, fields)
		}
		return all, nil
	})
}

// ListColumns are the fields that a listing on the terminal shows: the first few that fit.
func ListColumns(d definition.Definition) (headings, names []string) {
	const most = 4
	for _, field := range d.Fields {
		if len(names) < most && field.Reference == "" {
			headings, names = append(headings, strings.ToUpper(field.Name)), append(names, field.Name)
		}
	}
	return headings, names
}

// FieldCells are the values of a record for the cells of a table.
func FieldCells(fields record.Fields, names []string) []any {
	const width = 32
	cells := make([]any, len(names))
	for n, name := range names {
		cells[n] = terminal.Shorten(terminal.Plain(fields[name]), width)
	}
	return cells
}

// SampledRecords is how many records are looked at to say which values there are.
const SampledRecords = 200

// NoteValues says, where conditions found nothing, which values their fields have in some of the records that there are.
func NoteValues(w io.Writer, where []string, sample func() ([]record.Fields, error)) error {
	const most = 6
	if len(where) == 0 {
		return nil
	}
	records, err := sample()
	if err != nil {
		return err
	}
	for _, condition := range where {
		at := strings.IndexAny(condition, "!<>=~")
		if at < 1 {
			continue
		}
		name := strings.TrimSpace(condition[:at])
		var values []string
		for _, fields := range records {
			if text := terminal.Shorten(terminal.Plain(fields[name]), 30); text != "" && !slices.Contains(values, text) {
				values = append(values, text)
			}
		}
		if slices.Sort(values); len(values) > most {
			values = append(values[:most], "…")
		}
		if len(values) > 0 {
			fmt.Fprintf(w, "%s is, in records that there are: %s\n", name, strings.Join(values, ", "))
		}
	}
	return nil
}

// PageNote says how many of all are shown. More says that there are more than total.
func PageNote(w io.Writer, shown, offset, total int, more bool) {
	switch {
	case more:
		fmt.Fprintf(w, "%d to %d of more than %d records; --offset %d shows what follows\n", offset+1, offset+shown, total, offset+shown)
	case total == 0:
		fmt.Fprintln(w, "No records.")
	case shown == 0:
		fmt.Fprintf(w, "Nothing from %d on; there are %d records.\n", offset+1, total)
	case shown < total && offset+shown == total:
		fmt.Fprintf(w, "%d to %d of %d records\n", offset+1, offset+shown, total)
	case shown < total:
		fmt.Fprintf(w, "%d to %d of %d records; --offset %d shows what follows\n", offset+1, offset+shown, total,
			offset+shown)
	default:
		fmt.Fprintln(w, terminal.Count(total, "record"))
	}
}

// find gives the id of the record that a text means.
func (c Caller) find(ctx context.Context, d *definition.Collection, text string) (uuid.UUID, error) {
	if id, err := uuid.Parse(text); err == nil {
		return id, nil
	}
	text = strings.TrimSpace(text)
	asks := []url.Values{{"label": {text}, "limit": {"2"}}}
	if d.Key != "" {
		asks = append([]url.Values{{"where": {d.Key + "=" + text}, "limit": {"2"}}}, asks...)
	}
	for _, ask := range asks {
		var listing finding.Listing
		var problem *link.Problem
		err := c.Get(ctx, RecordsPath(d.Collection)+"?"+ask.Encode(), &listing)
		if errors.As(err, &problem) && problem.Status == http.StatusUnprocessableEntity && ask.Has("where") {
			continue // a key of another kind
		}
		if err != nil {
			return uuid.Nil, err
		}
		switch {
		case listing.Total == 1:
			return listing.Records[0].ID, nil
		case listing.Total > 1:
			return uuid.Nil, terminal.Coded(fmt.Errorf("%d records in %s are called %q, such as %s and %s; take the id of the one you mean",
				listing.Total, d.Collection, text, listing.Records[0].ID, listing.Records[1].ID), terminal.ExitBusy)
		}
	}
	return uuid.Nil, terminal.Coded(fmt.Errorf("nothing in %s has the id, the key or the label %q", d.Collection, text), terminal.ExitNotFound)
}

// around is what the fields of a record are read in: what central has.
func (c Caller) around(ctx context.Context, d *definition.Collection, id uuid.UUID) terminal.Surroundings {
	around := terminal.Surroundings{Refer: func(collection, text string) (uuid.UUID, error) {
		target, err := c.definitionAt(ctx, collection)
		if err != nil {
			return uuid.Nil, err
		}
		return c.find(ctx, target, text)
	}}
	if d != nil {
		around.Now = func() (record.Fields, error) {
			var now wire.Record
			if err := c.Get(ctx, RecordsPath(d.Definition.Collection)+"/"+id.String(), &now); err != nil {
				return nil, err
			}
			return record.Parse(now.Fields)
		}
	}
	return around
}

// target reads COLLECTION RECORD and checks that the further arguments of those names are there, too.
func target(ctx context.Context, c *cli.Command, further ...string) (Caller, *definition.Collection, uuid.UUID, error) {
	args, err := terminal.Arguments(c, append([]string{"COLLECTION", "RECORD"}, further...)...)
	if err != nil {
		return Caller{}, nil, uuid.Nil, err
	}
	call, err := NewCaller(c)
	if err != nil {
		return call, nil, uuid.Nil, err
	}
	d, err := call.definitionAt(ctx, args[0])
	if err != nil {
		return call, nil, uuid.Nil, err
	}
	id, err := call.find(ctx, d, args[1])
	return call, d, id, err
}

func showRecord(ctx context.Context, c *cli.Command) error {
	call, d, id, err := target(ctx, c)
	if err != nil {
		return err
	}
	ask := url.Values{}
	if c.IsSet("revision") {
		ask.Set("revision", strconv.FormatInt(c.Int64("revision"), 10))
	}
	if c.IsSet("as-of") {
		at, err := moment(c.String("as-of"))
		if err != nil {
			return terminal.Usage(err)
		}
		ask.Set("as_of", at.UTC().Format(time.RFC3339Nano))
	}
	var r wire.Record
	if err := call.Get(ctx, RecordsPath(d.Collection)+"/"+id.String()+"?"+ask.Encode(), &r); err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.WriteJSON(c.Root().Writer, r)
	}
	return printRecord(c.Root().Writer, d, r)
}

// moment reads a time; a day means its end.
func moment(text string) (time.Time, error) {
	if day, err := time.ParseInLocation(time.DateOnly, text, time.Local); err == nil {
		return day.AddDate(0, 0, 1), nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return at, fmt.Errorf("%q is not a time: write it as 2026-11-20 or 2026-11-20T16:00:00Z", text)
	}
	return at, nil
}

func bringBack(ctx context.Context, c *cli.Command) error {
	call, d, id, err := target(ctx, c, "REVISION")
	if err != nil {
		return err
	}
	revision, err := strconv.ParseInt(c.Args().Get(2), 10, 64)
	if err != nil || revision < 1 {
		return terminal.Usage(fmt.Errorf("%q is not a revision; homing records history lists them", c.Args().Get(2)))
	}
	return write(ctx, c, call, d, http.MethodPost, "/v1/bring-back/"+d.Collection+"/"+id.String(),
		map[string]any{"revision": revision}, fmt.Sprintf("Brought back as at revision %d", revision))
}

func printRecord(w io.Writer, d *definition.Collection, r wire.Record) error {
	fields, err := record.Parse(r.Fields)
	if err != nil {
		return err
	}
	state := fmt.Sprintf("revision %d", r.Revision)
	if r.Removed {
		state += ", REMOVED"
	}
	fmt.Fprintf(w, "%s  (%s %s, %s)\n", d.LabelOf(fields), d.Collection, r.ID, state)
	if say := wantedOf(r); say != "" {
		fmt.Fprintf(w, "wants attention: %s\n", say)
	}
	by := r.Author
	if r.Device != "" {
		by += " on " + r.Device
	}
	fmt.Fprintf(w, "last edited %s by %s, received %s\n\n", terminal.When(r.EditedAt), by, terminal.When(r.ReceivedAt))
	t := terminal.NewTable(w, "FIELD", "VALUE")
	for _, field := range d.Fields {
		if value, has := fields[field.Name]; has {
			t.Row(field.Name, terminal.Plain(value))
		}
	}
	return t.Flush()
}

func recordHistory(ctx context.Context, c *cli.Command) error {
	call, d, id, err := target(ctx, c)
	if err != nil {
		return err
	}
	var history []wire.HistoryEntry
	if err := call.Get(ctx, "/v1/history/"+d.Collection+"/"+id.String(), &history); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		return terminal.WriteJSON(w, history)
	}
	return PrintHistory(w, history)
}

// PrintHistory writes the versions of a record.
func PrintHistory(w io.Writer, history []wire.HistoryEntry) error {
	t := terminal.NewTable(w, "REV", "WHAT", "FIELD", "FROM → TO", "BY", "DEVICE", "EDITED", "RECEIVED")
	for _, h := range history {
		var delta, sent record.Delta
		if err := json.Unmarshal(h.Fields, &delta); err != nil {
			return err
		}
		if h.Sent != nil {
			if err := json.Unmarshal(h.Sent, &sent); err != nil {
				return err
			}
		}
		lines := [][2]string{}
		for _, name := range delta.Names() {
			lines = append(lines, [2]string{name, terminal.Shorten(terminal.Edited(h.Kind, delta[name], terminal.Plain(delta[name].From),
				terminal.Plain(delta[name].To)), 60)})
		}
		for _, decision := range h.Decisions {
			what := decision.Field
			if what == "" {
				what = "(removal)"
			}
			kept := map[string]string{"central": "kept what central had", "change": "took this change",
				"both": "brought both together"}[decision.Kept]
			said := fmt.Sprintf("met revision %d; rule %s %s", decision.Other.Revision, decision.Rule, kept)
			switch decision.Rule {
			case merge.Settled:
				said = "was in dispute; settled by this change"
			case merge.Reopened:
				said = "the dispute was opened again"
			case string(merge.Ask):
				said = fmt.Sprintf("met revision %d; held for a person", decision.Other.Revision)
			}
			if asked, did := sent[decision.Field]; did && decision.Kept == change.KeptCentral &&
				decision.Rule != merge.Reopened {
				said += "; asked for " + terminal.Shorten(terminal.Plain(asked.To), 30)
			}
			lines = append(lines, [2]string{what, said})
		}
		if len(lines) == 0 {
			lines = append(lines, [2]string{"", ""})
		}
		device := h.Device
		if device == "" {
			device = "(at central)"
		}
		t.Row(h.Revision, h.Kind, lines[0][0], lines[0][1], h.Author, device, terminal.When(h.EditedAt), terminal.When(h.ReceivedAt))
		for _, line := range lines[1:] {
			t.Row("", "", line[0], line[1])
		}
	}
	return t.Flush()
}

func addRecord(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "COLLECTION")
	if err != nil {
		return err
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	d, err := call.definitionAt(ctx, args[0])
	if err != nil {
		return err
	}
	fields, err := terminal.FieldsFrom(c, d, call.around(ctx, nil, uuid.Nil))
	if err != nil {
		return err
	}
	var cleared []string
	for name, value := range fields {
		if string(value) == "null" {
			cleared = append(cleared, name)
		}
	}
	d.StartWith(fields, cleared)
	return write(ctx, c, call, d, http.MethodPost, RecordsPath(d.Collection), map[string]any{"fields": fields}, "Added")
}

func editRecord(ctx context.Context, c *cli.Command) error {
	call, d, id, err := target(ctx, c)
	if err != nil {
		return err
	}
	fields, err := terminal.FieldsFrom(c, d, call.around(ctx, d, id))
	if err != nil {
		return err
	}
	body := map[string]any{"fields": fields}
	if c.IsSet("base") {
		body["base"] = c.Int64("base")
	}
	return write(ctx, c, call, d, http.MethodPatch, RecordsPath(d.Collection)+"/"+id.String(), body, "Edited")
}

func removeRecord(ctx context.Context, c *cli.Command) error {
	call, d, id, err := target(ctx, c)
	if err != nil {
		return err
	}
	query := ""
	if c.Bool("with-children") {
		query = "?with_children=true"
	}
	err = write(ctx, c, call, d, http.MethodDelete, RecordsPath(d.Collection)+"/"+id.String()+query, nil, "Removed")
	var problem *link.Problem
	if errors.As(err, &problem) && query == "" && len(problem.Reasons) > 0 &&
		problem.Reasons[0].Code == change.CodeHasChildren {
		return fmt.Errorf("%w: add --with-children", err)
	}
	return err
}

func write(ctx context.Context, c *cli.Command, call Caller, d *definition.Collection, method, path string, body any,
	done string) error {
	var answer wire.Answer
	if err := call.Send(ctx, method, path, body, &answer); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		return terminal.WriteJSON(w, answer)
	}
	if answer.Record == nil {
		return errors.New("central's answer lacks the record")
	}
	switch {
	case method == http.MethodDelete && !answer.Record.Removed:
		done = "Not removed, since somebody has edited it meanwhile"
	case answer.Answer == change.Held:
		done += terminal.HeldWords
	case answer.Answer == change.Merged:
		done += terminal.MergedWords
	}
	fmt.Fprintf(w, "%s: %s %s is at revision %d.\n", done, d.Collection, answer.Record.ID, answer.Revision)
	return nil
}

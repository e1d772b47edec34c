package local

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/device"
	"homing/internal/cli/office"
	"homing/internal/cli/terminal"
)

// mark tells people what central has not taken yet.
func mark(r device.Record) string {
	switch {
	case r.Refused > 0:
		return "refused"
	case r.Pending > 0 && r.Revision == 0:
		return "new"
	case r.Pending > 0:
		return "unsent"
	case len(r.Disputes) > 0:
		return "disputed"
	case r.PendingBelow > 0:
		return fmt.Sprintf("%d below", r.PendingBelow)
	}
	return ""
}

func localList(lookUp bool) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := terminal.Arguments(c, "COLLECTION")
		if err != nil {
			return err
		}
		return withStore(ctx, c, func(store *device.Store) error {
			d, err := store.Collection(ctx, args[0])
			if err != nil {
				return err
			}
			find := store.Find
			if lookUp {
				find = store.LookUp
			}
			found, err := find(ctx, args[0], device.Ask{Where: c.StringSlice("where"), Search: c.String("search"),
				Sort:  c.String("sort"),
				Limit: c.Int("limit"), Offset: c.Int("offset")})
			if err != nil {
				return usageOr(err)
			}
			if c.Bool("json") {
				return terminal.WriteJSON(c.Root().Writer, found)
			}
			if err := printFound(c.Root().Writer, d, found); err != nil || found.Total > 0 || lookUp {
				return err
			}
			return office.NoteValues(c.Root().Writer, c.StringSlice("where"), func() (all []record.Fields, err error) {
				others, err := store.Find(ctx, args[0], device.Ask{Limit: office.SampledRecords})
				for _, r := range others.Records {
					all = append(all, r.Fields)
				}
				return all, err
			})
		})
	}
}

func printFound(w io.Writer, d *definition.Collection, found device.Found) error {
	headings, columns := office.ListColumns(d.Definition)
	first := []string{"RECORD", "MARK"}
	if d.Attends() {
		first = append(first, "ATTENTION")
	}
	t := terminal.NewTable(w, append(first, append(headings, "REV", "EDITED", "BY")...)...)
	for _, r := range found.Records {
		cells := []any{r.ID, mark(r)}
		if d.Attends() {
			cells = append(cells, wanted(d, r))
		}
		t.Row(append(append(cells, office.FieldCells(shownFields(r), columns)...), r.Revision, terminal.When(r.EditedAt),
			r.Author)...)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	office.PageNote(w, len(found.Records), found.Offset, found.Total, found.More)
	if note := ageNote(found.AsOf, found.Age); note != "" {
		fmt.Fprintln(w, note)
	}
	return nil
}

// wanted is what a record wants attention for today, in the words of its definition.
func wanted(d *definition.Collection, r device.Record) string {
	one, _ := d.Attention(r.Fields, time.Now().Format(time.DateOnly))
	return one.Say
}

// shownFields are a record's fields with what stands in for numbers that central has not given yet.
func shownFields(r device.Record) record.Fields {
	if len(r.Provisional) == 0 {
		return r.Fields
	}
	fields := maps.Clone(r.Fields)
	for name, text := range r.Provisional {
		fields[name] = json.RawMessage(strconv.Quote(text))
	}
	return fields
}

// ageNote warns of data that is older than its definition allows.
func ageNote(asOf time.Time, age definition.Age) string {
	switch age {
	case definition.Old:
		return "OLD: this is as of " + terminal.When(asOf) + "; exchange when there is signal."
	case definition.TooOld:
		return "TOO OLD to be edited: this is as of " + terminal.When(asOf) + "; exchange first."
	case definition.Unknown:
		return "Central has never confirmed this; exchange when there is signal."
	}
	return ""
}

func localChildren(ctx context.Context, c *cli.Command) error {
	return localTarget(ctx, c, func(store *device.Store, d *definition.Collection, id uuid.UUID) error {
		of, err := store.Get(ctx, d.Collection, id)
		if err != nil {
			return err
		}
		all, err := store.AllChildren(ctx, of)
		if err != nil {
			return err
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return terminal.WriteJSON(w, all)
		}
		if len(all) == 0 {
			fmt.Fprintf(w, "Nothing belongs to records of %s: no collection names it as its parent.\n", d.Collection)
		}
		for n, name := range slices.Sorted(maps.Keys(all)) {
			child, err := store.Collection(ctx, name)
			if err != nil {
				return err
			}
			if n > 0 {
				fmt.Fprintln(w)
			}
			fmt.Fprintf(w, "%s of %s\n", child.Title, of.Label)
			if err := printFound(w, child, all[name]); err != nil {
				return err
			}
		}
		return nil
	})
}

// usageOr makes a wrong query a mistake of the command line; errors with a kind of their own keep it.
func usageOr(err error) error {
	if terminal.ExitCode(err) == terminal.ExitFailed {
		return terminal.Usage(err)
	}
	return err
}

func localShow(ctx context.Context, c *cli.Command) error {
	return localTarget(ctx, c, func(store *device.Store, d *definition.Collection, id uuid.UUID) error {
		r, err := store.Get(ctx, d.Collection, id)
		if err != nil {
			return err
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return terminal.WriteJSON(w, r)
		}
		fmt.Fprintf(w, "%s  (%s %s, revision %d)\n", r.Label, r.Collection, r.ID, r.Revision)
		if r.Pending > 0 {
			fmt.Fprintf(w, "%s: %s that central has not taken yet; homing local review shows more\n", mark(r),
				terminal.Count(r.Pending, "change"))
		}
		if say := wanted(d, r); say != "" {
			fmt.Fprintf(w, "wants attention: %s\n", say)
		}
		by := r.Author
		if r.Device != "" {
			by += " on " + r.Device
		}
		fmt.Fprintf(w, "last edited %s by %s", terminal.When(r.EditedAt), by)
		if !r.AsOf.IsZero() {
			fmt.Fprintf(w, "; as of %s", terminal.When(r.AsOf))
		}
		fmt.Fprint(w, "\n\n")
		t := terminal.NewTable(w, "FIELD", "VALUE", "")
		for _, field := range d.Fields {
			value, has := r.Fields[field.Name]
			provisional, numbered := r.Provisional[field.Name]
			switch {
			case has:
				t.Row(field.Name, terminal.Plain(value), origin(field))
			case numbered:
				t.Row(field.Name, provisional, "until central numbers it")
			}
		}
		if err := t.Flush(); err != nil {
			return err
		}
		for _, name := range slices.Sorted(maps.Keys(r.Disputes)) {
			fmt.Fprintf(w, "%s is in dispute: %s here", name, office.Disputed(name, shownAt(r, name)))
			for _, other := range r.Disputes[name].Others {
				fmt.Fprintf(w, ", %s by another", office.Disputed(name, other.Value))
			}
			fmt.Fprintf(w, "; settle it with homing local settle %s %s %s VALUE\n", r.Collection, r.ID, name)
		}
		if note := ageNote(r.AsOf, r.Age); note != "" {
			fmt.Fprintln(w, note)
		}
		return nil
	})
}

// origin says where a value comes from that nobody sets, or that stays here.
func origin(field definition.Field) string {
	switch {
	case field.Computed != "":
		return "worked out"
	case field.Filled != "", field.Series != "":
		return "from central"
	case field.Local:
		return "stays on this device"
	}
	return ""
}

func localReview(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		queue, err := store.Review(ctx)
		if err != nil {
			return err
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return terminal.WriteJSON(w, queue)
		}
		if err := PrintReview(w, queue); err != nil {
			return err
		}
		people, err := store.People(ctx)
		if err != nil {
			return err
		}
		for _, who := range people {
			if !who.SignedIn && who.Unsent > 0 {
				fmt.Fprintf(w, "Sealed for %s: %s.\n", who.Name, terminal.Count(who.Unsent, "change"))
			}
		}
		return nil
	})
}

// PrintReview writes what a device has not sent.
func PrintReview(w io.Writer, queue []device.Queued) error {
	if len(queue) == 0 {
		fmt.Fprintln(w, "Nothing of yours is unsent.")
		return nil
	}
	t := terminal.NewTable(w, "NO", "WHAT", "COLLECTION", "RECORD", "FIELD", "FROM → TO", "EDITED", "STATE")
	for _, q := range queue {
		state := "unsent"
		switch {
		case q.Verdict != "":
			state = string(q.Verdict)
		case q.Sent:
			state = "sent, no answer yet"
		}
		first := []any{q.Number, q.Kind, q.Collection, terminal.Shorten(q.Label, 36)}
		last := []any{terminal.When(q.EditedAt), state}
		names := q.Fields.Names()
		if len(names) == 0 {
			t.Row(append(append(first, "", ""), last...)...)
		}
		for _, name := range names {
			t.Row(append(append(first, name, terminal.Shorten(terminal.Edited(q.Kind, q.Fields[name], q.Shown(q.Fields[name].From, terminal.Plain),
				q.Shown(q.Fields[name].To, terminal.Plain)), 60)), last...)...)
			first, last = []any{"", "", "", ""}, nil
		}
		for _, reason := range q.Reasons {
			t.Row("", "", "", "", reason.Field, "! "+reason.Message)
		}
	}
	if err := t.Flush(); err != nil {
		return err
	}
	counts := map[change.Verdict]int{}
	for _, q := range queue {
		counts[q.Verdict]++
	}
	fmt.Fprintf(w, "%s: %d to send, %d refused, %d waiting\n", terminal.Count(len(queue), "change"), counts[""],
		counts[change.Refused], counts[change.Waiting])
	return nil
}

// shownAt is what the record shows of what is disputed.
func shownAt(r device.Record, name string) json.RawMessage {
	if name == merge.RecordRemoval {
		return json.RawMessage("false")
	}
	return r.Fields.At(name)
}

package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
	"homing/device"
	"homing/wire"
)

func localCommand() *cli.Command {
	return &cli.Command{
		Name:  "local",
		Usage: "work with a local store, with signal or without",
		Description: `Everything but enrol, push, pull and exchange works without signal. RECORD is the record's id, the start or end of it,
or a text that only one record's label has.`,
		Commands: []*cli.Command{
			{Name: "enrol", Usage: "make a local store and enrol it as a device", Action: enrol,
				Flags: storeFlags(&cli.StringFlag{Name: "central", Value: defaultCentral, Usage: "`URL` of central", Sources: env("CENTRAL")},
					&cli.StringFlag{Name: "code", Usage: "the one-time enrolment `CODE`; not needed while central is open"},
					&cli.StringFlag{Name: "link", Usage: "address and code in one, as the QR code carries them: `https://CENTRAL/enrol#CODE`"},
					&cli.StringFlag{Name: "name", Usage: "what people call the device; the machine's name when left out"})},
			{Name: "status", Usage: "show what the store holds, owes and last did", Flags: storeFlags(jsonFlag), Action: localStatus},
			{Name: "list", Usage: "list records", ArgsUsage: "COLLECTION", Flags: storeFlags(append(queryFlags(), jsonFlag)...), Action: localList(false)},
			{Name: "look-up", Usage: "look for records at central, of a collection that is not kept whole; needs signal", ArgsUsage: "COLLECTION",
				Description: "What a definition keeps on demand stays on this device and is listed without signal from then on.",
				Flags:       storeFlags(append(queryFlags(), jsonFlag)...), Action: localList(true)},
			{Name: "children", Usage: "list the records that belong to one", ArgsUsage: "COLLECTION RECORD", Flags: storeFlags(jsonFlag), Action: localChildren},
			{Name: "show", Usage: "show one record", ArgsUsage: "COLLECTION RECORD", Flags: storeFlags(jsonFlag), Action: localShow},
			{Name: "add", Usage: "add a record", ArgsUsage: "COLLECTION", Flags: storeFlags(append(fieldFlags(false), jsonFlag)...), Action: localAdd},
			{Name: "edit", Usage: "edit some fields of a record", ArgsUsage: "COLLECTION RECORD", Flags: storeFlags(append(fieldFlags(true), jsonFlag)...), Action: localEdit},
			{Name: "remove", Usage: "remove a record", ArgsUsage: "COLLECTION RECORD", Action: localRemove,
				Flags: storeFlags(&cli.BoolFlag{Name: "with-children", Usage: "also remove the records that belong to it, where their definition says that they go with it"})},
			{Name: "settle", Usage: "settle a disputed field, with signal or without", ArgsUsage: "COLLECTION RECORD FIELD VALUE", Flags: storeFlags(jsonFlag), Action: localSettle},
			{Name: "review", Usage: "show what will be sent, field by field, from what to what", Flags: storeFlags(jsonFlag), Action: localReview},
			{Name: "send-again", Usage: "offer central once more what it has refused, as it is", ArgsUsage: "NUMBER", Flags: storeFlags(jsonFlag), Action: localSendAgain,
				Description: "NUMBER is that of the change in homing local review. An edit of the record mends it and needs no more than the next exchange."},
			{Name: "discard", Usage: "give up what central has refused", ArgsUsage: "NUMBER", Action: localDiscard,
				Description: "The record is then as central has it, or gone where central never had it. What is given up is first added to a file beside the store.",
				Flags:       storeFlags(&cli.StringFlag{Name: "backup", Usage: "`FILE` to add it to; beside the store when left out"})},
			{Name: "push", Usage: "send what is unsent", Flags: storeFlags(jsonFlag), Action: exchangeWith((*device.Store).Push)},
			{Name: "pull", Usage: "fetch what others did", Flags: storeFlags(jsonFlag), Action: exchangeWith((*device.Store).Pull)},
			{Name: "exchange", Usage: "push until everything is answered, then pull to the head", Action: exchangeOrEvery,
				Description: `With --every it goes on until Ctrl-C: after a random first delay, so that a fleet does not come all at once, and again each time the
span has passed. When central cannot be reached it tries again after a growing delay, and as soon as it is back all is sent.`,
				Flags: storeFlags(jsonFlag, &cli.DurationFlag{Name: "every", Usage: "exchange again and again, such as every `10m`"},
					&cli.BoolFlag{Name: "hold-back", Usage: "with --every: not while the link is metered (see homing local metered)"},
					&cli.BoolFlag{Name: "load-anew", Usage: "let go of what is here, but for what is unsent, and load it again from the start"})},
			{Name: "metered", Usage: "say whether the link costs by the byte now: on or off", ArgsUsage: "on|off", Flags: storeFlags(), Action: localMetered},
			{Name: "budget", Usage: "bound the room for records that were looked up, such as 50MB; 0 lifts the bound", ArgsUsage: "SIZE", Flags: storeFlags(), Action: localBudget},
			{Name: "people", Usage: "list the workers who use this device", Flags: storeFlags(jsonFlag), Action: localPeople},
			{Name: "join", Usage: "let a further worker use this device, with a code of theirs", Action: localJoin,
				Description: secretHelp, Flags: storeFlags(&cli.StringFlag{Name: "code", Required: true, Usage: "the one-time `CODE`"}, secretFlag())},
			{Name: "secret", Usage: "set your PIN or password for this device", Description: secretHelp, Flags: storeFlags(secretFlag(), oldSecretFlag()), Action: localSecret},
			{Name: "sign-in", Usage: "sign in on this device, with signal or without", ArgsUsage: "WORKER", Description: secretHelp, Flags: storeFlags(secretFlag()), Action: localSignIn},
			{Name: "sign-out", Usage: "sign out; what is unsent stays, sealed for you", Flags: storeFlags(), Action: localSignOut},
			{Name: "backup", Usage: "write a copy of the store to a new file, while it is in use", ArgsUsage: "FILE", Flags: storeFlags(), Action: localBackup},
			{Name: "erase", Usage: "delete the store from this device", Action: localErase,
				Description: "It refuses while there are changes that central has not accepted. With --discard these are given up; a backup is written first.",
				Flags: storeFlags(&cli.BoolFlag{Name: "discard", Usage: "give up what is unsent"},
					&cli.StringFlag{Name: "backup", Usage: "`FILE` for the backup; beside the store when left out"},
					&cli.BoolFlag{Name: "yes", Usage: "do not ask"})},
		},
	}
}

func storeFlags(more ...cli.Flag) []cli.Flag {
	return append(more, &cli.StringFlag{Name: "passphrase-file", Usage: "`FILE` whose first line is the passphrase of an encrypted store; or HOMING_PASSPHRASE", Sources: env("PASSPHRASE_FILE")},
		&cli.StringFlag{Name: "store", Usage: "`FILE` of the local store; otherwise homing/store.db in your data folder", Sources: env("STORE")})
}

func storePath(c *cli.Command) (string, error) {
	if path := c.String("store"); path != "" {
		return path, nil
	}
	data := os.Getenv("XDG_DATA_HOME")
	if data == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", usageError{fmt.Errorf("no home folder (%w): say where the store is with --store FILE", err)}
		}
		data = filepath.Join(home, ".local", "share")
	}
	return filepath.Join(data, "homing", "store.db"), nil
}

// openStore opens a store that is there already.
func openStore(ctx context.Context, c *cli.Command) (*device.Store, error) {
	path, err := storePath(c)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
		return nil, codedError{fmt.Errorf("there is no local store at %s; make one with homing local enrol, or name another with --store", path), exitNotFound}
	}
	passphrase, err := passphraseOf(c)
	if err != nil {
		return nil, err
	}
	return device.Open(ctx, path, device.Options{Passphrase: passphrase})
}

// passphraseOf is empty for a store that is not encrypted. It is never given on the command line, where others could see it.
func passphraseOf(c *cli.Command) (string, error) {
	path := c.String("passphrase-file")
	if path == "" {
		return os.Getenv("HOMING_PASSPHRASE"), nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return "", err
	}
	line, _, _ := strings.Cut(string(text), "\n")
	if line = strings.TrimRight(line, "\r"); line == "" {
		return "", usageError{fmt.Errorf("the first line of %s is empty", path)}
	}
	return line, nil
}

// withStore runs a command on the open store.
func withStore(ctx context.Context, c *cli.Command, work func(*device.Store) error) error {
	store, err := openStore(ctx, c)
	if err != nil {
		return err
	}
	return errors.Join(work(store), store.Close())
}

func enrol(ctx context.Context, c *cli.Command) error {
	path, err := storePath(c)
	if err != nil {
		return err
	}
	name := c.String("name")
	if name == "" {
		if name, err = os.Hostname(); err != nil {
			return usageError{errors.New("give the device a name with --name")}
		}
	}
	passphrase, err := passphraseOf(c)
	if err != nil {
		return err
	}
	store, err := device.Open(ctx, path, device.Options{Passphrase: passphrase})
	if err != nil {
		return err
	}
	defer store.Close()
	address, code := c.String("central"), c.String("code")
	if c.IsSet("link") {
		if address, code, err = wire.ReadEnrolmentLink(c.String("link")); err != nil {
			return usageError{err}
		}
	}
	if err := store.Enrol(ctx, address, code, name); err != nil {
		return err
	}
	status, err := store.Status(ctx)
	if err != nil {
		return err
	}
	w := c.Root().Writer
	fmt.Fprintf(w, "Enrolled %s for %s (%s) in %s.\nLoad it with: homing local exchange\n", status.Name, status.Worker, status.Role, path)
	if status.Open {
		fmt.Fprintln(w, openNotice)
	}
	return nil
}

func localStatus(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		status, err := store.Status(ctx)
		if err != nil {
			return err
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return writeJSON(w, status)
		}
		if !status.Enrolled {
			fmt.Fprintf(w, "Store     %s\nNot enrolled yet: homing local enrol --code CODE\n", status.Path)
			return nil
		}
		printStatus(w, status)
		if len(status.Collections) == 0 {
			fmt.Fprintln(w, "\nNothing is loaded yet: homing local exchange")
			return nil
		}
		fmt.Fprintln(w)
		t := newTable(w, "COLLECTION", "RECORDS", "UNSENT", "CURSOR", "HEAD", "KEPT", "AS OF")
		for _, one := range status.Collections {
			t.row(one.Name, one.Records, one.Pending, one.Cursor, one.Head, kept(one), strings.TrimRight(whenever(one.PulledAt)+", "+string(one.Age), ", "))
		}
		return t.flush()
	})
}

// kept says how a device keeps a collection.
func kept(c device.CollectionStatus) string {
	text := string(c.Keep)
	if text == "" {
		text = string(definition.Always)
	}
	switch c.Direction {
	case definition.Up:
		text += ", goes up only"
	case definition.Down:
		text += ", comes down only"
	}
	return text
}

func printStatus(w io.Writer, status device.Status) {
	who := fmt.Sprintf("%s (%s)", status.Worker, status.Role)
	if status.Worker == "" {
		who = "nobody: homing local sign-in WORKER"
	}
	fmt.Fprintf(w, "Store     %s\nDevice    %s\nWorker    %s\nCentral   %s\n", status.Path, status.Name, who, status.Central)
	fmt.Fprintf(w, "Outbox    %d unsent, %d refused, %d waiting\n", status.Unsent, status.Refused, status.Waiting)
	for _, one := range status.People {
		if !one.SignedIn && one.Unsent > 0 {
			fmt.Fprintf(w, "Sealed    %s by %s\n", count(one.Unsent, "change"), one.Name)
		}
	}
	if status.Budget > 0 {
		fmt.Fprintf(w, "Looked up %s of %s\n", size(int(status.LookedUp)), size(int(status.Budget)))
	}
	if status.Metered {
		fmt.Fprintln(w, "Link      metered")
	}
	if status.OffsetMS != nil {
		zero := int64(0)
		fmt.Fprintf(w, "Clock     %s\n", skew(status.OffsetMS, &zero))
	}
	switch {
	case status.Last == nil:
		fmt.Fprintln(w, "Exchange  none yet")
	case status.Last.Error != "":
		fmt.Fprintf(w, "Exchange  %s, broke off: %s\n", when(status.Last.EndedAt), status.Last.Error)
	default:
		fmt.Fprintf(w, "Exchange  %s, %d sent, %d received\n", when(status.Last.EndedAt), status.Last.Summary.Sent, status.Last.Summary.Received)
	}
	if status.Open {
		fmt.Fprintln(w, "Central was OPEN when last met: nobody needs to sign in there.")
	}
}

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
	}
	return ""
}

func localList(lookUp bool) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := arguments(c, "COLLECTION")
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
			found, err := find(ctx, args[0], c.StringSlice("where"), c.String("search"), c.String("sort"), c.Int("limit"), c.Int("offset"))
			if err != nil {
				return usageOr(err)
			}
			if c.Bool("json") {
				return writeJSON(c.Root().Writer, found)
			}
			return printFound(c.Root().Writer, d.Definition, found)
		})
	}
}

func printFound(w io.Writer, d definition.Definition, found device.Found) error {
	headings, columns := listColumns(d)
	t := newTable(w, append([]string{"RECORD", "MARK"}, append(headings, "REV", "EDITED", "BY")...)...)
	for _, r := range found.Records {
		t.row(append(append([]any{r.ID, mark(r)}, fieldCells(shownFields(r), columns)...), r.Revision, when(r.EditedAt), r.Author)...)
	}
	if err := t.flush(); err != nil {
		return err
	}
	pageNote(w, len(found.Records), found.Offset, found.Total)
	if note := ageNote(found.AsOf, found.Age); note != "" {
		fmt.Fprintln(w, note)
	}
	return nil
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
		return "OLD: this is as of " + when(asOf) + "; exchange when there is signal."
	case definition.TooOld:
		return "TOO OLD to be edited: this is as of " + when(asOf) + "; exchange first."
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
			return writeJSON(w, all)
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
			if err := printFound(w, child.Definition, all[name]); err != nil {
				return err
			}
		}
		return nil
	})
}

// usageOr makes a wrong query a mistake of the command line; errors with a kind of their own keep it.
func usageOr(err error) error {
	if exitCode(err) == exitFailed {
		return usageError{err}
	}
	return err
}

func localTarget(ctx context.Context, c *cli.Command, work func(*device.Store, *definition.Collection, uuid.UUID) error) error {
	args, err := arguments(c, "COLLECTION", "RECORD")
	if err != nil {
		return err
	}
	return withStore(ctx, c, func(store *device.Store) error {
		d, err := store.Collection(ctx, args[0])
		if err != nil {
			return err
		}
		id, err := store.Resolve(ctx, args[0], args[1])
		if err != nil {
			return err
		}
		return work(store, d, id)
	})
}

func localShow(ctx context.Context, c *cli.Command) error {
	return localTarget(ctx, c, func(store *device.Store, d *definition.Collection, id uuid.UUID) error {
		r, err := store.Get(ctx, d.Collection, id)
		if err != nil {
			return err
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return writeJSON(w, r)
		}
		fmt.Fprintf(w, "%s  (%s %s, revision %d)\n", r.Label, r.Collection, r.ID, r.Revision)
		if r.Pending > 0 {
			fmt.Fprintf(w, "%s: %s that central has not taken yet; homing local review shows more\n", mark(r), count(r.Pending, "change"))
		}
		by := r.Author
		if r.Device != "" {
			by += " on " + r.Device
		}
		fmt.Fprintf(w, "last edited %s by %s", when(r.EditedAt), by)
		if !r.AsOf.IsZero() {
			fmt.Fprintf(w, "; as of %s", when(r.AsOf))
		}
		fmt.Fprint(w, "\n\n")
		t := newTable(w, "FIELD", "VALUE", "")
		for _, field := range d.Fields {
			value, has := r.Fields[field.Name]
			provisional, numbered := r.Provisional[field.Name]
			switch {
			case has:
				t.row(field.Name, plain(value), origin(field))
			case numbered:
				t.row(field.Name, provisional, "until central numbers it")
			}
		}
		if err := t.flush(); err != nil {
			return err
		}
		for _, name := range slices.Sorted(maps.Keys(r.Disputes)) {
			fmt.Fprintf(w, "%s is in dispute: %s here", name, plain(r.Fields[name]))
			for _, other := range r.Disputes[name].Others {
				fmt.Fprintf(w, ", %s by another", plain(other.Value))
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

func fieldsForDevice(c *cli.Command, d definition.Definition) (device.Fields, error) {
	raw, err := fieldsFrom(c, d)
	if err != nil {
		return nil, err
	}
	fields := device.Fields{}
	for name, value := range raw {
		fields[name] = value
	}
	return fields, nil
}

func localAdd(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, "COLLECTION")
	if err != nil {
		return err
	}
	return withStore(ctx, c, func(store *device.Store) error {
		d, err := store.Collection(ctx, args[0])
		if err != nil {
			return err
		}
		fields, err := fieldsForDevice(c, d.Definition)
		if err != nil {
			return err
		}
		r, err := store.Add(ctx, args[0], fields)
		if err != nil {
			return err
		}
		return saved(c, r, "Added")
	})
}

func localEdit(ctx context.Context, c *cli.Command) error {
	return localTarget(ctx, c, func(store *device.Store, d *definition.Collection, id uuid.UUID) error {
		fields, err := fieldsForDevice(c, d.Definition)
		if err != nil {
			return err
		}
		r, err := store.Edit(ctx, d.Collection, id, fields)
		if err != nil {
			return err
		}
		return saved(c, r, "Edited")
	})
}

func saved(c *cli.Command, r device.Record, done string) error {
	if c.Bool("json") {
		return writeJSON(c.Root().Writer, r)
	}
	fmt.Fprintf(c.Root().Writer, "%s: %s (%s %s). Saved on this device; unsent: %s.\n", done, r.Label, r.Collection, r.ID, count(r.Pending, "change"))
	return nil
}

func localRemove(ctx context.Context, c *cli.Command) error {
	return localTarget(ctx, c, func(store *device.Store, d *definition.Collection, id uuid.UUID) error {
		r, err := store.Get(ctx, d.Collection, id)
		if err != nil {
			return err
		}
		also, err := store.GoesWith(ctx, r)
		if err != nil {
			return err
		}
		if also > 0 && !c.Bool("with-children") {
			return fmt.Errorf("%w: %s would go with it; add --with-children", device.ErrHasChildren, count(also, "record"))
		}
		if err := store.Remove(ctx, d.Collection, id); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "Removed here: %s (%s %s). The removal is sent with the next exchange.\n", r.Label, r.Collection, r.ID)
		return nil
	})
}

func localReview(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		queue, err := store.Review(ctx)
		if err != nil {
			return err
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return writeJSON(w, queue)
		}
		if err := printReview(w, queue); err != nil {
			return err
		}
		people, err := store.People(ctx)
		if err != nil {
			return err
		}
		for _, who := range people {
			if !who.SignedIn && who.Unsent > 0 {
				fmt.Fprintf(w, "Sealed for %s: %s.\n", who.Name, count(who.Unsent, "change"))
			}
		}
		return nil
	})
}

func printReview(w io.Writer, queue []device.Queued) error {
	if len(queue) == 0 {
		fmt.Fprintln(w, "Nothing of yours is unsent.")
		return nil
	}
	t := newTable(w, "NO", "WHAT", "COLLECTION", "RECORD", "FIELD", "FROM → TO", "EDITED", "STATE")
	for _, q := range queue {
		state := "unsent"
		switch {
		case q.Verdict != "":
			state = string(q.Verdict)
		case q.Sent:
			state = "sent, no answer yet"
		}
		first := []any{q.Number, q.Kind, q.Collection, shorten(q.Label, 36)}
		last := []any{when(q.EditedAt), state}
		names := q.Fields.Names()
		if len(names) == 0 {
			t.row(append(append(first, "", ""), last...)...)
		}
		for _, name := range names {
			t.row(append(append(first, name, shorten(edited(q.Kind, q.Fields[name], q.Shown(q.Fields[name].From, plain), q.Shown(q.Fields[name].To, plain)), 60)), last...)...)
			first, last = []any{"", "", "", ""}, nil
		}
		for _, reason := range q.Reasons {
			t.row("", "", "", "", reason.Field, "! "+reason.Message)
		}
	}
	if err := t.flush(); err != nil {
		return err
	}
	counts := map[change.Verdict]int{}
	for _, q := range queue {
		counts[q.Verdict]++
	}
	fmt.Fprintf(w, "%s: %d to send, %d refused, %d waiting\n", count(len(queue), "change"), counts[""], counts[change.Refused], counts[change.Waiting])
	return nil
}

func exchangeWith(run func(*device.Store, context.Context, func(device.Progress)) (device.Summary, error)) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		return withStore(ctx, c, func(store *device.Store) error {
			line := newProgressLine(c.Root().ErrWriter)
			summary, err := run(store, ctx, func(p device.Progress) { line.show(progressText(p)) })
			line.done()
			if err != nil {
				return explainExchange(ctx, store, err)
			}
			w := c.Root().Writer
			if c.Bool("json") {
				if err := writeJSON(w, summary); err != nil {
					return err
				}
			} else {
				printSummary(w, summary)
			}
			if summary.Refused+summary.Waiting > 0 {
				return codedError{fmt.Errorf("%s refused, %d waiting; they stay on this device, and homing local review shows why", count(summary.Refused, "change"), summary.Waiting), exitRefused}
			}
			return nil
		})
	}
}

// exchangeOrEvery exchanges once, or again and again.
func exchangeOrEvery(ctx context.Context, c *cli.Command) error {
	span := c.Duration("every")
	if c.Bool("load-anew") {
		if err := withStore(ctx, c, func(store *device.Store) error { return store.LoadAnew(ctx) }); err != nil {
			return err
		}
	}
	if !c.IsSet("every") {
		if c.Bool("hold-back") {
			return usageError{errors.New("--hold-back goes with --every; an exchange that you ask for runs on any link")}
		}
		return exchangeWith((*device.Store).Exchange)(ctx, c)
	}
	const shortest = time.Second
	if span < shortest {
		return usageError{fmt.Errorf("--every %s: take %s or more", span, shortest)}
	}
	return withStore(ctx, c, func(store *device.Store) error {
		w := c.Root().Writer
		fmt.Fprintf(c.Root().ErrWriter, "Exchanging every %s, the first time within that span; Ctrl-C ends it.\n", span)
		return store.Repeat(ctx, span, c.Bool("hold-back"), func(summary device.Summary, err error) {
			switch {
			case err != nil:
				fmt.Fprintf(c.Root().ErrWriter, "%s  %v\n", when(time.Now()), err)
			case c.Bool("json"):
				if err := writeJSON(w, summary); err != nil {
					fmt.Fprintln(c.Root().ErrWriter, err)
				}
			default:
				fmt.Fprintf(w, "%s  ", when(time.Now()))
				printSummary(w, summary)
			}
		})
	})
}

func progressText(p device.Progress) string {
	switch {
	case p.Phase == "push":
		return fmt.Sprintf("sending: %d of %d changes", p.Done, p.Total)
	case p.Total > 0:
		return fmt.Sprintf("loading %s: %d of %d (%d%%)", p.Collection, p.Done, p.Total, 100*p.Done/p.Total)
	}
	return fmt.Sprintf("receiving %s: %d", p.Collection, p.Done)
}

func printSummary(w io.Writer, s device.Summary) {
	fmt.Fprintf(w, "Sent %d: %d applied, %d merged, %d held, %d refused, %d waiting. Received %d, of them %d removals.\n", s.Sent, s.Applied, s.Merged, s.Held, s.Refused, s.Waiting, s.Received, s.Removed)
	if s.Withdrawn > 0 {
		fmt.Fprintf(w, "Dropped %s that this worker no longer covers.\n", count(s.Withdrawn, "record"))
	}
	fmt.Fprintf(w, "%s up, %s down, %s.\n", size(s.BytesUp), size(s.BytesDown), s.Took.Round(time.Millisecond))
}

// explainExchange adds to an error what became of the unsent changes.
func explainExchange(ctx context.Context, store *device.Store, err error) error {
	if errors.Is(err, device.ErrNotEnrolled) || errors.Is(err, device.ErrBusy) {
		return err
	}
	status, statusErr := store.Status(context.WithoutCancel(ctx))
	if statusErr != nil {
		return err
	}
	return fmt.Errorf("%w\nThe outbox keeps what is unsent (%s); exchange again later", err, count(status.Unsent+status.Waiting, "change"))
}

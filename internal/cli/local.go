package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/core/change"
	"homing/core/definition"
	"homing/device"
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
					&cli.StringFlag{Name: "name", Usage: "what people call the device; the machine's name when left out"})},
			{Name: "status", Usage: "show what the store holds, owes and last did", Flags: storeFlags(jsonFlag), Action: localStatus},
			{Name: "list", Usage: "list records", ArgsUsage: "COLLECTION", Flags: storeFlags(append(queryFlags(), jsonFlag)...), Action: localList},
			{Name: "show", Usage: "show one record", ArgsUsage: "COLLECTION RECORD", Flags: storeFlags(jsonFlag), Action: localShow},
			{Name: "add", Usage: "add a record", ArgsUsage: "COLLECTION", Flags: storeFlags(append(fieldFlags(false), jsonFlag)...), Action: localAdd},
			{Name: "edit", Usage: "edit some fields of a record", ArgsUsage: "COLLECTION RECORD", Flags: storeFlags(append(fieldFlags(true), jsonFlag)...), Action: localEdit},
			{Name: "remove", Usage: "remove a record", ArgsUsage: "COLLECTION RECORD", Flags: storeFlags(), Action: localRemove},
			{Name: "review", Usage: "show what will be sent, field by field, from what to what", Flags: storeFlags(jsonFlag), Action: localReview},
			{Name: "push", Usage: "send what is unsent", Flags: storeFlags(jsonFlag), Action: exchangeWith((*device.Store).Push)},
			{Name: "pull", Usage: "fetch what others did", Flags: storeFlags(jsonFlag), Action: exchangeWith((*device.Store).Pull)},
			{Name: "exchange", Usage: "push until everything is answered, then pull to the head", Action: exchangeOrEvery,
				Description: `With --every it goes on until Ctrl-C: after a random first delay, so that a fleet does not come all at once, and again each time the
span has passed. When central cannot be reached it tries again after a growing delay, and as soon as it is back all is sent.`,
				Flags: storeFlags(jsonFlag, &cli.DurationFlag{Name: "every", Usage: "exchange again and again, such as every `10m`"})},
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
	if err := store.Enrol(ctx, c.String("central"), c.String("code"), name); err != nil {
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
		t := newTable(w, "COLLECTION", "RECORDS", "UNSENT", "CURSOR", "HEAD", "AS OF")
		for _, one := range status.Collections {
			t.row(one.Name, one.Records, one.Pending, one.Cursor, one.Head, whenever(one.PulledAt))
		}
		return t.flush()
	})
}

func printStatus(w io.Writer, status device.Status) {
	fmt.Fprintf(w, "Store     %s\nDevice    %s, of %s (%s)\nCentral   %s\n", status.Path, status.Name, status.Worker, status.Role, status.Central)
	fmt.Fprintf(w, "Outbox    %d unsent, %d refused, %d waiting\n", status.Unsent, status.Refused, status.Waiting)
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
	}
	return ""
}

func localList(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, "COLLECTION")
	if err != nil {
		return err
	}
	return withStore(ctx, c, func(store *device.Store) error {
		d, err := store.Collection(ctx, args[0])
		if err != nil {
			return err
		}
		found, err := store.Find(ctx, args[0], c.StringSlice("where"), c.String("search"), c.String("sort"), c.Int("limit"), c.Int("offset"))
		if err != nil {
			return usageOr(err)
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return writeJSON(w, found)
		}
		headings, columns := listColumns(d.Definition)
		t := newTable(w, append([]string{"RECORD", "MARK"}, append(headings, "REV", "EDITED", "BY")...)...)
		for _, r := range found.Records {
			cells := append([]any{r.ID, mark(r)}, fieldCells(r.Fields, columns)...)
			t.row(append(cells, r.Revision, when(r.EditedAt), r.Author)...)
		}
		if err := t.flush(); err != nil {
			return err
		}
		pageNote(w, len(found.Records), found.Offset, found.Total)
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
		fmt.Fprintf(w, "last edited %s by %s\n\n", when(r.EditedAt), by)
		t := newTable(w, "FIELD", "VALUE")
		for _, field := range d.Fields {
			if value, has := r.Fields[field.Name]; has {
				t.row(field.Name, plain(value))
			}
		}
		return t.flush()
	})
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
		return printReview(w, queue)
	})
}

func printReview(w io.Writer, queue []device.Queued) error {
	if len(queue) == 0 {
		fmt.Fprintln(w, "Nothing is unsent.")
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
	if !c.IsSet("every") {
		return exchangeWith((*device.Store).Exchange)(ctx, c)
	}
	const shortest = time.Second
	if span < shortest {
		return usageError{fmt.Errorf("--every %s: take %s or more", span, shortest)}
	}
	return withStore(ctx, c, func(store *device.Store) error {
		w := c.Root().Writer
		fmt.Fprintf(c.Root().ErrWriter, "Exchanging every %s, the first time within that span; Ctrl-C ends it.\n", span)
		return store.Repeat(ctx, span, false, func(summary device.Summary, err error) {
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
	fmt.Fprintf(w, "Sent %d: %d applied, %d merged, %d refused, %d waiting. Received %d, of them %d removals.\n", s.Sent, s.Applied, s.Merged, s.Refused, s.Waiting, s.Received, s.Removed)
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

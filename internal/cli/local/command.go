// Package local is homing local: the commands that work with the local store of a device, with signal or without.
package local

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
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/core/definition"
	"homing/core/record"
	"homing/core/settings"
	"homing/device"
	"homing/internal/cli/office"
	"homing/internal/cli/terminal"
	"homing/wire"
)

// Command is homing local.
func Command() *cli.Command {
	return &cli.Command{
		Name:  "local",
		Usage: "work with a local store, with signal or without",
		Description: `Everything but enrol, push, pull and exchange works without signal. RECORD is the record's id, the start or end of it,
its key, or its label, where only one record has it.`,
		Commands: []*cli.Command{
			{Name: "enrol", Usage: "make a local store and enrol it as a device", Action: enrol,
				Flags: storeFlags(&cli.StringFlag{Name: "central", Value: office.DefaultCentral, Usage: "`URL` of central",
					Sources: office.Env("CENTRAL")},
					&cli.StringFlag{Name: "code", Usage: "the one-time enrolment `CODE`; not needed while central is open"},
					&cli.StringFlag{Name: "link", Usage: "address and code in one, as the QR code carries them: " +
						"`https://CENTRAL/enrol#CODE`"},
					&cli.StringFlag{Name: "name", Usage: "what people call the device; the machine's name when left out"})},
			{Name: "status", Usage: "show what the store holds, owes and last did", Flags: storeFlags(terminal.JSON),
				Action: localStatus},
			{Name: "list", Usage: "list records", ArgsUsage: "COLLECTION",
				Flags: storeFlags(append(office.QueryFlags(), terminal.JSON)...), Action: localList(false)},
			{Name: "look-up", Usage: "look for records at central, of a collection that is not kept whole; needs signal",
				ArgsUsage:   "COLLECTION",
				Description: "What a definition keeps on demand stays on this device and is listed without signal from then on.",
				Flags:       storeFlags(append(office.QueryFlags(), terminal.JSON)...), Action: localList(true)},
			{Name: "children", Usage: "list the records that belong to one", ArgsUsage: "COLLECTION RECORD",
				Flags: storeFlags(terminal.JSON), Action: localChildren},
			{Name: "show", Usage: "show one record", ArgsUsage: "COLLECTION RECORD", Flags: storeFlags(terminal.JSON),
				Action: localShow},
			{Name: "add", Usage: "add a record, or with --stream one for each line of standard input", ArgsUsage: "COLLECTION",
				Description: `With --stream, standard input has a JSON object of fields on each line, as long as it goes on. All lines that are there go to the disk with one
write, and count as saved when they are there; --within lets more of them gather, and a power cut take what came within that time. In between, what is unsent is sent.
A line that cannot be taken is told and left out. Where the disk is full, it waits, and so does whoever writes the lines.

EXAMPLE
   counter | homing local add readings --stream --within 1s`,
				Flags: storeFlags(append(terminal.FieldFlags(false), terminal.JSON, &cli.BoolFlag{Name: "stream", Usage: "add a record for each line of standard input"},
					&cli.DurationFlag{Name: "within", Usage: "with --stream: let lines gather for so long before they go to the disk"},
					&cli.DurationFlag{Name: "exchange-every", Value: 10 * time.Second, Usage: "with --stream: how often to exchange; 0 leaves that to others"})...), Action: localAdd},
			{Name: "totals", Usage: "show what was streamed over the last while, also of what has left the device", ArgsUsage: "COLLECTION", Action: localTotals,
				Description: "It counts what was added with --stream, or many at once by an app, and sums what fields hold that take numbers. It goes by whole minutes of the device's clock.",
				Flags:       storeFlags(terminal.JSON, &cli.DurationFlag{Name: "over", Value: time.Hour, Usage: "the `SPAN` that ends now; a minute to a day"})},
			{Name: "edit", Usage: "edit some fields of a record", ArgsUsage: "COLLECTION RECORD",
				Flags: storeFlags(append(terminal.FieldFlags(true), terminal.JSON, seenFlag)...), Action: localEdit},
			{Name: "remove", Usage: "remove a record", ArgsUsage: "COLLECTION RECORD", Action: localRemove,
				Flags: storeFlags(seenFlag, &cli.BoolFlag{Name: "with-children",
					Usage: "also remove the records that belong to it, where their definition says that they go with it"})},
			{Name: "complete", Usage: "mark a record complete, in a collection whose coverage says so", ArgsUsage: "COLLECTION RECORD",
				Description: "What the definition requires is checked now, and not before.", Flags: storeFlags(terminal.JSON, seenFlag), Action: localMark((*device.Store).Complete, "Complete here")},
			{Name: "reopen", Usage: "open a record again that was marked complete", ArgsUsage: "COLLECTION RECORD",
				Flags: storeFlags(terminal.JSON, seenFlag), Action: localMark((*device.Store).Reopen, "Open again here")},
			{Name: "coverage", Usage: "show which places have reported for which periods, as far as you cover them", ArgsUsage: "COLLECTION",
				Description: "It works without signal. A ! says that a cell is late, or was completed late.", Flags: storeFlags(office.CoverageFlags()...), Action: localCoverage},
			{Name: "settle", Usage: "settle a disputed field, with signal or without",
				ArgsUsage: "COLLECTION RECORD FIELD VALUE", Flags: storeFlags(terminal.JSON), Action: localSettle},
			{Name: "review", Usage: "show what will be sent, field by field, from what to what", Flags: storeFlags(terminal.JSON),
				Action: localReview},
			{Name: "send-again", Usage: "offer central once more what it has refused, as it is", ArgsUsage: "NUMBER",
				Flags: storeFlags(terminal.JSON), Action: localSendAgain,
				Description: "NUMBER is that of the change in homing local review. An edit of the record mends it and needs " +
					"no more than the next exchange."},
			{Name: "discard", Usage: "give up what central has refused", ArgsUsage: "NUMBER", Action: localDiscard,
				Description: "The record is then as central has it, or gone where central never had it. What is given up is " +
					"first added to a file beside the store.",
				Flags: storeFlags(&cli.StringFlag{Name: "backup",
					Usage: "`FILE` to add it to; beside the store when left out"})},
			{Name: "unite", Usage: "make one record of two with the same key", ArgsUsage: "NUMBER", Action: localUnite,
				Description: `NUMBER is that of an add that central has refused since another record has its key. What it says becomes an edit of that record, and
what belongs to it, or refers to it, goes over. What is missing there is filled in. Where both say something, say which stays. All that was refused is first added to a
file beside the store.`,
				Flags: storeFlags(terminal.JSON, &cli.StringSliceFlag{Name: "take", Usage: "take your values of these `FIELDS`"},
					&cli.StringSliceFlag{Name: "leave", Usage: "leave those of these `FIELDS` as they are there"},
					&cli.StringFlag{Name: "backup", Usage: "`FILE` to add it to; beside the store when left out"})},
			{Name: "given-up", Usage: "show what was given up and written to a file", ArgsUsage: "FILE",
				Description: "An encrypted store writes it sealed, so that nobody else can read it.",
				Flags:       storeFlags(), Action: localGivenUp},
			{Name: "push", Usage: "send what is unsent", Flags: storeFlags(terminal.JSON),
				Action: exchangeWith((*device.Store).Push)},
			{Name: "pull", Usage: "fetch what others did", Flags: storeFlags(terminal.JSON),
				Action: exchangeWith((*device.Store).Pull)},
			{Name: "exchange", Usage: "push until everything is answered, then pull to the head", Action: exchangeOrEvery,
				Description: `With --every it goes on until Ctrl-C: after a random first delay, so that a fleet does not come all at once, and again each time the
span has passed. When central cannot be reached it tries again after a growing delay, and as soon as it is back all is sent.`,
				Flags: storeFlags(terminal.JSON, &cli.DurationFlag{Name: "every",
					Usage: "exchange again and again, such as every `10m`"},
					&cli.BoolFlag{Name: "hold-back", Usage: "with --every: not while the link is metered (see homing local metered)"},
					&cli.BoolFlag{Name: "load-anew", Usage: "let go of what is here, but for what is unsent, and load it again " +
						"from the start"})},
			{Name: "log", Usage: "list the latest exchanges of this store, or what one of them carried",
				ArgsUsage: "[EXCHANGE]", Action: localLog,
				Description: "EXCHANGE is its number in the list, from 1 for the last. What travelled is kept for 30 days, or " +
					"50,000 changes and records; a first load is not kept record by record.",
				Flags: storeFlags(terminal.JSON, &cli.IntFlag{Name: "limit", Value: 20, Usage: "how many"})},
			{Name: "listen", Usage: "pull what others do as soon as central says that there is something, until Ctrl-C",
				Flags: storeFlags(terminal.JSON), Action: localListen},
			serveCommand(),
			{Name: "group", Usage: "save several changes that stand or fall together", ArgsUsage: "FILE", Action: localGroup,
				Description: `FILE holds a JSON list; - reads it from the standard input. Each member has a kind (add, edit or remove), a collection, the id of the record
where there is one, and fields. A member may be called something with as; $NAME in a later member's fields is then its id.

EXAMPLE
   [{"kind": "add", "collection": "structures", "as": "bridge", "fields": {"name": "Long Bridge", "kind": "bridge"}},
    {"kind": "add", "collection": "inspections", "fields": {"structure": "$bridge", "finding": "sound"}}]`,
				Flags: storeFlags(terminal.JSON)},
			{Name: "cursors", Usage: "see how far each collection is pulled, and turn that back", Commands: []*cli.Command{
				{Name: "list", Usage: "list each collection's cursor, head and lag", Flags: storeFlags(terminal.JSON),
					Action: localCursors},
				{Name: "turn-back", Usage: "set a cursor back: the next exchange pulls again what came after it",
					ArgsUsage: "COLLECTION POSITION", Flags: storeFlags(), Action: localTurnBack},
				{Name: "forget", Usage: "let go of a collection's records, but for what is unsent, and load it anew with the " +
					"next exchange", ArgsUsage: "COLLECTION", Flags: storeFlags(), Action: localForget},
			}},
			{Name: "lost", Usage: "what a restored central has lost and this device still has", Commands: []*cli.Command{
				{Name: "list", Usage: "list it", Flags: storeFlags(terminal.JSON), Action: localLost},
				{Name: "offer", Usage: "send it to central as a change of yours", ArgsUsage: "COLLECTION RECORD",
					Action: localOffer,
					Description: "Wait for the devices that it came from first: what they offer themselves keeps its author, and " +
						"counters are not added to twice.",
					Flags: storeFlags()},
				{Name: "drop", Usage: "let go of it here, too; it is first added to a file beside the store",
					ArgsUsage: "COLLECTION RECORD", Flags: storeFlags(), Action: localDrop},
			}},
			{Name: "detach", Usage: "make the store a device no more; what it holds stays", Action: localDetach,
				Description: "A backup is made first. homing local attach makes it a device again, of this central or " +
					"another; homing local erase deletes it.",
				Flags: storeFlags()},
			{Name: "attach", Usage: "make a detached store a device again, with what it holds", Action: localAttach,
				Description: `At the same central it goes on where it was. At another, all that it holds is offered as new, and records with the same ids are merged. With
--discard what it holds is given up, and loaded from central. A backup is made first.`,
				Flags: storeFlags(&cli.StringFlag{Name: "central", Value: office.DefaultCentral, Usage: "`URL` of central",
					Sources: office.Env("CENTRAL")},
					&cli.StringFlag{Name: "code", Usage: "the one-time enrolment `CODE`; not needed while central is open"},
					&cli.StringFlag{Name: "name", Usage: "what people call the device; as before when left out"},
					&cli.BoolFlag{Name: "discard", Usage: "give up what the store holds"},
					&cli.BoolFlag{Name: "yes", Usage: "do not ask before that"})},
			{Name: "metered", Usage: "say whether the link costs by the byte now: on or off", ArgsUsage: "on|off",
				Flags: storeFlags(), Action: localMetered},
			{Name: "budget", Usage: "bound the room for records that were looked up, such as 50MB; 0 lifts the bound",
				ArgsUsage: "SIZE", Flags: storeFlags(), Action: localBudget},
			{Name: "people", Usage: "list the workers who use this device", Flags: storeFlags(terminal.JSON), Action: localPeople},
			{Name: "join", Usage: "let a further worker use this device, with a code of theirs", Action: localJoin,
				Description: secretHelp, Flags: storeFlags(&cli.StringFlag{Name: "code", Required: true,
					Usage: "the one-time `CODE`"}, secretFlag())},
			{Name: "secret", Usage: "set your PIN or password for this device", Description: secretHelp,
				Flags: storeFlags(secretFlag(), oldSecretFlag()), Action: localSecret},
			{Name: "sign-in", Usage: "sign in on this device, with signal or without", ArgsUsage: "WORKER",
				Description: secretHelp, Flags: storeFlags(secretFlag()), Action: localSignIn},
			{Name: "sign-out", Usage: "sign out; what is unsent stays, sealed for you, and goes with any exchange", Flags: storeFlags(),
				Action: localSignOut},
			{Name: "backup", Usage: "write a copy of the store to a new file, while it is in use", ArgsUsage: "FILE",
				Flags: storeFlags(), Action: localBackup},
			{Name: "restore", Usage: "make a store of a backup, in place of one that was lost", ArgsUsage: "FILE",
				Action: localRestore,
				Description: "The new store must not be there yet. It reuses no number of the lost one, and what both have " +
					"sent counts once. Do not use the lost store any more.",
				Flags: storeFlags()},
			{Name: "erase", Usage: "delete the store from this device", Action: localErase,
				Description: "It refuses while there are changes that central has not accepted. With --discard these are " +
					"given up; a backup is written first. Backups beside the store that were made before risky steps go with it.",
				Flags: storeFlags(&cli.BoolFlag{Name: "discard", Usage: "give up what is unsent"},
					&cli.StringFlag{Name: "backup", Usage: "`FILE` for the backup; beside the store when left out"},
					&cli.BoolFlag{Name: "yes", Usage: "do not ask"})},
		},
	}
}

func storeFlags(more ...cli.Flag) []cli.Flag {
	return append(more, &cli.StringFlag{Name: "passphrase-file",
		Usage:   "`FILE` whose first line is the passphrase of an encrypted store; or HOMING_PASSPHRASE",
		Sources: office.Env("PASSPHRASE_FILE")},
		&cli.StringFlag{Name: "store", Usage: "`FILE` of the local store; otherwise homing/store.db in your data folder",
			Sources: office.Env("STORE")}, office.InTheClear)
}

func storePath(c *cli.Command) (string, error) {
	if path := c.String("store"); path != "" {
		return path, nil
	}
	data := os.Getenv("XDG_DATA_HOME")
	if data == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", terminal.Usage(fmt.Errorf("no home folder (%w): say where the store is with --store FILE", err))
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
		return nil, terminal.Coded(fmt.Errorf("there is no local store at %s; make one with homing local enrol, or name "+
			"another with --store", path), terminal.ExitNotFound)
	}
	passphrase, err := passphraseOf(c)
	if err != nil {
		return nil, err
	}
	return device.Open(ctx, path, device.Options{Passphrase: passphrase, InTheClear: c.Bool("in-the-clear")})
}

// passphraseOf is empty for a store that is not encrypted. It is never given on the command line, where others could
// see it.
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
		return "", terminal.Usage(fmt.Errorf("the first line of %s is empty", path))
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
			return terminal.Usage(errors.New("give the device a name with --name"))
		}
	}
	passphrase, err := passphraseOf(c)
	if err != nil {
		return err
	}
	store, err := device.Open(ctx, path, device.Options{Passphrase: passphrase, InTheClear: c.Bool("in-the-clear")})
	if err != nil {
		return err
	}
	defer store.Close()
	address, code := c.String("central"), c.String("code")
	if c.IsSet("link") {
		if address, code, err = wire.ReadEnrolmentLink(c.String("link")); err != nil {
			return terminal.Usage(err)
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
	fmt.Fprintf(w, "Enrolled %s for %s (%s) in %s.\nLoad it with: homing local exchange\n", status.Name, status.Worker,
		status.Role, path)
	if status.Open {
		fmt.Fprintln(w, office.OpenNotice)
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
			return terminal.WriteJSON(w, status)
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
		t := terminal.NewTable(w, "COLLECTION", "RECORDS", "UNSENT", "CURSOR", "HEAD", "KEPT", "AS OF")
		for _, one := range status.Collections {
			t.Row(one.Name, one.Records, one.Pending, one.Cursor, one.Head, kept(one),
				strings.TrimRight(terminal.Whenever(one.PulledAt)+", "+string(one.Age), ", "))
		}
		return t.Flush()
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
	fmt.Fprintf(w, "Store     %s\nDevice    %s\nWorker    %s\nCentral   %s\n", status.Path, status.Name, who,
		status.Central)
	fmt.Fprintf(w, "Outbox    %d unsent, %d refused, %d waiting\n", status.Unsent, status.Refused, status.Waiting)
	for _, one := range status.People {
		if !one.SignedIn && one.Unsent > 0 {
			fmt.Fprintf(w, "Sealed    %s by %s\n", terminal.Count(one.Unsent, "change"), one.Name)
		}
	}
	if status.Budget > 0 {
		fmt.Fprintf(w, "Looked up %s of %s\n", terminal.Size(int(status.LookedUp)), terminal.Size(int(status.Budget)))
	}
	if status.Metered {
		fmt.Fprintln(w, "Link      metered")
	}
	if status.Note != "" {
		fmt.Fprintf(w, "Note      %s\n", status.Note)
	}
	if status.Outdated != "" {
		fmt.Fprintf(w, "Program   central asks for %s or later; this is %s\n", status.Outdated, terminal.Build())
	}
	for _, name := range slices.Sorted(maps.Keys(status.Settings)) {
		if name != settings.Note {
			fmt.Fprintf(w, "Setting   %s = %s, by central\n", name, terminal.Plain(status.Settings[name]))
		}
	}
	if status.OffsetMS != nil {
		zero := int64(0)
		fmt.Fprintf(w, "Clock     %s\n", office.Skew(status.OffsetMS, &zero))
	}
	switch {
	case status.Last == nil:
		fmt.Fprintln(w, "Exchange  none yet")
	case status.Last.Error != "":
		fmt.Fprintf(w, "Exchange  %s, broke off: %s\n", terminal.When(status.Last.EndedAt), status.Last.Error)
	default:
		fmt.Fprintf(w, "Exchange  %s, %d sent, %d received\n", terminal.When(status.Last.EndedAt), status.Last.Summary.Sent,
			status.Last.Summary.Received)
	}
	if status.Open {
		fmt.Fprintln(w, "Central was OPEN when last met: nobody needs to sign in there.")
	}
}

func localTarget(ctx context.Context, c *cli.Command, work func(*device.Store, *definition.Collection,
	uuid.UUID) error) error {
	args, err := terminal.Arguments(c, "COLLECTION", "RECORD")
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

// fieldsForDevice reads the fields of a new record, or of the one that is edited.
func fieldsForDevice(ctx context.Context, c *cli.Command, store *device.Store, d *definition.Collection, id uuid.UUID) (device.Fields, error) {
	around := terminal.Surroundings{Refer: func(collection, text string) (uuid.UUID, error) { return store.Resolve(ctx, collection, text) }}
	if id != uuid.Nil {
		around.Now = func() (record.Fields, error) {
			r, err := store.Get(ctx, d.Definition.Collection, id)
			return r.Fields, err
		}
	}
	raw, err := terminal.FieldsFrom(c, d, around)
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
	args, err := terminal.Arguments(c, "COLLECTION")
	if err != nil {
		return err
	}
	return withStore(ctx, c, func(store *device.Store) error {
		if c.Bool("stream") {
			return localStream(ctx, c, store, args[0])
		}
		d, err := store.Collection(ctx, args[0])
		if err != nil {
			return err
		}
		fields, err := fieldsForDevice(ctx, c, store, d, uuid.Nil)
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
		fields, err := fieldsForDevice(ctx, c, store, d, id)
		if err != nil {
			return err
		}
		saw, err := seenRecord(c, d.Definition, id)
		if err != nil {
			return err
		}
		r, err := store.Edit(ctx, d.Definition.Collection, id, fields, saw...)
		if err != nil {
			return err
		}
		return saved(c, r, "Edited"+terminal.MetOthers(r.Decisions))
	})
}

var seenFlag = &cli.StringFlag{Name: "seen", Usage: "the `FILE` that homing local show --json wrote of the record " +
	"that you saw; " +
	"what others changed since follows the collection's rules"}

// seenRecord reads the record that the author of an edit had before them, if they say so.
func seenRecord(c *cli.Command, d definition.Definition, id uuid.UUID) ([]device.SaveOption, error) {
	if c.String("seen") == "" {
		return nil, nil
	}
	text, err := os.ReadFile(c.String("seen"))
	if err != nil {
		return nil, terminal.Usage(err)
	}
	var seen device.Record
	if err := json.Unmarshal(text, &seen); err != nil {
		return nil, terminal.Usage(fmt.Errorf("%s is not what homing local show --json writes: %w", c.String("seen"), err))
	}
	if seen.Collection != d.Collection || seen.ID != id {
		return nil, terminal.Usage(fmt.Errorf("%s holds another record: %s of %s", c.String("seen"), seen.ID, seen.Collection))
	}
	return []device.SaveOption{device.Saw(seen)}, nil
}

func saved(c *cli.Command, r device.Record, done string) error {
	if c.Bool("json") {
		return terminal.WriteJSON(c.Root().Writer, r)
	}
	fmt.Fprintf(c.Root().Writer, "%s: %s (%s %s). Saved on this device; unsent: %s.\n", done, r.Label, r.Collection,
		r.ID, terminal.Count(r.Pending, "change"))
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
			return fmt.Errorf("%w: %s would go with it; add --with-children", device.ErrHasChildren, terminal.Count(also, "record"))
		}
		saw, err := seenRecord(c, d.Definition, id)
		if err != nil {
			return err
		}
		if err := store.Remove(ctx, d.Definition.Collection, id, saw...); err != nil {
			return err
		}
		if r, err := store.Get(ctx, d.Definition.Collection, id); err == nil {
			fmt.Fprintf(c.Root().Writer, "Not removed: %s (%s %s). Others have edited it since what you saw, and edits "+
				"stay. Look at it again.\n", r.Label, r.Collection, r.ID)
			return nil
		}
		fmt.Fprintf(c.Root().Writer, "Removed here: %s (%s %s). The removal is sent with the next exchange.\n", r.Label,
			r.Collection, r.ID)
		return nil
	})
}

package office

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"homing/central"
	"homing/central/past"
	"homing/internal/cli/terminal"
	"homing/wire"
)

// deviceCommands are those about one device.
func deviceCommands() []*cli.Command {
	return []*cli.Command{
		{Name: "show", Usage: "show one device: how far it is, what central did not accept of it, what it is asked to do", ArgsUsage: "DEVICE",
			Flags: CentralFlags(terminal.JSON), Action: showDevice},
		{Name: "ask", Usage: "ask a device to do something with its next exchange", ArgsUsage: "DEVICE verify|erase",
			Description: `verify lets the device compare what it holds with central, and fetch anew what differs; homing devices show tells what it found.
erase lets it delete its store. It does so only once central has accepted everything in it: a device with changes that were refused says so and
keeps them. It is asked again with each exchange until it has done it.`,
			Flags: CentralFlags(&cli.BoolFlag{Name: "yes", Usage: "ask to erase without being asked whether you mean it"}), Action: askDevice},
		{Name: "teams", Usage: "say which teams a device is in; settings may be said of a team", ArgsUsage: "DEVICE TEAM…", Action: putInTeams,
			Flags: CentralFlags(&cli.BoolFlag{Name: "none", Usage: "the device is to be in no team"})},
		{Name: "stop-asking", Usage: "take back what a device was asked to do", ArgsUsage: "DEVICE verify|erase",
			Flags: CentralFlags(), Action: func(ctx context.Context, c *cli.Command) error {
				return aboutErrand(ctx, c, http.MethodDelete, "%s is not asked to %s any more.\n")
			}},
	}
}

type oneDevice struct {
	central.Device
	Reached    []past.Reached   `json:"reached"`
	Unaccepted []past.Travelled `json:"unaccepted"`
}

func showDevice(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "DEVICE")
	if err != nil {
		return err
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	found, err := call.device(ctx, args[0])
	if err != nil {
		return err
	}
	var d oneDevice
	if err := call.Get(ctx, "/v1/devices/"+found.ID.String(), &d); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		return terminal.WriteJSON(w, d)
	}
	fmt.Fprintf(w, "%s of %s, %s\n   enrolled %s, seen %s, clock %s, owes %s", d.Name, peopleOf(d.Device), d.ID, terminal.When(d.EnrolledAt),
		terminal.Whenever(d.SeenAt), Skew(d.OffsetMS, d.ErrorMS), owes(d.Device))
	if d.Stored != nil {
		fmt.Fprintf(w, ", its store takes %s", terminal.Size(int(*d.Stored)))
	}
	fmt.Fprintf(w, "\n   %s\n", d.Agent)
	if len(d.Teams) > 0 {
		fmt.Fprintf(w, "   in the teams %s\n", strings.Join(d.Teams, ", "))
	}
	for _, name := range slices.Sorted(maps.Keys(d.Settings)) {
		fmt.Fprintf(w, "   %s is to be %s\n", name, terminal.Plain(d.Settings[name]))
	}
	switch {
	case d.Differs:
		fmt.Fprintln(w, "   it has not said yet that it goes by its settings; it hears of them with its next exchange")
	case d.AppliedAt != nil && len(d.Settings) > 0:
		fmt.Fprintf(w, "   it goes by them since %s\n", terminal.When(*d.AppliedAt))
	}
	if len(d.Unknown) > 0 {
		fmt.Fprintf(w, "   its program does not know, or cannot take: %s\n", strings.Join(d.Unknown, ", "))
	}
	for _, errand := range d.Errands {
		fmt.Fprintf(w, "   %s\n", saidOf(d.Device, errand))
	}
	if len(d.Reached) > 0 {
		fmt.Fprintln(w)
		t := terminal.NewTable(w, "COLLECTION", "CURSOR", "HEAD", "PULLED")
		for _, at := range d.Reached {
			t.Row(at.Collection, at.Cursor, at.Head, terminal.Whenever(at.PulledAt))
		}
		if err := t.Flush(); err != nil {
			return err
		}
	}
	if len(d.Unaccepted) == 0 {
		return nil
	}
	fmt.Fprintln(w)
	t := terminal.NewTable(w, "NOT ACCEPTED", "RECORD", "COLLECTION", "WHY")
	for _, one := range d.Unaccepted {
		var why []string
		for _, reason := range one.Reasons {
			why = append(why, strings.TrimPrefix(reason.Field+": "+reason.Message, ": "))
		}
		t.Row(one.What, one.Label, one.Collection, strings.Join(why, "; "))
	}
	return t.Flush()
}

// saidOf tells in words what a device was asked to do, and what became of it.
func saidOf(d central.Device, e central.AskedErrand) string {
	asked := fmt.Sprintf("asked by %s on %s to %s: ", e.By, terminal.When(e.AskedAt), e.What)
	switch {
	case e.AnsweredAt == nil && d.SeenAt != nil && d.SeenAt.After(e.AskedAt):
		return asked + "it was here since and said nothing of it; an older program does not know how"
	case e.AnsweredAt == nil:
		return asked + "it has not come since"
	case !e.Done:
		return asked + "not done yet, " + e.Why
	case e.What == wire.ErrandErase:
		return asked + "erased on " + terminal.When(*e.AnsweredAt)
	}
	records, differences := 0, []string{}
	for _, one := range e.Verified {
		if records += one.Records; one.Differences > 0 {
			differences = append(differences, fmt.Sprintf("%d of %s", one.Differences, one.Collection))
		}
	}
	if len(differences) == 0 {
		return asked + fmt.Sprintf("done on %s, all of %s are as central has them", terminal.When(*e.AnsweredAt), terminal.Count(records, "record"))
	}
	return asked + fmt.Sprintf("done on %s, fetched anew: %s", terminal.When(*e.AnsweredAt), strings.Join(differences, ", "))
}

func askDevice(ctx context.Context, c *cli.Command) error {
	done := "%s is asked to %s with its next exchange.\n"
	if c.Args().Get(1) != wire.ErrandErase || c.Bool("yes") {
		return aboutErrand(ctx, c, http.MethodPut, done)
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	d, err := call.device(ctx, c.Args().First())
	if err != nil {
		return err
	}
	if !terminal.OnTerminal(os.Stdin) {
		return terminal.Usage(errors.New("nothing was asked; say --yes to ask for it without being asked"))
	}
	yes, err := terminal.Ask(c.Root().ErrWriter, os.Stdin, fmt.Sprintf("Let %s erase its store, once all of it is accepted? It last owed %s. [y/N] ",
		d.Name, owes(d)))
	if err != nil || !yes {
		return terminal.Coded(errors.New("nothing was asked"), terminal.ExitRefused)
	}
	return aboutErrand(ctx, c, http.MethodPut, done)
}

func aboutErrand(ctx context.Context, c *cli.Command, method, done string) error {
	args, err := terminal.Arguments(c, "DEVICE", "verify|erase")
	if err != nil {
		return err
	}
	if !slices.Contains([]string{wire.ErrandVerify, wire.ErrandErase}, args[1]) {
		return terminal.Usage(fmt.Errorf("%q is nothing that a device can be asked to do: take verify or erase", args[1]))
	}
	return aboutDevice(ctx, c, args[0], method, "/errands/"+args[1], done, args[1])
}

// reachOf is homing workers reach.
func reachOf(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "WORKER")
	if err != nil {
		return err
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	var reach central.Reach
	if err := call.Get(ctx, "/v1/workers/"+url.PathEscape(args[0])+"/reach", &reach); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		return terminal.WriteJSON(w, reach)
	}
	fmt.Fprintf(w, "%s, %s, holds the territories: %s\n", reach.Name, reach.Role, held(reach.Territories))
	if reach.Shut {
		fmt.Fprintln(w, "The account is disabled: the worker gets none of this at present.")
	}
	fmt.Fprintln(w)
	t := terminal.NewTable(w, "COLLECTION", "COVERS", "READ", "ADD", "EDIT", "REMOVE")
	for _, one := range reach.Collections {
		row := []any{one.Collection, fmt.Sprintf("%d of %d", one.Records, one.Of)}
		for _, leave := range one.Leaves {
			word := map[string]string{"all": "yes", "none": "no"}[leave.With]
			if word == "" {
				word = "where " + leave.Rule
			}
			row = append(row, word)
		}
		t.Row(row...)
	}
	return t.Flush()
}

// HealthCommand is homing health.
func HealthCommand() *cli.Command {
	return &cli.Command{
		Name:  "health",
		Usage: "see how central itself is: database, versions, what went wrong lately; for admins",
		Flags: CentralFlags(terminal.JSON),
		Action: func(ctx context.Context, c *cli.Command) error {
			call, err := NewCaller(c)
			if err != nil {
				return err
			}
			var h struct {
				central.Health
				Build     string    `json:"build"`
				StartedAt time.Time `json:"started_at"`
				Now       time.Time `json:"now"`
				Memory    uint64    `json:"memory"`
				Listeners int64     `json:"listeners"`
				Troubles  []struct {
					At      time.Time `json:"at"`
					Level   string    `json:"level"`
					Message string    `json:"message"`
					Detail  string    `json:"detail,omitempty"`
				} `json:"troubles"`
			}
			if err := call.Get(ctx, "/v1/health", &h); err != nil {
				return err
			}
			w := c.Root().Writer
			if c.Bool("json") {
				return terminal.WriteJSON(w, h)
			}
			fmt.Fprintf(w, "Central %s, up since %s, holds %s of memory, %s of live events\n", h.Build, terminal.When(h.StartedAt),
				terminal.Size(int(h.Memory)), terminal.Count(int(h.Listeners), "open stream"))
			fmt.Fprintf(w, "PostgreSQL %s, %s on disk, %d of at most %d connections, generation %s\n\n", h.PostgreSQL, terminal.Size(int(h.Bytes)),
				h.Connections, h.Most, h.Generation)
			if len(h.Backups) == 0 {
				fmt.Fprint(w, "No backup was written yet: homing backup writes one.\n\n")
			} else {
				last := h.Backups[0]
				fmt.Fprintf(w, "The last backup is of %s, %s, in %s\n\n", terminal.When(last.MadeAt), terminal.Size(int(last.Bytes)), last.File)
			}
			t := terminal.NewTable(w, "TABLE", "ROWS, ABOUT", "ON DISK")
			for _, one := range h.Tables {
				t.Row(one.Name, one.Rows, terminal.Size(int(one.Bytes)))
			}
			if err := t.Flush(); err != nil {
				return err
			}
			if len(h.Troubles) == 0 {
				fmt.Fprintln(w, "\nNothing went wrong since it started.")
				return nil
			}
			fmt.Fprintln(w, "\nLatest warnings and errors of this instance:")
			for _, one := range h.Troubles {
				fmt.Fprintf(w, "   %s  %s  %s %s\n", terminal.When(one.At), strings.ToLower(one.Level), one.Message, one.Detail)
			}
			return nil
		},
	}
}

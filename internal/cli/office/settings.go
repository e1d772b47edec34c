package office

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/central/people"
	"homing/core/settings"
	"homing/internal/cli/terminal"
)

// saidSettings is what central answers about settings.
type saidSettings struct {
	Settings []people.Said      `json:"settings"`
	Known    []settings.Setting `json:"known"`
}

// SettingsCommand is homing settings.
func SettingsCommand() *cli.Command {
	of := func() []cli.Flag {
		return []cli.Flag{&cli.StringFlag{Name: "team", Usage: "of the devices of a `TEAM`"}, &cli.StringFlag{Name: "device", Usage: "of one `DEVICE`, by its name or id"}}
	}
	return &cli.Command{
		Name:  "settings",
		Usage: "say how devices behave, and see which of them do",
		Description: `A setting is said of all devices, of a team (homing devices teams) or of one; the closest counts. Devices take it over with their next exchange, and say so. Nothing
that a setting says has a hold on what is unsent.

EXAMPLES
   homing settings set exchange_every "10 minutes"
   homing settings set note "Exchange before Friday." --team "kell crew"
   homing settings set page 200 --share 10      # to a tenth of the devices first, then with --share 100 to the rest`,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list what is said, and how many devices go by it", Flags: CentralFlags(terminal.JSON), Action: listSettings},
			{Name: "known", Usage: "list what can be set", Flags: CentralFlags(terminal.JSON), Action: knownSettings},
			{Name: "set", Usage: "say a setting", ArgsUsage: "NAME VALUE",
				Flags: CentralFlags(append(of(), &cli.IntFlag{Name: "share", Value: 100, Usage: "let it go to so many `PERCENT` of the devices first"})...), Action: setSetting},
			{Name: "remove", Usage: "take a setting back", ArgsUsage: "NAME", Flags: CentralFlags(of()...), Action: removeSetting},
		},
	}
}

func listSettings(ctx context.Context, c *cli.Command) error {
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	var got saidSettings
	if err := call.Get(ctx, "/v1/settings", &got); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		return terminal.WriteJSON(w, got.Settings)
	}
	if len(got.Settings) == 0 {
		fmt.Fprintln(w, "Nothing is said of how devices behave: each goes by its own. homing settings known lists what can be set.")
		return nil
	}
	return PrintSettings(w, got.Settings)
}

// PrintSettings writes what is said as a table.
func PrintSettings(w io.Writer, said []people.Said) error {
	t := terminal.NewTable(w, "OF", "SETTING", "VALUE", "SHARE", "GO BY IT", "BY", "SINCE")
	for _, one := range said {
		of := "all devices"
		switch {
		case one.Team != "":
			of = "team " + one.Team
		case one.Device != uuid.Nil:
			of = "device " + one.Device.String()
		}
		t.Row(of, one.Name, terminal.Plain(one.Value), fmt.Sprintf("%d %%", one.Share), fmt.Sprintf("%d of %d", one.Applied, one.Devices), one.SetBy, terminal.When(one.SetAt))
	}
	return t.Flush()
}

func knownSettings(ctx context.Context, c *cli.Command) error {
	if c.Bool("json") {
		return terminal.WriteJSON(c.Root().Writer, settings.All)
	}
	t := terminal.NewTable(c.Root().Writer, "SETTING", "WHAT IT SAYS", "SUCH AS")
	for _, one := range settings.All {
		t.Row(one.Name, one.About, one.Example)
	}
	return t.Flush()
}

// settingPath is where a setting of some devices lies, and how people call these.
func settingPath(ctx context.Context, c *cli.Command, call Caller, name string) (path, of string, err error) {
	ask := url.Values{}
	of = "all devices"
	if team := c.String("team"); team != "" {
		ask.Set("team", team)
		of = "the team " + team
	}
	if text := c.String("device"); text != "" {
		d, err := call.device(ctx, text)
		if err != nil {
			return "", "", err
		}
		ask.Set("device", d.ID.String())
		of = d.Name
	}
	return "/v1/settings/" + url.PathEscape(name) + "?" + ask.Encode(), of, nil
}

func setSetting(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "NAME", "VALUE")
	if err != nil {
		return err
	}
	value, err := settings.Typed(args[0], args[1])
	if err != nil {
		return terminal.Coded(err, terminal.ExitRefused)
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	path, of, err := settingPath(ctx, c, call, args[0])
	if err != nil {
		return err
	}
	body := struct {
		Value json.RawMessage `json:"value"`
		Share int             `json:"share"`
	}{value, c.Int("share")}
	if err := call.Send(ctx, http.MethodPut, path, body, nil); err != nil {
		return err
	}
	share := ""
	if body.Share < 100 {
		share = fmt.Sprintf(", to %d %% of them", body.Share)
	}
	fmt.Fprintf(c.Root().Writer, "%s is %s for %s%s. Devices take it over with their next exchange.\n", args[0], terminal.Plain(value), of, share)
	return nil
}

func removeSetting(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "NAME")
	if err != nil {
		return err
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	path, of, err := settingPath(ctx, c, call, args[0])
	if err != nil {
		return err
	}
	if err := call.Send(ctx, http.MethodDelete, path, nil, nil); err != nil {
		return err
	}
	fmt.Fprintf(c.Root().Writer, "%s is said no more of %s.\n", args[0], of)
	return nil
}

// putInTeams is homing devices teams.
func putInTeams(ctx context.Context, c *cli.Command) error {
	args := c.Args().Slice()
	if len(args) < 1 || (len(args) == 1) != c.Bool("none") {
		return terminal.Usage(fmt.Errorf("%s takes DEVICE and TEAM…, or DEVICE with --none (see %s --help)", c.FullName(), c.FullName()))
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	d, err := call.device(ctx, args[0])
	if err != nil {
		return err
	}
	if err := call.Send(ctx, http.MethodPut, "/v1/devices/"+d.ID.String()+"/teams", map[string]any{"teams": args[1:]}, nil); err != nil {
		return err
	}
	in := "no team"
	if len(args) > 1 {
		in = strings.Join(args[1:], ", ")
	}
	fmt.Fprintf(c.Root().Writer, "%s is in %s.\n", d.Name, in)
	return nil
}

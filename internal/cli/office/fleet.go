package office

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/central"
	"homing/central/past"
	"homing/central/people"
	"homing/core/change"
	"homing/core/record"
	"homing/core/rights"
	"homing/internal/cli/terminal"
	"homing/internal/qr"
)

// held lists the territories that a worker holds.
func held(territories []string) string {
	switch {
	case len(territories) == 0:
		return "none"
	case slices.Contains(territories, rights.All):
		return "all"
	}
	return strings.Join(territories, ", ")
}

// TerritoriesCommand is homing territories.
func TerritoriesCommand() *cli.Command {
	return &cli.Command{
		Name:  "territories",
		Usage: "see the territories, and say which a worker holds",
		Description: `A definition's sync.territory says which territories a record falls into. A worker's devices get the records of the territories
that the worker holds: what is gained is loaded with the next exchange, what is lost is dropped.`,
		Commands: []*cli.Command{
			{Name: "list", Usage: "list the territories, what falls into them and who holds them",
				Flags: CentralFlags(terminal.JSON), Action: listTerritories},
			{Name: "hold", Usage: "set all the territories that a worker holds", ArgsUsage: "WORKER KEY…",
				Description: "The key * stands for all territories. With --none the worker holds no territory.",
				Flags:       CentralFlags(&cli.BoolFlag{Name: "none", Usage: "the worker is to hold no territory"}),
				Action: func(ctx context.Context, c *cli.Command) error {
					args := c.Args().Slice()
					if len(args) < 1 || (len(args) == 1) != c.Bool("none") {
						return terminal.Usage(fmt.Errorf("%s takes WORKER and KEY…, or WORKER with --none (see %s --help)", c.FullName(),
							c.FullName()))
					}
					call, err := NewCaller(c)
					if err != nil {
						return err
					}
					path := "/v1/workers/" + url.PathEscape(args[0]) + "/territories"
					if err := call.Send(ctx, http.MethodPut, path, map[string]any{"territories": args[1:]}, nil); err != nil {
						return err
					}
					fmt.Fprintf(c.Root().Writer, "%s holds %s. Devices follow with their next exchange.\n", args[0], held(args[1:]))
					return nil
				}},
		},
	}
}

func listTerritories(ctx context.Context, c *cli.Command) error {
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	var all []people.Territory
	if err := call.Get(ctx, "/v1/territories", &all); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		return terminal.WriteJSON(w, all)
	}
	if len(all) == 0 {
		fmt.Fprintln(w, "No record falls into a territory: no definition has sync.territory yet, so everybody covers all.")
		return nil
	}
	t := terminal.NewTable(w, "TERRITORY", "RECORDS", "HELD BY")
	for _, one := range all {
		var parts []string
		for _, name := range slices.Sorted(maps.Keys(one.Records)) {
			parts = append(parts, fmt.Sprintf("%d %s", one.Records[name], name))
		}
		if len(parts) == 0 {
			parts = []string{"none"}
		}
		who := strings.Join(one.Workers, ", ")
		if who == "" {
			who = "nobody but those who hold all"
		}
		t.Row(one.Key, strings.Join(parts, ", "), who)
	}
	return t.Flush()
}

// DevicesCommand is homing devices.
func DevicesCommand() *cli.Command {
	return &cli.Command{
		Name:  "devices",
		Usage: "watch devices, issue enrolment codes, revoke devices",
		Commands: append(deviceCommands(), []*cli.Command{
			{Name: "list", Usage: "list devices and what they last did", Flags: CentralFlags(terminal.JSON), Action: listDevices},
			{Name: "code", Usage: "issue a one-time code that enrols a device, or lets a worker join one", Action: issueCode,
				Description: "On a terminal the code is also shown as a QR code, which carries central's address as well.",
				Flags: CentralFlags(terminal.JSON, &cli.BoolFlag{Name: "qr",
					Usage: "draw the QR code even when this is not a terminal"},
					&cli.StringFlag{Name: "worker", Usage: "`NAME` of who the device will belong to; you, when left out"},
					&cli.DurationFlag{Name: "lasts", Value: 48 * time.Hour, Usage: "how long the code can be used"})},
			{Name: "revoke", Usage: "revoke a device: it can no longer push or pull", ArgsUsage: "DEVICE",
				Flags: CentralFlags(&cli.BoolFlag{Name: "deliver", Usage: "let it still send what it has queued; it gets nothing"}),
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.Bool("deliver") {
						return revocation(ctx, c, http.MethodPost, "?deliver=true",
							"%s is revoked. It may still send what it has queued, and gets nothing; homing devices readmit takes this "+
								"back.\n")
					}
					return revocation(ctx, c, http.MethodPost, "", "%s is revoked. What it has not sent stays on it; homing "+
						"devices readmit takes this back.\n")
				}},
			{Name: "leave", Usage: "take a further worker off a shared device", ArgsUsage: "DEVICE WORKER",
				Flags: CentralFlags(), Action: leaveDevice},
			{Name: "codes", Usage: "list the codes that can still be used", Flags: CentralFlags(terminal.JSON), Action: listCodes},
			{Name: "void-code", Usage: "make a code useless", ArgsUsage: "ID",
				Description: "The ID is the one that homing devices codes shows: nobody can tell the code itself any more.",
				Flags:       CentralFlags(), Action: doTo(http.MethodDelete, "/v1/codes/%s", "The code %s enrols nothing any more.\n", "ID")},
			{Name: "admit", Usage: "let a device in that was enrolled while central was open to everybody", ArgsUsage: "DEVICE",
				Flags: CentralFlags(), Action: doTo(http.MethodPost, "/v1/devices/%s/admission", "%s may push and pull.\n", "DEVICE")},
			{Name: "readmit", Usage: "take a revocation back", ArgsUsage: "DEVICE", Flags: CentralFlags(),
				Action: func(ctx context.Context, c *cli.Command) error {
					return revocation(ctx, c, http.MethodDelete, "", "%s may push and pull again.\n")
				}},
		}...),
	}
}

func listDevices(ctx context.Context, c *cli.Command) error {
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	var devices []central.Device
	if err := call.Get(ctx, "/v1/devices", &devices); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		return terminal.WriteJSON(w, devices)
	}
	if len(devices) == 0 {
		fmt.Fprintln(w, "No device is enrolled yet: homing devices code, then homing local enrol on the device.")
		return nil
	}
	t := terminal.NewTable(w, "DEVICE", "NAME", "WORKER", "STATE", "SEEN", "BEHIND BY", "OWES", "CLOCK", "LAST EXCHANGE")
	for _, d := range devices {
		state := "enrolled"
		if d.RevokedAt != nil {
			state = "revoked"
		}
		if d.MayDeliver {
			state = "revoked, may deliver"
		}
		if d.WhileOpen {
			state += ", while open"
		}
		if d.Differs && d.RevokedAt == nil {
			state += ", settings to come"
		}
		t.Row(d.ID, d.Name, peopleOf(d), state, terminal.Whenever(d.SeenAt), d.Lag, owes(d), Skew(d.OffsetMS, d.ErrorMS),
			lastExchange(d.Last))
	}
	return t.Flush()
}

// peopleOf names the workers of a device.
func peopleOf(d central.Device) string {
	if len(d.People) == 0 { // they are shut out
		return d.Worker
	}
	names := make([]string, len(d.People))
	for n, who := range d.People {
		names[n] = who.Name
	}
	return strings.Join(names, ", ")
}

// owes is what the device last reported of its outbox.
func owes(d central.Device) string {
	if d.Unsent == nil || d.Refused == nil || d.Waiting == nil {
		return "-"
	}
	if *d.Refused+*d.Waiting == 0 {
		return fmt.Sprint(*d.Unsent)
	}
	return fmt.Sprintf("%d, %d refused, %d waiting", *d.Unsent, *d.Refused, *d.Waiting)
}

// Skew says how a device's clock goes. A device that is behind has a positive offset.
func Skew(offset, within *int64) string {
	if offset == nil || within == nil {
		return "-"
	}
	by := time.Duration(*offset) * time.Millisecond
	switch {
	case *offset <= *within+1000 && -*offset <= *within+1000:
		return "right"
	case by > 0:
		return by.Round(time.Second).String() + " behind"
	}
	return (-by).Round(time.Second).String() + " ahead"
}

func lastExchange(e *central.Exchange) string {
	if e == nil {
		return "none yet"
	}
	return fmt.Sprintf("%d applied, %d merged, %d held, %d refused, %d pulled", e.Applied, e.Merged, e.Held, e.Refused,
		e.Delivered)
}

func issueCode(ctx context.Context, c *cli.Command) error {
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	var got struct {
		Code      string    `json:"code"`
		Worker    string    `json:"worker"`
		ExpiresAt time.Time `json:"expires_at"`
		Link      string    `json:"link"`
	}
	body := map[string]any{"minutes": int(c.Duration("lasts").Minutes()), "central": call.Base()}
	if c.IsSet("worker") {
		body["worker"] = c.String("worker")
	}
	if err := call.Send(ctx, http.MethodPost, "/v1/codes", body, &got); err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.WriteJSON(c.Root().Writer, got)
	}
	w := c.Root().Writer
	if c.Bool("qr") || w == os.Stdout && terminal.OnTerminal(os.Stdout) {
		drawn, err := qr.Terminal(got.Link)
		if err != nil {
			return err
		}
		fmt.Fprintln(w, drawn)
	}
	fmt.Fprintf(w, "%s\nenrols one device for %s, until %s. On a phone, open this link in the browser:\n   %s\n"+
		"On a command line:\n   homing local enrol --link '%[4]s' --name NAME\nor, for a device that %[2]s is to share:\n   homing local join --code %[1]s\n",
		got.Code, got.Worker, terminal.When(got.ExpiresAt), got.Link)
	return nil
}

func leaveDevice(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "DEVICE", "WORKER")
	if err != nil {
		return err
	}
	return aboutDevice(ctx, c, args[0], http.MethodDelete, "/people/"+url.PathEscape(args[1]), "%[2]s is off %[1]s. With its next exchange the device "+
		"drops what only they covered; what they have not sent still goes to central.\n", args[1])
}

func revocation(ctx context.Context, c *cli.Command, method, query, done string) error {
	args, err := terminal.Arguments(c, "DEVICE")
	if err != nil {
		return err
	}
	return aboutDevice(ctx, c, args[0], method, "/revocation"+query, done)
}

// aboutDevice does something to a device, which is named in what it says when that is done.
func aboutDevice(ctx context.Context, c *cli.Command, text, method, path, done string, more ...any) error {
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	d, err := call.device(ctx, text)
	if err != nil {
		return err
	}
	if err := call.Send(ctx, method, "/v1/devices/"+d.ID.String()+path, nil, nil); err != nil {
		return err
	}
	fmt.Fprintf(c.Root().Writer, done, append([]any{d.Name}, more...)...)
	return nil
}

// device finds a device by id or name.
func (c Caller) device(ctx context.Context, text string) (central.Device, error) {
	var devices, fits []central.Device
	if err := c.Get(ctx, "/v1/devices", &devices); err != nil {
		return central.Device{}, err
	}
	id, _ := uuid.Parse(text) // a name is no id
	for _, d := range devices {
		if d.ID == id || strings.EqualFold(d.Name, text) {
			fits = append(fits, d)
		}
	}
	switch len(fits) {
	case 0:
		return central.Device{}, terminal.Coded(fmt.Errorf("there is no device %q", text), terminal.ExitNotFound)
	case 1:
		return fits[0], nil
	}
	return central.Device{}, terminal.Coded(fmt.Errorf("%d devices are called %q; take the id of the one you mean",
		len(fits), text), terminal.ExitBusy)
}

// ExchangesCommand is homing exchanges.
func ExchangesCommand() *cli.Command {
	return &cli.Command{
		Name:  "exchanges",
		Usage: "see what devices and central exchanged",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list the latest exchanges", Flags: CentralFlags(terminal.JSON,
				&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many"}),
				Action: func(ctx context.Context, c *cli.Command) error {
					call, err := NewCaller(c)
					if err != nil {
						return err
					}
					var exchanges []central.Exchange
					if err := call.Get(ctx, fmt.Sprintf("/v1/exchanges?limit=%d", c.Int("limit")), &exchanges); err != nil {
						return err
					}
					w := c.Root().Writer
					if c.Bool("json") {
						return terminal.WriteJSON(w, exchanges)
					}
					if len(exchanges) == 0 {
						fmt.Fprintln(w, "No device has exchanged anything yet.")
						return nil
					}
					t := terminal.NewTable(w, "ID", "STARTED", "DEVICE", "WORKER", "BATCHES", "APPLIED", "MERGED", "HELD", "REFUSED",
						"WAITING", "REPEATED", "PULLED", "IN", "OUT")
					for _, e := range exchanges {
						t.Row(e.ID.String()[24:], terminal.When(e.StartedAt), e.Name, e.Worker, e.Batches, e.Applied, e.Merged, e.Held,
							e.Refused, e.Waiting, e.Repeated, e.Delivered, terminal.Size(int(e.BytesIn)), terminal.Size(int(e.BytesOut)))
					}
					return t.Flush()
				}},
			{Name: "show", Usage: "show what an exchange carried, change by change and record by record",
				ArgsUsage: "EXCHANGE", Action: showExchange,
				Description: "EXCHANGE is its id in the list, or the start or end of it. How long that is kept is said to " +
					"homing serve with --keep-exchanges.",
				Flags: CentralFlags(terminal.JSON, &cli.IntFlag{Name: "limit", Value: 200, Usage: "most changes and records"})},
		},
	}
}

func showExchange(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "EXCHANGE")
	if err != nil {
		return err
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	var detail past.ExchangeDetail
	if err := call.Get(ctx, fmt.Sprintf("/v1/exchanges/%s?limit=%d", url.PathEscape(args[0]), c.Int("limit")),
		&detail); err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		return terminal.WriteJSON(w, detail)
	}
	fmt.Fprintf(
		w,
		"Exchange  %s\nDevice    %s, %s\nTime      %s, %s\nCarried   %s up, %s down\n\n",
		detail.ID,
		detail.Name,
		detail.Worker,
		terminal.When(detail.StartedAt),
		detail.LastAt.Sub(detail.StartedAt).
			Round(time.Millisecond),
		terminal.Size(int(detail.BytesIn)),
		terminal.Size(int(detail.BytesOut)),
	)
	if len(detail.Carried) == 0 {
		fmt.Fprintln(w, "It carried no change and no record, or what it carried is no longer kept.")
		return nil
	}
	t := terminal.NewTable(w, "WAY", "NO", "COLLECTION", "RECORD", "WHAT", "REV", "FIELD", "FROM → TO")
	for _, one := range detail.Carried {
		way, number := "down", ""
		if one.Up {
			way, number = "up", fmt.Sprint(one.Number)
		}
		what := one.What
		if one.Kind != "" {
			what = string(one.Kind) + ", " + what
		}
		first := []any{way, number, one.Collection, Named(one.Label, one.Record), what, one.Revision}
		for _, line := range CarriedLines(one.Up, one.Fields) {
			t.Row(append(first, line[0], line[1])...)
			first = []any{"", "", "", "", "", ""}
		}
		for _, reason := range one.Reasons {
			t.Row(append(first, reason.Field, reason.Message)...)
			first = []any{"", "", "", "", "", ""}
		}
		if first[0] != "" {
			t.Row(first...)
		}
	}
	if err := t.Flush(); err != nil {
		return err
	}
	if detail.More {
		fmt.Fprintf(w, "There is more; --limit %d shows twice as much.\n", 2*c.Int("limit"))
	}
	return nil
}

// Named is what a record is called in a table; the end of its id, where nothing else is known.
func Named(label string, id uuid.UUID) string {
	if label == "" {
		return "…" + id.String()[30:]
	}
	return terminal.Shorten(label, 32)
}

// CarriedLines shows the fields of a change, from what to what, or those of a record.
func CarriedLines(up bool, fields json.RawMessage) (lines [][2]string) {
	if up {
		var delta record.Delta
		if json.Unmarshal(fields, &delta) != nil {
			return nil
		}
		for _, name := range delta.Names() {
			edit := delta[name]
			lines = append(
				lines,
				[2]string{
					name,
					terminal.Shorten(terminal.Edited(change.Edit, edit, terminal.Plain(edit.From), terminal.Plain(edit.To)), 60),
				},
			)
		}
		return lines
	}
	var values record.Fields
	if json.Unmarshal(fields, &values) != nil {
		return nil
	}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		lines = append(lines, [2]string{name, terminal.Shorten(terminal.Plain(values[name]), 60)})
	}
	return lines
}

package office

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"homing/central"
	"homing/central/people"
	"homing/core/definition"
	"homing/core/rights"
	"homing/internal/cli/terminal"
)

// WorkersCommand is homing workers.
func WorkersCommand() *cli.Command {
	return &cli.Command{
		Name:  "workers",
		Usage: "add the people who work with central, change what they may, shut them out",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list all workers", Flags: CentralFlags(terminal.JSON,
				&cli.BoolFlag{Name: "removed", Usage: "also those whose account is gone"}),
				Action: func(ctx context.Context, c *cli.Command) error {
					var workers []central.Worker
					path := fmt.Sprintf("/v1/workers?removed=%t", c.Bool("removed"))
					return list(ctx, c, path, &workers, func(t *terminal.Table) {
						*t = terminal.NewTable(c.Root().Writer, "WORKER", "ROLE", "TERRITORIES", "DEVICES", "SINCE", "STATE")
						for _, w := range workers {
							t.Row(w.Name, w.Role, held(w.Territories), w.Devices, terminal.When(w.CreatedAt), stateOf(w))
						}
					})
				}},
			{Name: "reach", Usage: "see what a worker gets of each collection, and may do with it", ArgsUsage: "WORKER",
				Flags: CentralFlags(terminal.JSON), Action: reachOf},
			{Name: "add", Usage: "add a worker", ArgsUsage: "NAME",
				Description: "The password is asked for, or read from the first line of standard input. With --no-password " +
					"the worker can own devices but not sign in.",
				Flags: CentralFlags(&cli.StringFlag{Name: "role", Value: "worker", Usage: "reader, worker, lead or admin"},
					&cli.StringSliceFlag{Name: "territory", Usage: "a `KEY` that the worker holds; may be given several times; " +
						"all when left out"},
					&cli.BoolFlag{Name: "no-password", Usage: "make an account that cannot sign in"}),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "NAME")
					if err != nil {
						return err
					}
					if err := isRole(c.String("role")); err != nil {
						return err
					}
					body := map[string]any{"name": args[0], "role": c.String("role"), "territories": c.StringSlice("territory")}
					if !c.Bool("no-password") {
						password, err := terminal.AskPassword(c.Root().ErrWriter, os.Stdin)
						if err != nil {
							return err
						}
						body["password"] = password
					}
					call, err := NewCaller(c)
					if err != nil {
						return err
					}
					if err := call.Send(ctx, http.MethodPost, "/v1/workers", body, nil); err != nil {
						return err
					}
					fmt.Fprintf(c.Root().Writer, "Added %s (%s).\n", args[0], body["role"])
					return nil
				}},
			{Name: "role", Usage: "give a worker another role", ArgsUsage: "WORKER ROLE", Flags: CentralFlags(),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "WORKER", "ROLE")
					if err != nil {
						return err
					}
					if err := isRole(args[1]); err != nil {
						return err
					}
					call, err := NewCaller(c)
					if err != nil {
						return err
					}
					if err := call.Send(ctx, http.MethodPut, "/v1/workers/"+url.PathEscape(args[0])+"/role",
						map[string]any{"role": args[1]}, nil); err != nil {
						return err
					}
					fmt.Fprintf(c.Root().Writer, "%s is %s now. Devices follow with their next exchange.\n", args[0], args[1])
					return nil
				}},
			{Name: "password", Usage: "give a worker another password, and end their sign-ins", ArgsUsage: "WORKER",
				Description: "The password is asked for, or read from the first line of standard input. With --none the worker can own " +
					"devices but not sign in.",
				Flags:  CentralFlags(&cli.BoolFlag{Name: "none", Usage: "take the password away"}),
				Action: setPassword},
			{Name: "disable", Usage: "shut a worker out: sign-ins and codes end, their devices get nothing", ArgsUsage: "WORKER",
				Flags: CentralFlags(deliver),
				Action: func(ctx context.Context, c *cli.Command) error {
					return doTo(http.MethodPost, "/v1/workers/%s/disabling?deliver="+fmt.Sprint(c.Bool("deliver")),
						"%s is disabled; homing workers enable takes this back.\n", "WORKER")(ctx, c)
				}},
			{Name: "enable", Usage: "let a worker in again who was disabled", ArgsUsage: "WORKER", Flags: CentralFlags(),
				Action: doTo(http.MethodDelete, "/v1/workers/%s/disabling", "%s may work with central again.\n", "WORKER")},
			{Name: "remove", Usage: "take an account away for good; records and history keep the name", ArgsUsage: "WORKER",
				Flags: CentralFlags(deliver, &cli.BoolFlag{Name: "yes", Usage: "do not ask"}),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "WORKER")
					if err != nil {
						return err
					}
					if !c.Bool("yes") {
						if !terminal.OnTerminal(os.Stdin) {
							return terminal.Usage(errors.New("nobody was removed; say --yes to remove without being asked"))
						}
						question := fmt.Sprintf("Remove %s for good? Nobody gets the name again. [y/N] ", args[0])
						if yes, err := terminal.Ask(c.Root().ErrWriter, os.Stdin, question); err != nil || !yes {
							return terminal.Coded(errors.New("nobody was removed"), terminal.ExitRefused)
						}
					}
					return doTo(http.MethodDelete, "/v1/workers/%s?deliver="+fmt.Sprint(c.Bool("deliver")),
						"%s is removed. Records and history keep the name.\n", "WORKER")(ctx, c)
				}},
			{Name: "admit", Usage: "let a worker in who was added while central was open to everybody", ArgsUsage: "WORKER",
				Flags: CentralFlags(), Action: doTo(http.MethodPost, "/v1/workers/%s/admission", "%s is let in.\n", "WORKER")},
		},
	}
}

var deliver = &cli.BoolFlag{Name: "deliver", Usage: "what their devices have queued still goes in"}

// doTo is the action of a command that does one thing to what its argument names. Path and done hold its place.
func doTo(method, path, done, what string) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		args, err := terminal.Arguments(c, what)
		if err != nil {
			return err
		}
		call, err := NewCaller(c)
		if err != nil {
			return err
		}
		if err := call.Send(ctx, method, fmt.Sprintf(path, url.PathEscape(args[0])), nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, done, args[0])
		return nil
	}
}

// stateOf is what is out of the ordinary about an account.
func stateOf(w central.Worker) string {
	switch {
	case w.RemovedAt != nil:
		return "removed"
	case w.DisabledAt != nil && w.MayDeliver:
		return "disabled, may deliver"
	case w.DisabledAt != nil:
		return "disabled"
	case w.WhileOpen:
		return "added while open, not let in"
	case !w.SignsIn:
		return "no password"
	}
	return ""
}

func setPassword(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "WORKER")
	if err != nil {
		return err
	}
	password := ""
	if !c.Bool("none") {
		if password, err = terminal.AskPassword(c.Root().ErrWriter, os.Stdin); err != nil {
			return err
		}
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	if err := call.Send(ctx, http.MethodPut, "/v1/workers/"+url.PathEscape(args[0])+"/password",
		map[string]any{"password": password}, nil); err != nil {
		return err
	}
	fmt.Fprintf(c.Root().Writer, "The password of %s is set; their sign-ins have ended.\n", args[0])
	return nil
}

// PasswordCommand is homing password.
func PasswordCommand() *cli.Command {
	return &cli.Command{
		Name:        "password",
		Usage:       "change your own password, and end your other sign-ins",
		Description: "The present password and the new one are asked for, or read from the first two lines of standard input.",
		Flags:       CentralFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			passwords, err := terminal.AskPasswords(c.Root().ErrWriter, os.Stdin, "Present password: ", "New password: ")
			if err != nil {
				return err
			}
			call, err := NewCaller(c)
			if err != nil {
				return err
			}
			if err := call.Send(ctx, http.MethodPut, "/v1/session/password",
				map[string]any{"present": passwords[0], "next": passwords[1]}, nil); err != nil {
				return err
			}
			fmt.Fprintln(c.Root().Writer, "Your password is changed; your other sign-ins have ended.")
			return nil
		},
	}
}

// SignInsCommand is homing sign-ins.
func SignInsCommand() *cli.Command {
	return &cli.Command{
		Name:        "sign-ins",
		Usage:       "see where people are signed in, and end it",
		Description: "You see your own; an admin sees all.",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list the sign-ins that hold", Flags: CentralFlags(terminal.JSON),
				Action: func(ctx context.Context, c *cli.Command) error {
					var all []people.SignedIn
					return list(ctx, c, "/v1/sign-ins", &all, func(w *terminal.Table) {
						*w = terminal.NewTable(c.Root().Writer, "ID", "WORKER", "FROM", "SINCE", "UNTIL", "PROGRAM")
						for _, one := range all {
							from := one.Address
							if one.Own {
								from += " (this one)"
							}
							w.Row(one.ID, one.Worker, from, terminal.When(one.CreatedAt), terminal.When(one.ExpiresAt),
								terminal.Shorten(one.Agent, 40))
						}
					})
				}},
			{Name: "end", Usage: "end a sign-in", ArgsUsage: "ID", Flags: CentralFlags(),
				Action: doTo(http.MethodDelete, "/v1/sign-ins/%s", "The sign-in %s has ended.\n", "ID")},
		},
	}
}

func listCodes(ctx context.Context, c *cli.Command) error {
	var all []people.Code
	return list(ctx, c, "/v1/codes", &all, func(w *terminal.Table) {
		*w = terminal.NewTable(c.Root().Writer, "ID", "FOR", "ISSUED BY", "SINCE", "UNTIL", "STATE")
		for _, one := range all {
			state := ""
			if one.WhileOpen {
				state = "issued while open"
			}
			w.Row(one.ID, one.Worker, one.IssuedBy, terminal.When(one.CreatedAt), terminal.When(one.ExpiresAt), state)
		}
	})
}

// AuditCommand is homing audit.
func AuditCommand() *cli.Command {
	return &cli.Command{
		Name:        "audit",
		Usage:       "see who did what to workers, sign-ins, codes and devices",
		Description: "The latest comes first. Nothing in the list can be altered through central.",
		Flags: CentralFlags(terminal.JSON, &cli.StringFlag{Name: "about",
			Usage: "only what a `WORKER`, or a device by its id, did or had done to them"},
			&cli.IntFlag{Name: "limit", Value: 50, Usage: "most lines, up to 1000"},
			&cli.Int64Flag{Name: "before", Usage: "only lines before this `PLACE`"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			var all []people.Done
			ask := url.Values{"about": {c.String("about")}, "limit": {fmt.Sprint(c.Int("limit"))},
				"before": {fmt.Sprint(c.Int64("before"))}}
			return list(ctx, c, "/v1/audit?"+ask.Encode(), &all, func(w *terminal.Table) {
				*w = terminal.NewTable(c.Root().Writer, "PLACE", "WHEN", "WHO", "FROM", "DID", "TO", "MORE")
				for _, one := range all {
					who, from := one.Worker, one.Address
					if who == "" {
						who, from = "(whoever runs central)", "-"
					}
					w.Row(one.Place, terminal.When(one.At), who, from, one.Act, one.About, terminal.Shorten(one.Detail, 50))
				}
			})
		},
	}
}

// list shows what lies at a path, as JSON or as the table that fill makes of it.
func list[T any](ctx context.Context, c *cli.Command, path string, all *[]T, fill func(*terminal.Table)) error {
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	if err := call.Get(ctx, path, all); err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.WriteJSON(c.Root().Writer, *all)
	}
	var t terminal.Table
	fill(&t)
	return t.Flush()
}

// isRole says in plain words what a role can be.
func isRole(text string) error {
	var names []string
	for _, role := range rights.Roles {
		names = append(names, string(role))
	}
	if slices.Contains(names, text) {
		return nil
	}
	return terminal.Coded(fmt.Errorf("%q is not a role; take %s%s", text, strings.Join(names, ", "), definition.Nearest(text, names)), terminal.ExitRefused)
}

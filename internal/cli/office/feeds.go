package office

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"homing/central/feeds"
	"homing/feed"
	"homing/internal/cli/terminal"
)

// FeedsCommand is homing feeds.
func FeedsCommand() *cli.Command {
	act := func(name, usage, does string) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "FEED", Flags: CentralFlags(terminal.JSON),
			Action: func(ctx context.Context, c *cli.Command) error { return actOnFeed(ctx, c, map[string]any{"act": does}) }}
	}
	return &cli.Command{
		Name:  "feeds",
		Usage: "bring what is accepted to other systems: addresses, files, tables",
		Description: `A feed is a file: which collections, which of their records, which fields under which names, and where to. First everything goes that
is there, then what comes; after a cut or a kill it goes on from where it was, and what comes twice carries the same id.

EXAMPLE
   printf %s "$SECRET" | homing feeds secret office-hook
   homing feeds define office.yaml
   homing feeds`,
		Flags: CentralFlags(terminal.JSON),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return terminal.Usage(fmt.Errorf("homing feeds has no command %q (see homing feeds --help)", c.Args().First()))
			}
			var all []feeds.Status
			return list(ctx, c, "/v1/feeds", &all, func(w *terminal.Table) { *w = feedTable(c.Root().Writer, all) })
		},
		Commands: []*cli.Command{
			{Name: "define", Usage: "keep feeds, new ones or in place of those of the same name", ArgsUsage: "FILE…", Flags: CentralFlags(terminal.JSON), Action: defineFeeds},
			act("pause", "let a feed rest", "pause"),
			act("go-on", "let a feed work again, or try at once what waits", "go on"),
			act("start-anew", "let a feed go over everything once more", "start anew"),
			{Name: "turn-back", Usage: "let a feed bring once more what has changed since a time", ArgsUsage: "FEED TIME", Flags: CentralFlags(terminal.JSON),
				Action: func(ctx context.Context, c *cli.Command) error {
					args, err := terminal.Arguments(c, "FEED", "TIME")
					if err != nil {
						return err
					}
					at, err := time.Parse(time.RFC3339, args[1])
					if err != nil {
						return terminal.Usage(fmt.Errorf("the time %q reads YEAR-MONTH-DAYTHOUR:MINUTE:SECONDZ, such as 2026-05-01T12:00:00Z", args[1]))
					}
					return turnFeed(ctx, c, args[0], map[string]any{"act": "turn back", "since": at})
				}},
			{Name: "aside", Usage: "see what a destination refused", ArgsUsage: "FEED", Flags: CentralFlags(terminal.JSON), Action: feedAside},
			{Name: "resend", Usage: "send again what was set aside", ArgsUsage: "FEED", Action: resendAside,
				Description: "A record goes as it is now; where each change goes, the change as it was.",
				Flags:       CentralFlags(&cli.Int64Flag{Name: "place", Usage: "only what stands at a `PLACE` of the list"})},
			{Name: "remove", Usage: "let go of a feed; what it has brought stays where it is", ArgsUsage: "FEED", Action: removeFeed,
				Flags: CentralFlags(&cli.BoolFlag{Name: "yes", Usage: "do not ask"})},
			{Name: "secret", Usage: "keep a secret of a destination, read from standard input; or list the names, or remove one", ArgsUsage: "[NAME]", Action: feedSecret,
				Flags: CentralFlags(terminal.JSON, &cli.BoolFlag{Name: "remove", Usage: "forget it"})},
			receiveCommand(),
		},
	}
}

// PrintFeeds writes how far feeds are, as a table.
func PrintFeeds(w io.Writer, all []feeds.Status) error {
	table := feedTable(w, all)
	return table.Flush()
}

func feedTable(w io.Writer, all []feeds.Status) terminal.Table {
	table := terminal.NewTable(w, "FEED", "TO", "STATE", "BEHIND", "BROUGHT", "A MINUTE", "LAST", "ASIDE", "WHAT IS WRONG")
	for _, one := range all {
		last := "-"
		if one.DeliveredAt != nil {
			last = terminal.When(*one.DeliveredAt)
		}
		table.Row(one.Name, destinationOf(one.Feed), one.State, one.Lag, one.Delivered, one.Rate, last, one.Aside, terminal.Shorten(one.Error, 90))
	}
	return table
}

func destinationOf(f feed.Feed) string {
	switch {
	case f.To.Hook != nil:
		return terminal.Shorten(f.To.Hook.URL, 40)
	case f.To.Files != nil:
		return f.To.Files.Form + " in " + f.To.Files.Folder
	case f.To.Tables != nil:
		if f.EachChange() {
			return "changes in " + f.To.Tables.SchemaName() + " of " + f.To.Tables.Database
		}
		return f.To.Tables.SchemaName() + " of " + f.To.Tables.Database
	}
	return "-"
}

func defineFeeds(ctx context.Context, c *cli.Command) error {
	files := c.Args().Slice()
	if len(files) == 0 {
		return terminal.Usage(errors.New("homing feeds define needs at least one FILE"))
	}
	var all []feed.Feed
	var wrong []error
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err == nil {
			var f feed.Feed
			if f, err = feed.Read(file, text); err == nil {
				all = append(all, f)
			}
		}
		wrong = append(wrong, err)
	}
	if err := errors.Join(wrong...); err != nil {
		return terminal.Coded(fmt.Errorf("nothing was changed:\n%w", err), terminal.ExitRefused)
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	var got []feeds.Status
	if err := call.Send(ctx, http.MethodPut, "/v1/feeds", map[string]any{"feeds": all}, &got); err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.WriteJSON(c.Root().Writer, got)
	}
	table := feedTable(c.Root().Writer, got)
	return table.Flush()
}

func actOnFeed(ctx context.Context, c *cli.Command, body map[string]any) error {
	args, err := terminal.Arguments(c, "FEED")
	if err != nil {
		return err
	}
	return turnFeed(ctx, c, args[0], body)
}

func turnFeed(ctx context.Context, c *cli.Command, name string, body map[string]any) error {
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	var got feeds.Status
	if err := call.Send(ctx, http.MethodPost, "/v1/feeds/"+url.PathEscape(name)+"/acts", body, &got); err != nil {
		return err
	}
	if c.Bool("json") {
		return terminal.WriteJSON(c.Root().Writer, got)
	}
	table := feedTable(c.Root().Writer, []feeds.Status{got})
	return table.Flush()
}

func feedAside(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "FEED")
	if err != nil {
		return err
	}
	var all []feeds.Aside
	return list(ctx, c, "/v1/feeds/"+url.PathEscape(args[0])+"/aside?limit=1000", &all, func(w *terminal.Table) {
		*w = terminal.NewTable(c.Root().Writer, "PLACE", "WHEN", "COLLECTION", "RECORD", "REVISION", "WHY")
		for _, one := range all {
			why := one.Reason
			if one.Again {
				why = "is sent again; was refused: " + why
			}
			w.Row(one.Place, terminal.When(one.At), one.Collection, one.Record, one.Revision, terminal.Shorten(why, 100))
		}
	})
}

func resendAside(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "FEED")
	if err != nil {
		return err
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	var got struct{ Again int }
	if err := call.Send(ctx, http.MethodPost, "/v1/feeds/"+url.PathEscape(args[0])+"/aside", map[string]any{"place": c.Int64("place")}, &got); err != nil {
		return err
	}
	fmt.Fprintf(c.Root().Writer, "%s sent again.\n", terminal.Count(got.Again, "record"))
	return nil
}

func removeFeed(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "FEED")
	if err != nil {
		return err
	}
	if !c.Bool("yes") {
		return terminal.Usage(fmt.Errorf("removing %s forgets how far it is: one of the same name would begin anew. Say --yes, or pause it", args[0]))
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	if err := call.Send(ctx, http.MethodDelete, "/v1/feeds/"+url.PathEscape(args[0]), nil, nil); err != nil {
		return err
	}
	fmt.Fprintf(c.Root().Writer, "%s is gone; what it has brought stays where it is.\n", args[0])
	return nil
}

func feedSecret(ctx context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		var all []feeds.Secret
		return list(ctx, c, "/v1/feed-secrets", &all, func(w *terminal.Table) {
			*w = terminal.NewTable(c.Root().Writer, "SECRET", "SET BY", "WHEN")
			for _, one := range all {
				w.Row(one.Name, one.SetBy, terminal.When(one.SetAt))
			}
		})
	}
	args, err := terminal.Arguments(c, "NAME")
	if err != nil {
		return err
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	path := "/v1/feed-secrets/" + url.PathEscape(args[0])
	if c.Bool("remove") {
		if err := call.Send(ctx, http.MethodDelete, path, nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "The secret %s is forgotten.\n", args[0])
		return nil
	}
	text, err := bufio.NewReader(io.LimitReader(c.Root().Reader, 1<<16)).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	value := strings.TrimRight(text, "\r\n")
	if value == "" {
		return terminal.Usage(errors.New("a secret is read from the first line of standard input, such as: printf %s \"$SECRET\" | homing feeds secret NAME"))
	}
	if err := call.Send(ctx, http.MethodPut, path, map[string]string{"value": value}, nil); err != nil {
		return err
	}
	fmt.Fprintf(c.Root().Writer, "The secret %s is kept; nobody is shown it again.\n", args[0])
	return nil
}

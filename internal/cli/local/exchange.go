package local

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"homing/device"
	"homing/internal/cli/office"
	"homing/internal/cli/terminal"
	"homing/link"
	"homing/wire"
)

func exchangeWith(run func(*device.Store, context.Context,
	func(device.Progress)) (device.Summary, error)) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		return withStore(ctx, c, func(store *device.Store) error {
			line := terminal.NewProgressLine(c.Root().ErrWriter)
			summary, err := run(store, ctx, func(p device.Progress) { line.Show(progressText(p)) })
			line.Done()
			if err != nil {
				return explainExchange(ctx, store, err)
			}
			w := c.Root().Writer
			if c.Bool("json") {
				if err := terminal.WriteJSON(w, summary); err != nil {
					return err
				}
			} else {
				printSummary(w, summary)
			}
			if summary.Refused+summary.Waiting > 0 {
				return terminal.Coded(fmt.Errorf("%s refused, %d waiting; they stay on this device, and homing local review shows "+
					"why", terminal.Count(summary.Refused, "change"), summary.Waiting), terminal.ExitRefused)
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
			return terminal.Usage(errors.New("--hold-back goes with --every; an exchange that you ask for runs on any link"))
		}
		return exchangeWith((*device.Store).Exchange)(ctx, c)
	}
	const shortest = time.Second
	if span < shortest {
		return terminal.Usage(fmt.Errorf("--every %s: take %s or more", span, shortest))
	}
	return withStore(ctx, c, func(store *device.Store) error {
		w := c.Root().Writer
		fmt.Fprintf(c.Root().ErrWriter, "Exchanging every %s, the first time within that span; Ctrl-C ends it.\n", span)
		return store.Repeat(ctx, span, c.Bool("hold-back"), func(summary device.Summary, err error) {
			switch {
			case err != nil:
				fmt.Fprintf(c.Root().ErrWriter, "%s  %v\n", terminal.When(time.Now()), err)
			case c.Bool("json"):
				if err := terminal.WriteJSON(w, summary); err != nil {
					fmt.Fprintln(c.Root().ErrWriter, err)
				}
			default:
				fmt.Fprintf(w, "%s  ", terminal.When(time.Now()))
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
		done := min(p.Done, p.Total) // what changes meanwhile comes on top
		return fmt.Sprintf("loading %s: %d of %d (%d%%)", p.Collection, done, p.Total, 100*done/p.Total)
	}
	return fmt.Sprintf("receiving %s: %d", p.Collection, p.Done)
}

func printSummary(w io.Writer, s device.Summary) {
	fmt.Fprintf(w, "Sent %d: %d applied, %d merged, %d held, %d refused, %d waiting. Received %d, of them %d "+
		"removals.\n", s.Sent, s.Applied, s.Merged, s.Held, s.Refused, s.Waiting, s.Received, s.Removed)
	if s.Copied {
		fmt.Fprintln(w, "Another store has used the same numbers: one is a copy of the other. This one goes on under an "+
			"identity of its own, and has sent again what was refused for that.")
	}
	if s.Withdrawn > 0 {
		fmt.Fprintf(w, "Dropped %s that this worker no longer covers.\n", terminal.Count(s.Withdrawn, "record"))
	}
	fmt.Fprintf(w, "%s up, %s down without headers, %s.\n", terminal.Size(s.BytesUp), terminal.Size(s.BytesDown), s.Took.Round(time.Millisecond))
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
	var problem *link.Problem
	if errors.Is(err, device.ErrRevoked) || errors.As(err, &problem) && problem.Type == wire.ProblemRevoked {
		return fmt.Errorf("%w\nThe outbox keeps what is unsent (%s) until an admin lets the device in again, or lets it deliver", err,
			terminal.Count(status.Unsent+status.Waiting, "change"))
	}
	return fmt.Errorf("%w\nThe outbox keeps what is unsent (%s); exchange again later", err,
		terminal.Count(status.Unsent+status.Waiting, "change"))
}

func localLog(ctx context.Context, c *cli.Command) error {
	limit := c.Int("limit")
	if limit < 1 {
		return terminal.Usage(fmt.Errorf("--limit %d: take 1 or more", limit))
	}
	return withStore(ctx, c, func(store *device.Store) error {
		if c.Args().Present() {
			return localLogOne(ctx, c, store)
		}
		all, err := store.Log(ctx, limit)
		if err != nil {
			return err
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return terminal.WriteJSON(w, all)
		}
		if len(all) == 0 {
			fmt.Fprintln(w, "No exchange yet: homing local exchange")
			return nil
		}
		t := terminal.NewTable(w, "N", "STARTED", "BY", "TOOK", "SENT", "APPLIED", "MERGED", "HELD", "REFUSED", "WAITING",
			"RECEIVED", "WITHDRAWN", "UP", "DOWN", "")
		for n, one := range all {
			s := one.Summary
			t.Row(n+1, terminal.When(one.StartedAt), s.Started, s.Took.Round(time.Millisecond), s.Sent, s.Applied, s.Merged, s.Held,
				s.Refused, s.Waiting, s.Received, s.Withdrawn, terminal.Size(s.BytesUp), terminal.Size(s.BytesDown), terminal.Shorten(one.Error, 60))
		}
		return t.Flush()
	})
}

// localLogOne shows what one exchange carried.
func localLogOne(ctx context.Context, c *cli.Command, store *device.Store) error {
	n, err := strconv.Atoi(c.Args().First())
	if err != nil || n < 1 {
		return terminal.Usage(fmt.Errorf("%q is not the number of an exchange in homing local log", c.Args().First()))
	}
	all, err := store.Log(ctx, n)
	if err != nil {
		return err
	}
	if n > len(all) {
		return terminal.Coded(fmt.Errorf("the log holds %s", terminal.Count(len(all), "exchange")), terminal.ExitNotFound)
	}
	carried, err := store.Carried(ctx, all[n-1].Summary.Exchange)
	if err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		return terminal.WriteJSON(w, map[string]any{"exchange": all[n-1], "carried": carried})
	}
	printSummary(w, all[n-1].Summary)
	switch did := all[n-1].Summary; {
	case len(carried) > 0:
	case did.Sent+did.Received+did.Withdrawn == 0:
		fmt.Fprintln(w, "It carried no change and no record.")
		return nil
	default:
		fmt.Fprintln(w, "What it carried is not kept: the records of a first load are not, and everything else for 30 days.")
		return nil
	}
	t := terminal.NewTable(w, "WAY", "NO", "COLLECTION", "RECORD", "WHAT", "ANSWER", "REV", "FIELD", "FROM → TO")
	for _, one := range carried {
		way, number := "down", ""
		if one.Up {
			way, number = "up", fmt.Sprint(one.Number)
		}
		first := []any{way, number, one.Collection, office.Named(one.Label, one.Record), one.What, one.Answer, one.Revision}
		for _, line := range office.CarriedLines(one.Up, one.Fields) {
			t.Row(append(first, line[0], line[1])...)
			first = []any{"", "", "", "", "", "", ""}
		}
		if first[0] != "" {
			t.Row(first...)
		}
	}
	return t.Flush()
}

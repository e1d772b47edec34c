package office

import (
	"context"
	"fmt"
	"io"
	"net/url"

	"github.com/urfave/cli/v3"

	"homing/central/past"
	"homing/core/change"
	"homing/internal/cli/terminal"
)

// FollowUpsCommand is homing follow-ups.
func FollowUpsCommand() *cli.Command {
	return &cli.Command{
		Name:  "follow-ups",
		Usage: "see what central did by itself after changes",
		Description: `Definitions say what follows a change (follow_ups). Without options, it says how often each follow-up came to what; with --lines, change by
change, the latest first. What they did stands in the history of the records as well, under their names.

OUTCOMES
   done       it did what it says
   nothing    all was as it was to be
   refused    it could not be worked out, or the record's own rules do not allow it; the change that it followed stands
   stopped    a chain of follow-ups got as long as their depth lets it`,
		Flags: CentralFlags(terminal.JSON, &cli.BoolFlag{Name: "lines", Usage: "change by change"},
			&cli.StringFlag{Name: "rule", Usage: "only lines of the follow-up `NAME`"},
			&cli.StringFlag{Name: "collection", Usage: "only lines of the follow-ups of a `COLLECTION`"},
			&cli.StringFlag{Name: "outcome", Usage: "only lines with done, nothing, refused or stopped"},
			&cli.IntFlag{Name: "limit", Value: 50, Usage: "most lines, up to 1000"},
			&cli.Int64Flag{Name: "before", Usage: "only lines before this `PLACE`"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			asksLines := false
			for _, name := range []string{"lines", "rule", "collection", "outcome", "limit", "before"} {
				asksLines = asksLines || c.IsSet(name)
			}
			if !asksLines {
				var counts []past.FollowedCount
				return list(ctx, c, "/v1/follow-ups/counts", &counts, func(w *terminal.Table) {
					*w = terminal.NewTable(c.Root().Writer, "COLLECTION", "FOLLOW-UP", "OUTCOME", "TIMES", "LAST")
					for _, one := range counts {
						w.Row(one.Collection, one.Rule, one.Outcome, one.Times, terminal.When(one.Last))
					}
				})
			}
			ask := url.Values{"collection": {c.String("collection")}, "rule": {c.String("rule")}, "limit": {fmt.Sprint(c.Int("limit"))},
				"before": {fmt.Sprint(c.Int64("before"))}}
			if outcome := c.String("outcome"); outcome != "" {
				ask.Set("outcome", outcome)
			}
			var lines []past.FollowedLine
			return list(ctx, c, "/v1/follow-ups?"+ask.Encode(), &lines, func(w *terminal.Table) { *w = tableOf(c.Root().Writer, lines) })
		},
	}
}

// PrintFollowed writes what became of follow-ups as a table.
func PrintFollowed(w io.Writer, lines []past.FollowedLine) error {
	table := tableOf(w, lines)
	return table.Flush()
}

func tableOf(w io.Writer, lines []past.FollowedLine) terminal.Table {
	table := terminal.NewTable(w, "PLACE", "WHEN", "FOLLOW-UP", "AFTER", "OUTCOME", "WHAT")
	acts := map[change.Kind]string{change.Add: "added to", change.Edit: "changed in", change.Remove: "removed from"}
	for _, one := range lines {
		what := "-"
		if one.Target != "" {
			what = acts[one.Kind] + " " + one.Target
		}
		if len(one.Reasons) > 0 {
			what = terminal.Shorten(one.Reasons[0].Message, 100)
		}
		table.Row(one.Place, terminal.When(one.At), one.Collection+"."+one.Rule, fmt.Sprintf("%s at revision %d", one.Record, one.Revision),
			one.Outcome, what)
	}
	return table
}

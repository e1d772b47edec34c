package office

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"homing/core/coverage"
	"homing/internal/cli/terminal"
	"homing/sheet"
	"homing/wire"
)

// CoverageFlags say which part of a grid is wanted, and how it is written.
func CoverageFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "from", Usage: "the first `PERIOD`, such as 2026-W40 or last month; the last eight are shown when left out"},
		&cli.StringFlag{Name: "until", Usage: "the last `PERIOD`"},
		&cli.StringFlag{Name: "state", Usage: "only places with a cell that is " + strings.Join(coverage.States, ", ") + "; owed is missing or begun"},
		&cli.StringFlag{Name: "search", Usage: "only places called so, or in part"},
		&cli.BoolFlag{Name: "owed", Usage: "list what is missing or begun, one a line, to hand out"},
		&cli.BoolFlag{Name: "csv", Usage: "with --owed: as CSV"},
		&cli.IntFlag{Name: "limit", Value: 100, Usage: fmt.Sprintf("places of a page, at most %d; --csv has all when left out", coverage.MostPlaces)},
		&cli.IntFlag{Name: "offset", Usage: "places to skip"},
		terminal.JSON,
	}
}

// CoverageCommand is homing coverage.
func CoverageCommand() *cli.Command {
	return &cli.Command{
		Name:      "coverage",
		Usage:     "see which places have reported for which periods",
		ArgsUsage: "COLLECTION",
		Description: `A definition says under coverage that there is one record for each place and period, and which are expected. A cell is missing, begun or complete;
a ! behind it says that it is late, or was completed late. With --by, the sums are shown in place of the places.`,
		Flags: CentralFlags(append(CoverageFlags(),
			&cli.StringFlag{Name: "territory", Usage: "only places that fall into this territory"},
			&cli.StringFlag{Name: "worker", Usage: "only places that the territories of this `WORKER` cover"},
			&cli.StringFlag{Name: "by", Usage: "sums by period, territory or worker"})...),
		Action: showCoverage,
	}
}

func showCoverage(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "COLLECTION")
	if err != nil {
		return err
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	ask := url.Values{"today": {time.Now().Format(time.RFC3339)}}
	for _, name := range []string{"from", "until", "state", "search", "territory", "worker"} {
		if c.String(name) != "" {
			ask.Set(name, c.String(name))
		}
	}
	if c.Bool("owed") && c.String("state") == "" {
		ask.Set("state", "owed")
	}
	grid, err := CoverageOf(c, func(limit, offset int) (grid coverage.Grid, err error) {
		ask.Set("limit", strconv.Itoa(limit))
		ask.Set("offset", strconv.Itoa(offset))
		err = call.Get(ctx, "/v1/coverage/"+url.PathEscape(args[0])+"?"+ask.Encode(), &grid)
		return grid, err
	})
	if err != nil {
		return err
	}
	if by := c.String("by"); by != "" && !c.Bool("json") {
		return printSums(c.Root().Writer, by, grid)
	}
	return PrintCoverage(c, grid)
}

// CoverageOf is the page of a grid that the flags ask for. A CSV file has all places, unless a limit is said: nobody sees in it that there are more.
func CoverageOf(c *cli.Command, page func(limit, offset int) (coverage.Grid, error)) (coverage.Grid, error) {
	if !c.Bool("csv") || c.IsSet("limit") {
		return page(c.Int("limit"), c.Int("offset"))
	}
	grid, err := page(coverage.MostPlaces, c.Int("offset"))
	for err == nil && c.Int("offset")+len(grid.Places) < grid.Total {
		var more coverage.Grid
		more, err = page(coverage.MostPlaces, c.Int("offset")+len(grid.Places))
		if len(more.Places) == 0 {
			break // places went meanwhile
		}
		grid.Places = append(grid.Places, more.Places...)
	}
	return grid, err
}

// PrintCoverage writes a grid as the flags ask for it.
func PrintCoverage(c *cli.Command, g coverage.Grid) error {
	w := c.Root().Writer
	switch {
	case c.Bool("json"):
		return terminal.WriteJSON(w, g)
	case c.Bool("csv") && !c.Bool("owed"):
		return terminal.Usage(fmt.Errorf("--csv goes with --owed"))
	case c.Bool("owed"):
		return printOwed(w, c.Bool("csv"), g)
	}
	headings := []string{"PLACE"}
	for _, one := range g.Periods {
		headings = append(headings, one.Period)
	}
	t := terminal.NewTable(w, headings...)
	for _, row := range g.Places {
		cells := []any{row.Label}
		for _, one := range row.Cells {
			cells = append(cells, cellText(one))
		}
		t.Row(cells...)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	pageOfPlaces(w, g)
	fmt.Fprintln(w, SaySums(g.Sums))
	return nil
}

func cellText(c *coverage.Cell) string {
	if c == nil {
		return "-"
	}
	text := string(c.State)
	if c.Late {
		text += "!"
	}
	return text
}

// SaySums says sums in a sentence.
func SaySums(s coverage.Sums) string {
	if s.Expected == 0 {
		return "Nothing is expected in these periods."
	}
	text := fmt.Sprintf("%d of %d complete (%d%%), %d begun, %d missing", s.Complete, s.Expected, s.Complete*100/s.Expected, s.Begun, s.Missing)
	if s.Late > 0 {
		text += fmt.Sprintf("; %d of these late", s.Late)
	}
	switch s.CompletedLate {
	case 0:
	case 1:
		text += "; one was completed late"
	default:
		text += fmt.Sprintf("; %d were completed late", s.CompletedLate)
	}
	return text + "."
}

// printOwed lists what is missing or begun.
func printOwed(w io.Writer, asCSV bool, g coverage.Grid) error {
	var lines [][]string
	for n, column := range g.Periods {
		for _, row := range g.Places {
			if one := row.Cells[n]; one.Owed() {
				lines = append(lines, []string{row.Label, column.Period, column.Said, column.Due, cellText(one), strings.Join(row.Territories, " ")})
			}
		}
	}
	if asCSV {
		for _, line := range lines {
			for n := range line {
				line[n] = sheet.Guard(line[n])
			}
		}
		out := csv.NewWriter(w)
		if err := out.Write([]string{"place", "period", "said", "due", "state", "territories"}); err != nil {
			return err
		}
		return out.WriteAll(lines)
	}
	t := terminal.NewTable(w, "PLACE", "PERIOD", "", "DUE", "STATE", "TERRITORY")
	for _, line := range lines {
		t.Row(line[0], line[1], line[2], line[3], line[4], line[5])
	}
	if err := t.Flush(); err != nil {
		return err
	}
	pageOfPlaces(w, g)
	return nil
}

func pageOfPlaces(w io.Writer, g coverage.Grid) {
	switch {
	case g.Total == 0:
		fmt.Fprintln(w, "No places.")
	case len(g.Places) < g.Total:
		fmt.Fprintf(w, "%d of %s; --limit and --offset give others.\n", len(g.Places), terminal.Count(g.Total, "place"))
	default:
		fmt.Fprintln(w, terminal.Count(g.Total, "place"))
	}
}

func printSums(w io.Writer, by string, g coverage.Grid) error {
	headings := []string{strings.ToUpper(by), "EXPECTED", "COMPLETE", "BEGUN", "MISSING", "LATE", "COMPLETED LATE"}
	cells := func(name string, s coverage.Sums) []any {
		return []any{name, s.Expected, s.Complete, s.Begun, s.Missing, s.Late, s.CompletedLate}
	}
	switch by {
	case "period":
		t := terminal.NewTable(w, append(headings, "DUE")...)
		for _, one := range g.Periods {
			t.Row(append(cells(one.Period, one.Sums), one.Due)...)
		}
		return t.Flush()
	case "territory":
		t := terminal.NewTable(w, headings...)
		for _, name := range slices.Sorted(maps.Keys(g.Territories)) {
			t.Row(cells(name, g.Territories[name])...)
		}
		return t.Flush()
	case "worker":
		t := terminal.NewTable(w, append(headings, "MARKED")...)
		for _, name := range slices.Sorted(maps.Keys(g.Workers)) {
			t.Row(append(cells(name, g.Workers[name].Sums), g.Workers[name].Marked)...)
		}
		return t.Flush()
	}
	return terminal.Usage(fmt.Errorf("there are no sums by %q: take period, territory or worker", by))
}

// markCommand is homing records complete, or open.
func markCommand(name, usage, method string) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, ArgsUsage: "COLLECTION RECORD", Flags: CentralFlags(terminal.JSON),
		Action: func(ctx context.Context, c *cli.Command) error {
			call, d, id, err := target(ctx, c)
			if err != nil {
				return err
			}
			var answer wire.Answer
			if err := call.Send(ctx, method, "/v1/complete/"+url.PathEscape(d.Definition.Collection)+"/"+id.String(), nil, &answer); err != nil {
				return err
			}
			if c.Bool("json") {
				return terminal.WriteJSON(c.Root().Writer, answer)
			}
			done := map[string]string{http.MethodPut: "Marked complete", http.MethodDelete: "Opened again"}[method]
			fmt.Fprintf(c.Root().Writer, "%s: %s %s, at revision %d.\n", done, d.Definition.Collection, id, answer.Revision)
			return nil
		}}
}

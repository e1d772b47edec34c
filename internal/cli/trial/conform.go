package trial

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"homing/conformance"
	"homing/conformance/driver"
	"homing/conformance/proof"
	"homing/internal/cli/terminal"
	"homing/rehearse"
)

// ConformCommand is homing conform.
func ConformCommand() *cli.Command {
	return &cli.Command{
		Name:  "conform",
		Usage: "let a device in any language prove itself",
		Description: `A program that speaks the line protocol of docs/conformance.md is driven: it works out the vectors, is put into one situation after the other, and
works in simulated fleets beside devices of our own, while requests are lost, repeated and cut, devices killed and restored, clocks turned. What does not hold
is told with the shortest story that was found. Nothing is asked of any central.

EXAMPLES
   homing conform --driver "homing drive"                our own device
   homing conform --driver "node driver.js" --seeds 50
   homing conform --driver ./driver --part vectors --only merge
   homing conform --driver ./driver --part situations --only "an answer that is lost"`,
		Flags: []cli.Flag{terminal.JSON,
			&cli.StringFlag{Name: "driver", Usage: "the program: its `COMMAND` and arguments, with blanks between them", Required: true},
			&cli.StringSliceFlag{Name: "part", Usage: "prove this `PART` alone: " + strings.Join(proof.Parts, ", ") + "; may be given several times"},
			&cli.StringFlag{Name: "only", Usage: "one situation or one file of vectors, by its `NAME`"},
			&cli.Uint64Flag{Name: "seed", Value: 1, Usage: "`SEED` of the first fleet"},
			&cli.IntFlag{Name: "seeds", Value: 20, Usage: "how many fleets"},
			&cli.BoolFlag{Name: "plain", Usage: "fleets in which each device has one worker, and no store is asked to erase itself"},
			&cli.DurationFlag{Name: "patience", Usage: "how long the program may take over one thing; a minute when left out"}},
		Action: conform,
	}
}

func conform(ctx context.Context, c *cli.Command) error {
	o := proof.Options{Driver: driver.Command{Args: strings.Fields(c.String("driver")), Patience: c.Duration("patience")},
		Parts: c.StringSlice("part"), Only: c.String("only"), Plain: c.Bool("plain"), First: c.Uint64("seed"), Seeds: c.Int("seeds")}
	for _, part := range o.Parts {
		if !slices.Contains(proof.Parts, part) {
			return terminal.Usage(fmt.Errorf("--part %q: take %s", part, strings.Join(proof.Parts, ", ")))
		}
	}
	names := conformance.Names()
	for _, one := range rehearse.Situations {
		names = append(names, one.Name)
	}
	if o.Only != "" && !slices.Contains(names, o.Only) {
		return terminal.Usage(fmt.Errorf("--only %q: take one of %s", o.Only, strings.Join(names, "; ")))
	}
	if len(o.Driver.Args) == 0 || o.Seeds < 1 || o.Driver.Patience < 0 {
		return terminal.Usage(errors.New("name the program that is driven, and take 1 seed or more"))
	}
	line := terminal.NewProgressLine(c.Root().ErrWriter)
	done := 0
	o.Tell = func(r proof.Result) {
		done++
		line.Show(fmt.Sprintf("%d proved, the last of them: %s", done, r.Name))
	}
	results, err := proof.Run(ctx, o)
	line.Done()
	if err != nil {
		return err
	}
	w := c.Root().Writer
	if c.Bool("json") {
		err = terminal.WriteJSON(w, results)
	} else {
		err = printProof(w, results)
	}
	if err != nil {
		return err
	}
	if failed := slices.DeleteFunc(results, proof.Result.Holds); len(failed) > 0 {
		return terminal.Coded(fmt.Errorf("%s not hold, the first: %s", doesNot(len(failed)), failed[0].Name), terminal.ExitRefused)
	}
	return nil
}

func doesNot(n int) string {
	if n == 1 {
		return "1 of these does"
	}
	return fmt.Sprintf("%d of these do", n)
}

// printProof writes what held, and behind it what did not, with its story.
func printProof(w io.Writer, results []proof.Result) error {
	t := terminal.NewTable(w, "PART", "WHAT", "HOLDS", "")
	for _, r := range results {
		holds, note := "yes", ""
		switch {
		case r.Left:
			holds, note = "no", "the program does not do this"
		case !r.Holds():
			holds = "no"
		}
		if r.Cases > 1 {
			note = strings.TrimSpace(fmt.Sprintf("%d of %d %s", r.Held, r.Cases, note))
		}
		t.Row(r.Part, r.Name, holds, note)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	for _, r := range results {
		if r.Holds() || r.Left {
			continue
		}
		fmt.Fprintf(w, "\n%s, %s:\n", r.Part, r.Name)
		for _, why := range r.Wrong {
			fmt.Fprintf(w, "  %s\n", why)
		}
		if len(r.Story) > 0 {
			fmt.Fprintf(w, "The story:\n  %s\n", strings.Join(r.Story, "\n  "))
		}
	}
	return nil
}

package trial

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"homing/cluster"
	"homing/core/definition"
	"homing/internal/cli/office"
	"homing/internal/cli/terminal"
	"homing/internal/stretch"
	"homing/rehearse"
)

// RehearseCommand is homing rehearse.
func RehearseCommand() *cli.Command {
	return &cli.Command{
		Name:      "rehearse",
		Usage:     "let a simulated fleet work with your definitions, and see what would be merged and held",
		ArgsUsage: "[DEFINITION …]",
		Description: `Nothing is asked of any central: devices, clocks and network are simulated, and values are made up. Requests are lost, repeated and cut, devices are
killed and restored, clocks turned; at the end every promise is held against a ledger of all that the workers have saved. A seed always
gives the same run. Without definitions, random ones are rehearsed.

Central's tables are simulated, too, so that a run takes a fraction of a second. With --postgresql all of central is real, on a PostgreSQL that
is started for it and thrown away; its own ids are then new each time, so that stories may differ in small things.

EXAMPLES
   homing rehearse trails.yaml structures.yaml
   homing rehearse --calm --steps 200 structures.yaml
   homing rehearse --postgresql --seeds 5 structures.yaml
   homing rehearse --seed 17 --story structures.yaml`,
		Flags: []cli.Flag{terminal.JSON,
			&cli.Uint64Flag{Name: "seed", Value: 1, Usage: "first `SEED`"},
			&cli.IntFlag{Name: "seeds", Value: 20, Usage: "how many seeds, one after the other"},
			&cli.IntFlag{Name: "devices", Usage: "how many devices; 2 to 4 when left out"},
			&cli.IntFlag{Name: "steps", Usage: "how much is done in each run; 20 for each collection when left out"},
			&cli.BoolFlag{Name: "calm", Usage: "nothing goes wrong but that signal is rare"},
			&cli.BoolFlag{Name: "postgresql", Usage: "let the real central work, on a PostgreSQL that is started for this"},
			&cli.StringFlag{Name: "bug", Usage: "make a mistake on purpose, to see it noticed: " + bugNames()},
			&cli.BoolFlag{Name: "story", Usage: "tell what happens, step by step; of one seed"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			definitions, err := office.ReadDefinitions(c.Args().Slice())
			if c.Args().Len() == 0 {
				definitions, err = nil, nil
			}
			if err != nil {
				return err
			}
			if bug := c.String("bug"); bug != "" && !slices.Contains(rehearse.Bugs, rehearse.Bug(bug)) {
				return terminal.Usage(fmt.Errorf("--bug %q: take %s", bug, bugNames()))
			}
			if c.Int("seeds") < 1 || c.Int("steps") < 0 || c.Int("devices") < 0 || c.Int("devices") > 20 {
				return terminal.Usage(errors.New("take 1 seed or more, no negative numbers, and at most 20 devices"))
			}
			r := rehearsal{options: rehearse.Options{Definitions: definitions, Devices: c.Int("devices"),
				Steps: c.Int("steps"), Calm: c.Bool("calm"), Bug: rehearse.Bug(c.String("bug"))},
				definitions: definitions, answers: map[string]int{}, refused: map[string]int{},
				decisions: map[rehearse.Decided]int{}}
			if c.Bool("story") {
				r.options.Watch = c.Root().Writer
			}
			if c.Bool("postgresql") {
				if bug := r.options.Bug; bug != rehearse.NoBug && bug != rehearse.ClonedNumbers {
					return terminal.Usage(fmt.Errorf("--bug %s is a mistake of a simulated central; leave --postgresql out", bug))
				}
				stop, err := r.startPostgreSQL(ctx)
				if err != nil {
					return err
				}
				defer stop()
			}
			stretch.Simulate() // this program has no stores but those of workers who are made up
			line := terminal.NewProgressLine(c.Root().ErrWriter)
			if err := r.run(ctx, c.Uint64("seed"), c.Int("seeds"), line); err != nil {
				return err
			}
			line.Done()
			w := c.Root().Writer
			if c.Bool("json") {
				if err := terminal.WriteJSON(w, r.reports); err != nil {
					return err
				}
			} else if err := r.print(w); err != nil {
				return err
			}
			if len(r.wrong) > 0 {
				return terminal.Coded(fmt.Errorf("%s went wrong, the first of them %d", terminal.Count(len(r.wrong), "seed"), r.wrong[0].Seed),
					terminal.ExitRefused)
			}
			return nil
		},
	}
}

func bugNames() string {
	names := make([]string, len(rehearse.Bugs))
	for n, bug := range rehearse.Bugs {
		names[n] = string(bug)
	}
	return strings.Join(names, ", ")
}

// rehearsal sums up many runs.
type rehearsal struct {
	options     rehearse.Options
	definitions []definition.Definition
	postgresql  *cluster.Cluster // nil for tables in memory

	mu        sync.Mutex
	reports   []rehearse.Report // guarded by mu, as all that follows
	wrong     []rehearse.Report
	answers   map[string]int
	refused   map[string]int
	decisions map[rehearse.Decided]int
}

func (r *rehearsal) run(ctx context.Context, first uint64, seeds int, line *terminal.ProgressLine) error {
	next := make(chan uint64)
	var all sync.WaitGroup
	var failed error
	workers := runtime.NumCPU()
	if r.options.Watch != nil {
		workers = 1 // stories are told one after the other
	}
	for range workers {
		all.Go(func() {
			for seed := range next {
				report, err := r.one(ctx, seed)
				r.mu.Lock()
				if err != nil && failed == nil {
					failed = err
				}
				r.reports = append(r.reports, report)
				line.Show(fmt.Sprintf("rehearsed %d of %d", len(r.reports), seeds))
				r.mu.Unlock()
			}
		})
	}
	for n := range uint64(seeds) {
		if ctx.Err() != nil {
			break
		}
		next <- first + n
	}
	close(next)
	all.Wait()
	if failed != nil || ctx.Err() != nil {
		return errors.Join(failed, ctx.Err())
	}
	slices.SortFunc(r.reports, func(a, b rehearse.Report) int { return int(int64(a.Seed) - int64(b.Seed)) })
	for _, report := range r.reports {
		if len(report.Wrong) > 0 {
			r.wrong = append(r.wrong, report)
		}
		for name, n := range report.Answers {
			r.answers[name] += n
		}
		for name, n := range report.Refused {
			r.refused[name] += n
		}
		for _, d := range report.Decisions {
			r.decisions[rehearse.Decided{Collection: d.Collection, Field: d.Field, Rule: d.Rule}] += d.Count
		}
	}
	return nil
}

// one rehearses one seed, on a database of its own where there is PostgreSQL.
func (r *rehearsal) one(ctx context.Context, seed uint64) (report rehearse.Report, err error) {
	options := r.options
	options.Seed = seed
	if r.postgresql != nil {
		name := fmt.Sprintf("rehearsal%d", seed)
		if options.Database, err = r.postgresql.Database(ctx, name, ""); err != nil {
			return report, err
		}
		defer func() { err = errors.Join(err, r.postgresql.Drop(context.WithoutCancel(ctx), name)) }()
	}
	return rehearse.Run(ctx, options)
}

// startPostgreSQL runs a PostgreSQL that is thrown away at the end.
func (r *rehearsal) startPostgreSQL(ctx context.Context) (stop func(), err error) {
	folder, err := os.MkdirTemp("", "homing-rehearsal-")
	if err != nil {
		return nil, err
	}
	if r.postgresql, err = cluster.Start(ctx, cluster.Options{Dir: folder, Throwaway: true}); err != nil {
		return nil, errors.Join(err, os.RemoveAll(folder))
	}
	return func() {
		r.postgresql.Stop()
		os.RemoveAll(folder)
	}, nil
}

func (r *rehearsal) print(w io.Writer) error {
	var sum rehearse.Report
	var settling []time.Duration
	for _, one := range r.reports {
		sum.Saves += one.Saves
		sum.Exchanges += one.Exchanges
		sum.Requests += one.Requests
		sum.Faults += one.Faults
		sum.Kills += one.Kills
		sum.Restores += one.Restores
		settling = append(settling, one.Settling)
	}
	slices.Sort(settling)
	fmt.Fprintf(w, "%s: %d saves, %d exchanges, %d requests, %d faults, %d kills, %d restores\n",
		terminal.Count(len(r.reports), "run"), sum.Saves, sum.Exchanges, sum.Requests, sum.Faults, sum.Kills, sum.Restores)
	fmt.Fprintf(w, "Answers: %d applied, %d merged, %d held, %d refused, %d waiting\n", r.answers["applied"],
		r.answers["merged"], r.answers["held"], r.answers["refused"], r.answers["waiting"])
	for _, code := range slices.Sorted(maps.Keys(r.refused)) {
		fmt.Fprintf(w, "   %s, not taken at once: %s\n", terminal.Count(r.refused[code], "time"), code)
	}
	fmt.Fprintf(w, "Until all agreed after the last save, with every device exchanging in turn: %s at half of the "+
		"runs, %s at most\n", settling[len(settling)/2].Round(time.Second), settling[len(settling)-1].Round(time.Second))
	if len(r.decisions) == 0 {
		fmt.Fprintln(w, "No two edits met.")
	} else {
		fmt.Fprintln(w, "\nWhere edits met, and what decided:")
		t := terminal.NewTable(w, "COLLECTION", "FIELD", "RULE", "TIMES", "")
		for _, d := range slices.SortedFunc(maps.Keys(r.decisions), func(a, b rehearse.Decided) int {
			return strings.Compare(a.Collection+" "+a.Field+" "+a.Rule, b.Collection+" "+b.Field+" "+b.Rule)
		}) {
			field, note := d.Field, ""
			if field == "" {
				field = "(removal)"
			}
			if d.Rule == "ask" {
				note = "held for a person"
			}
			t.Row(d.Collection, field, d.Rule, r.decisions[d], note)
		}
		if err := t.Flush(); err != nil {
			return err
		}
	}
	fmt.Fprintln(w)
	if len(r.wrong) == 0 {
		fmt.Fprintln(w, "Nothing was lost, nothing doubled, nothing overwritten without a trace; all agree.")
		return nil
	}
	r.wrong[0].Tell(w)
	return nil
}

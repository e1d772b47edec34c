// Package trial is the commands that try something out with data that is made up: the demo, rehearsals, a merge, and
// structures for an app.
package trial

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"github.com/urfave/cli/v3"

	"homing/central"
	"homing/central/changes"
	"homing/central/fault"
	"homing/console"
	"homing/core/rights"
	"homing/demo"
	"homing/device"
	"homing/field"
	"homing/internal/cli/intake"
	"homing/internal/cli/office"
	"homing/internal/cli/terminal"
	"homing/service"
	"homing/wire"
)

// demoPassword is that of everybody in the demo, which answers on loopback only.
const demoPassword = "larch-and-granite"

var demoWorkers = []struct {
	name      string
	role      rights.Role
	territory string
}{{"runa", rights.Lead, rights.All}, {"mira", rights.Worker, "kell crew"}, {"tobin", rights.Worker, "ostra crew"},
	{"ansel", rights.Reader, rights.All}}

// DemoCommand is homing demo.
func DemoCommand() *cli.Command {
	return &cli.Command{
		Name:  "demo",
		Usage: "play a short story with made-up data: two crews, one central, no signal in between",
		Description: `Starts a central with its own PostgreSQL, loads the upkeep of an invented trail network, and lets two devices work without
signal and come home. Then it stays up for you to look around, until Ctrl-C. Everything lies in one folder.`,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "once", Usage: "end after the story; fails when the final check does"},
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:0", Usage: "`HOST:PORT` to answer on; port 0 takes a free one",
				Sources: office.Env("LISTEN")},
			&cli.StringFlag{Name: "data", Value: ".demo", Usage: "`FOLDER` of everything the demo keeps", Sources: office.Env("DATA")},
		},
		Action: func(ctx context.Context, c *cli.Command) (err error) {
			s := &story{out: c.Root().Writer, folder: c.String("data")}
			if err := os.MkdirAll(s.folder, 0o755); err != nil {
				return err
			}
			log, err := os.OpenFile(filepath.Join(s.folder, "central.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
			if err != nil {
				return err
			}
			defer log.Close()
			if err := s.start(ctx, c.String("listen"), log); err != nil {
				return err
			}
			if err := s.tell(ctx); err != nil {
				return errors.Join(err, s.service.Stop())
			}
			if c.Bool("once") {
				return s.service.Stop()
			}
			fmt.Fprintf(s.out, "\nThe console is at %s\n   sign in as admin, or as runa (lead), mira or tobin (workers), "+
				"ansel (reader); the password of all is %s\n", s.service.URL(), demoPassword)
			link, err := s.invite(ctx, "mira")
			if err != nil {
				return errors.Join(err, s.service.Stop())
			}
			fmt.Fprintf(s.out, "The field app, as mira has it on a phone, opens in a browser on this machine with\n   %s\n", link)
			fmt.Fprintf(s.out, "The crews' stores are %s and %s; try in another terminal:\n   bin/homing local edit "+
				"structures \"Long Bridge\" --set state=sound --store %[1]s\n   bin/homing local exchange --store %[1]s\n",
				s.path("mira"), s.path("tobin"))
			fmt.Fprintln(s.out, "Ctrl-C stops it all; make clean removes it.")
			err = s.service.Wait(ctx)
			fmt.Fprintln(s.out, "\nStopped.")
			return err
		},
	}
}

// invite makes a link with which the field app becomes a device of a worker.
func (s *story) invite(ctx context.Context, worker string) (string, error) {
	code, _, err := s.service.Central.IssueCode(ctx, central.Everything(service.FirstAdminName), worker, 24*time.Hour)
	if err != nil {
		return "", err
	}
	return wire.EnrolmentLink(s.service.URL(), code)
}

// story is the demo while it runs.
type story struct {
	out     io.Writer
	folder  string
	service *service.Running
	repair  device.Record // that mira adds without signal
}

func (s *story) path(file string) string { return filepath.Join(s.folder, file+".db") }

func (s *story) say(format string, args ...any) { fmt.Fprintf(s.out, format+"\n", args...) }

func (s *story) start(ctx context.Context, listen string, log io.Writer) error {
	began := time.Now()
	s.say("Starting central with its own PostgreSQL in %s …", s.folder)
	running, err := service.Start(ctx, service.Options{Listen: listen, Data: filepath.Join(s.folder, "postgresql"),
		AdminPassword: demoPassword, FeedFolder: filepath.Join(s.folder, "feeds"),
		Rehearse: office.RehearseApart,
		Build:    terminal.Build(), Console: console.Files(), Field: field.Files(), Log: slog.New(slog.NewTextHandler(log, nil)), RatePerSecond: 100,
		RateBurst: 400})
	if err != nil {
		return err
	}
	s.service = running
	if err := s.prepare(ctx); err != nil {
		return errors.Join(err, running.Stop())
	}
	s.say("Central is up at %s after %s.", running.URL(), time.Since(began).Round(100*time.Millisecond))
	return nil
}

// prepare defines, adds workers and loads the data, each only as far as it is not there yet.
func (s *story) prepare(ctx context.Context) error {
	c := s.service.Central
	definitions, err := demo.Definitions()
	if err != nil {
		return err
	}
	if _, err := c.Define(ctx, service.FirstAdminName, definitions); err != nil {
		return err
	}
	for _, w := range demoWorkers {
		if err := unlessThere(c.AddWorker(ctx, w.name, w.role, demoPassword, w.territory)); err != nil {
			return err
		}
	}
	records := demo.Records()
	marker := filepath.Join(s.folder, "loaded")
	if _, err := os.Stat(marker); err == nil {
		return nil
	}
	line := terminal.NewProgressLine(s.out)
	for at := 0; at < len(records); {
		end := at
		for end < len(records) && records[end].Collection == records[at].Collection && end-at < intake.RowsAtOnce {
			end++
		}
		if err := s.load(ctx, records[at:end]); err != nil {
			return err
		}
		at = end
		line.Show(fmt.Sprintf("loading the demo data: %d of %d records", at, len(records)))
	}
	line.Done()
	rounds, err := s.loadRounds(ctx)
	if err != nil {
		return err
	}
	s.say("Loaded %s of made-up trails, structures, inspections, findings, repairs, warnings, surveys, huts and the rounds of these.",
		terminal.Count(len(records)+rounds, "record"))
	return os.WriteFile(marker, nil, 0o644)
}

// load adds records of one collection.
func (s *story) load(ctx context.Context, records []demo.Record) error {
	rows := make([]map[string]json.RawMessage, len(records))
	for n, r := range records {
		text, err := r.JSON()
		if err != nil {
			return err
		}
		if err := json.Unmarshal(text, &rows[n]); err != nil {
			return err
		}
		rows[n][changes.RowID] = json.RawMessage(strconv.Quote(r.ID.String()))
	}
	outcomes, err := s.service.Central.PutRows(ctx, central.Everything(service.FirstAdminName), records[0].Collection,
		"", rows)
	if err != nil {
		return err
	}
	for n, outcome := range outcomes {
		if outcome.Outcome == changes.RowRefused {
			return fmt.Errorf("load %s %s: %v", records[n].Collection, records[n].ID, outcome.Reasons)
		}
	}
	return nil
}

// loadRounds adds what the crews noted of the huts in the last weeks, by a central whose clock goes along with them.
func (s *story) loadRounds(ctx context.Context) (n int, err error) {
	rounds := demo.Rounds(time.Now())
	who := map[string]central.Person{}
	for _, w := range demoWorkers {
		who[w.name] = central.Person{Name: w.name, Role: w.role, Territories: []string{w.territory}}
	}
	var at time.Time
	then, err := central.Open(ctx, central.Options{Database: s.service.DatabaseURL(), Now: func() time.Time { return at }})
	if err != nil {
		return 0, err
	}
	defer then.Close()
	for _, one := range rounds {
		at = one.At
		text, err := json.Marshal(one.Fields)
		if err != nil {
			return 0, err
		}
		var row map[string]json.RawMessage
		if err := json.Unmarshal(text, &row); err != nil {
			return 0, err
		}
		outcomes, err := then.PutRows(ctx, who[one.By], "rounds", "", []map[string]json.RawMessage{row})
		if err != nil {
			return 0, err
		}
		if outcomes[0].Outcome == changes.RowRefused {
			return 0, fmt.Errorf("load the round of %s: %v", row["week"], outcomes[0].Reasons)
		}
	}
	return len(rounds), nil
}

// unlessThere lets pass that something exists already: an earlier start made it.
func unlessThere(err error) error {
	var known *fault.Error
	if errors.As(err, &known) && known.Kind == fault.Clash {
		return nil
	}
	return err
}

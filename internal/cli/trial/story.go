package trial

import (
	"context"
	"errors"
	"fmt"
	"time"

	"homing/central"
	"homing/central/changes"
	"homing/central/finding"
	"homing/central/past"
	"homing/core/query"
	"homing/core/rights"
	"homing/demo"
	"homing/device"
	"homing/internal/cli/local"
	"homing/internal/cli/office"
	"homing/internal/cli/terminal"
	"homing/service"
)

// crew is one of the story's devices.
type crew struct {
	worker, device string
	store          *device.Store
}

// person is the crew's worker, as central knows them.
func (c crew) person() central.Person {
	who := central.Person{Name: c.worker}
	for _, w := range demoWorkers {
		if w.name == c.worker {
			who.Role, who.Territories = w.role, []string{w.territory}
		}
	}
	return who
}

// tell plays the story: two devices load, lose signal, edit, come back, and everything agrees in the end.
func (s *story) tell(ctx context.Context) error {
	mira, err := s.crew(ctx, "mira", "mira", "Kell crew tablet")
	if err != nil {
		return err
	}
	defer mira.store.Close()
	tobin, err := s.crew(ctx, "tobin", "tobin", "Ostra crew phone")
	if err != nil {
		return err
	}
	defer tobin.store.Close()

	s.say("\n1. At the road head, with signal: both crews load what they need.")
	for _, c := range []crew{mira, tobin} {
		if err := s.exchange(ctx, c); err != nil {
			return err
		}
	}
	s.say("\n2. In the valleys, without signal: both work on. Each sees its own edits at once.")
	if err := s.edits(ctx, mira, tobin); err != nil {
		return err
	}
	for _, c := range []crew{mira, tobin} {
		s.say("\n   What the %s will send (homing local review):\n", c.device)
		queue, err := c.store.Review(ctx)
		if err != nil {
			return err
		}
		if err := local.PrintReview(s.out, queue); err != nil {
			return err
		}
	}
	s.say("\n3. Back at the road head, with signal: both exchange; mira once more, to get what tobin brought.")
	for _, c := range []crew{mira, tobin, mira} {
		if err := s.exchange(ctx, c); err != nil {
			return err
		}
	}
	if err := s.bridge(ctx, mira); err != nil {
		return err
	}
	if err := s.settle(ctx, mira, tobin); err != nil {
		return err
	}
	if err := s.compare(ctx, mira, tobin); err != nil {
		return err
	}
	if err := s.fed(ctx); err != nil {
		return err
	}
	if err := s.edge(ctx); err != nil {
		return err
	}
	return s.steered(ctx, mira, tobin)
}

func (s *story) crew(ctx context.Context, file, worker, name string) (crew, error) {
	store, err := device.Open(ctx, s.path(file), device.Options{})
	if err != nil {
		return crew{}, err
	}
	status, err := store.Status(ctx)
	if err == nil && status.Enrolled {
		err = store.MoveCentral(ctx, s.service.URL()) // the port may be another than last time
	} else if err == nil {
		var code string
		if code, _, err = s.service.Central.IssueCode(ctx, central.Everything("runa"), worker, time.Hour); err == nil {
			err = store.Enrol(ctx, s.service.URL(), code, name)
		}
	}
	if err != nil {
		return crew{}, errors.Join(err, store.Close())
	}
	return crew{worker, name, store}, nil
}

func (s *story) exchange(ctx context.Context, c crew) error {
	summary, err := c.store.Exchange(ctx, nil)
	if err != nil {
		return fmt.Errorf("the %s: %w", c.device, err)
	}
	s.say("   %-17s sent %d: %d applied, %d merged, %d held, %d refused; received %d; %s up, %s down, %s", c.device,
		summary.Sent, summary.Applied, summary.Merged,
		summary.Held, summary.Refused, summary.Received, terminal.Size(summary.BytesUp), terminal.Size(summary.BytesDown),
		summary.Took.Round(time.Millisecond))
	return nil
}

// edits is what the crews do without signal. A second start finds other values and goes the other way round.
func (s *story) edits(ctx context.Context, mira, tobin crew) error {
	bridge, err := mira.store.Get(ctx, "structures", demo.LongBridge)
	if err != nil {
		return err
	}
	state, note := "damaged", "Two deck boards broken at the east end"
	if terminal.Plain(bridge.Fields["state"]) == state {
		state, note = "worn", "Deck boards replaced; hand rail still loose"
	}
	if _, err = mira.store.Edit(ctx, "structures", demo.LongBridge,
		device.Fields{"state": state, "note": note}); err != nil {
		return err
	}
	s.say("   mira   sets the Long Bridge to %q, notes %q, and adds an inspection with what she found", state, note)
	inspection, err := mira.store.Add(ctx, "inspections", device.Fields{"structure": demo.LongBridge,
		"date":    time.Now().Format(time.DateOnly),
		"finding": map[string]string{"damaged": "repair soon", "worn": "watch"}[state], "inspector": "mira",
		"rot_percent": 30, "bolts_loose": 2})
	if err != nil {
		return err
	}
	if _, err := mira.store.Add(ctx, "findings", device.Fields{"inspection": inspection.ID, "part": "deck",
		"what": "board cracked", "severity": 4}); err != nil {
		return err
	}
	// Central closes the inspection for it, and opens a repair: the definitions say so.
	if _, err := mira.store.Add(ctx, "findings", device.Fields{"inspection": inspection.ID, "part": "anchor",
		"what": "cable anchor loose in the rock", "severity": 5}); err != nil {
		return err
	}
	if s.repair, err = mira.store.Add(ctx, "repairs", device.Fields{"structure": demo.LongBridge,
		"what": "Replace deck boards", "status": "wanted", "crew": "kell crew", "hours": 6,
		"materials_cost": 90, "memo": "The key to the tool box lies under the third stone"}); err != nil {
		return err
	}
	counted, err := mira.store.Get(ctx, "structures", demo.LongBridge)
	if err != nil {
		return err
	}
	s.say("          and a repair: %s, at a cost of %s, until central numbers it. Her tablet counts %s inspections "+
		"and %s findings at the bridge now.",
		s.repair.Provisional["number"], terminal.Plain(s.repair.Fields["cost"]), terminal.Plain(counted.Fields["inspections"]),
		terminal.Plain(counted.Fields["findings"]))
	later := "Passable for one person at a time"
	if terminal.Plain(bridge.Fields["note"]) == later {
		later = "Passable"
	}
	if _, err = tobin.store.Edit(ctx, "structures", demo.LongBridge,
		device.Fields{"built": 1931 + (len(terminal.Plain(bridge.Fields["note"])) % 40), "note": later}); err != nil {
		return err
	}
	// A save of its own, so that the story shows a merge and a held conflict side by side.
	if _, err = tobin.store.Edit(ctx, "structures", demo.LongBridge, device.Fields{"state": "out of use"}); err != nil {
		return err
	}
	signposts, err := tobin.store.Find(ctx, "structures", query.Ask{Where: []string{"kind=signpost"}, Sort: "name",
		Limit: 1})
	if err != nil || len(signposts.Records) == 0 {
		return errors.Join(errors.New("the demo's signposts are used up; make clean starts afresh"), err)
	}
	also, err := tobin.store.GoesWith(ctx, signposts.Records[0])
	if err != nil {
		return err
	}
	s.say("   tobin  corrects when the Long Bridge was built, notes %q a little later, sets it to \"out of use\", "+
		"and removes %s,", later, signposts.Records[0].Label)
	s.say("          with %s below it", terminal.Count(also, "record"))
	return tobin.store.Remove(ctx, "structures", signposts.Records[0].ID)
}

// bridge shows what central gave mira's repair, and how two edits of one record came together.
func (s *story) bridge(ctx context.Context, mira crew) error {
	history, err := s.service.Central.History(ctx, central.Everything(service.FirstAdminName), "structures",
		demo.LongBridge)
	if err != nil {
		return err
	}
	repair, err := mira.store.Get(ctx, "repairs", s.repair.ID)
	if err != nil {
		return err
	}
	s.say("\n   Central has numbered mira's repair: %s is now %s, reported by %s.", s.repair.Provisional["number"],
		repair.Label, terminal.Plain(repair.Fields["reported_by"]))
	followed, err := s.service.Central.FollowUps(ctx, past.FollowedOf{Outcome: changes.FollowDone, Limit: 2})
	if err != nil {
		return err
	}
	s.say("\n   Her loose anchor is a danger, of severity 5. As the definitions say, central has closed her inspection for it, and opened a repair by itself\n" +
		"   (homing follow-ups --lines):\n")
	if err := office.PrintFollowed(s.out, followed); err != nil {
		return err
	}
	s.say("\n   The Long Bridge at central: different fields came together, and of the two notes the later stays. " +
		"Its state is for a person to say,")
	s.say("   as the definition asks, so tobin's is held.\n")
	return office.PrintHistory(s.out, history[:min(len(history), 3)])
}

// settle shows the held conflict, and lets the lead settle it.
func (s *story) settle(ctx context.Context, crews ...crew) error {
	runa := central.Person{Name: "runa", Role: rights.Lead, Territories: []string{rights.All}}
	open, err := s.service.Central.Conflicts(ctx, runa, finding.Disputed{})
	if err != nil {
		return err
	}
	s.say("\n   What waits for a person (homing conflicts list):\n")
	if err := office.PrintConflicts(s.out, open); err != nil {
		return err
	}
	for _, one := range open {
		if one.Record != demo.LongBridge {
			continue
		}
		value := one.Values[0].Value
		if _, err := s.service.Central.Settle(ctx, runa, one.Collection, one.Record, one.Revision,
			changes.Settlement{Field: one.Field, Value: value}); err != nil {
			return err
		}
		s.say("\n   runa has looked at the pictures and settles it: %s. Both crews get that with their next exchange.",
			terminal.Plain(value))
	}
	for _, c := range crews {
		if err := s.exchange(ctx, c); err != nil {
			return err
		}
	}
	return nil
}

// compare ends the story with the proof: the same records everywhere.
func (s *story) compare(ctx context.Context, crews ...crew) error {
	s.say("\n4. Each device holds just what its worker covers, as central has it: number of records and fingerprint. " +
		"Repairs go to the crew")
	s.say("   that they are for; surveys are looked up when they are needed; everything else goes to all.\n")
	headings := []string{"COLLECTION", "CENTRAL"}
	for _, c := range crews {
		headings = append(headings, c.device)
	}
	t := terminal.NewTable(s.out, append(headings, "AS COVERED")...)
	overviews, err := s.service.Central.Overviews(ctx, central.Everything(service.FirstAdminName))
	if err != nil {
		return err
	}
	differ := 0
	for _, o := range overviews {
		if !o.Sync.Keep.Loads() {
			continue
		}
		want, err := s.service.Central.Fingerprint(ctx, central.Everything(service.FirstAdminName), o.Collection)
		if err != nil {
			return err
		}
		cells, same := []any{o.Collection, fmt.Sprintf("%d %s", want.Count(), &want)}, "yes"
		for _, c := range crews {
			got, err := c.store.Fingerprint(ctx, o.Collection)
			if err != nil {
				return err
			}
			covered, err := s.service.Central.Fingerprint(ctx, c.person(), o.Collection)
			if err != nil {
				return err
			}
			cells = append(cells, fmt.Sprintf("%d %s", got.Count(), &got))
			if got != covered {
				same = "NO"
				differ++
			}
		}
		t.Row(append(cells, same)...)
	}
	if err := t.Flush(); err != nil {
		return err
	}
	if differ > 0 {
		return fmt.Errorf("the devices and central do not hold the same; the log is in %s", s.folder)
	}
	return nil
}

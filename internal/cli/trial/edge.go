package trial

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"time"

	"homing/central"
	"homing/central/finding"
	"homing/central/fleet"
	"homing/central/people"
	"homing/core/query"
	"homing/core/rights"
	"homing/core/settings"
	"homing/demo"
	"homing/device"
	"homing/internal/cli/local"
	"homing/internal/cli/office"
	"homing/service"
)

// counted is how many lines a box gives in the hour of the story, one every five seconds.
const counted = 720

// edge shows a box that counts walkers at a trail head.
func (s *story) edge(ctx context.Context) error {
	box, err := s.crew(ctx, "counter", "tobin", "Long Trail counter")
	if err != nil {
		return err
	}
	defer box.store.Close()
	if err := s.quietly(ctx, box); err != nil {
		return err
	}
	before, err := s.counts(ctx)
	if err != nil {
		return err
	}
	began := time.Now().Add(-time.Hour).UTC()
	rows := make([]device.Fields, counted)
	for n := range rows {
		up := int(1.5 + 1.5*math.Sin(float64(n)/40)) // walkers come in waves, and mostly go up
		rows[n] = device.Fields{"trail": demo.LongTrail, "at": began.Add(time.Duration(n) * 5 * time.Second).Format(time.RFC3339), "up": up, "down": n % 7 / 6,
			"battery_v": 12.6 - float64(n)/4000}
	}
	ids, wrong, err := box.store.AddMany(ctx, "counts", rows)
	if err != nil {
		return err
	}
	if len(wrong) > 0 {
		return fmt.Errorf("the box could not take %d of %d", len(wrong), len(ids))
	}
	s.say("\n6. A box at the head of the Long Trail counts walkers: %d lines in an hour, saved with one write (homing local add counts --stream). Its totals\n"+
		"   (homing local totals counts):\n", len(ids))
	totals, err := box.store.Totals(ctx, "counts", time.Hour)
	if err != nil {
		return err
	}
	if err := local.PrintTotals(s.out, totals); err != nil {
		return err
	}
	s.say("")
	if err := s.exchange(ctx, box); err != nil {
		return err
	}
	after, err := s.counts(ctx)
	if err != nil {
		return err
	}
	held, err := box.store.Find(ctx, "counts", query.Ask{Limit: 1})
	if err != nil {
		return err
	}
	if after-before != counted || held.Total > 0 {
		return fmt.Errorf("central has %d more counts, which should be %d, and the box still holds %d", after-before, counted, held.Total)
	}
	s.say("   Central has the %d lines, each once, and the box holds none of them any more.", counted)
	return nil
}

// counts is how many central has.
func (s *story) counts(ctx context.Context) (int64, error) {
	listing, err := s.service.Central.List(ctx, central.Everything(service.FirstAdminName), "counts", query.Ask{Limit: 1})
	return listing.Total, err
}

// quietly exchanges what a device needs before the story is about it.
func (s *story) quietly(ctx context.Context, c crew) error {
	if _, err := c.store.Exchange(ctx, nil); err != nil {
		return fmt.Errorf("the %s: %w", c.device, err)
	}
	return nil
}

// steered shows who has reported of the huts, and how the lead asks for what is missing.
func (s *story) steered(ctx context.Context, mira, tobin crew) error {
	runa := central.Person{Name: "runa", Role: rights.Lead, Territories: []string{rights.All}}
	grid, err := s.service.Central.Covered(ctx, runa, "", finding.Covering{Collection: "rounds", Today: time.Now()})
	if err != nil {
		return err
	}
	s.say("\n7. Of %d hut rounds of the last weeks, %d are complete, %d begun, and %d late (homing coverage rounds). runa sees it, and says so to the\n"+
		"   devices of one crew; all are to exchange more often (homing settings):\n", grid.Sums.Expected, grid.Sums.Complete, grid.Sums.Begun, grid.Sums.Late)
	status, err := mira.store.Status(ctx)
	if err != nil {
		return err
	}
	devices, err := s.service.Central.Devices(ctx, mira.worker)
	if err != nil {
		return err
	}
	acting := fleet.Acting(ctx, fleet.Actor{Name: runa.Name})
	for _, d := range devices {
		if d.ID.String() == status.Device {
			if err := s.service.Central.PutInTeams(acting, d.ID, []string{"kell crew"}); err != nil {
				return err
			}
		}
	}
	for _, one := range []struct {
		of    people.Scope
		name  string
		value any
	}{
		{people.Scope{}, settings.ExchangeEvery, "10 minutes"},
		{people.Scope{Team: "kell crew"}, settings.Note, "Please finish the hut rounds before Friday."},
	} {
		value, err := json.Marshal(one.value)
		if err != nil {
			return err
		}
		if err := s.service.Central.Set(acting, one.of, one.name, value, 100); err != nil {
			return err
		}
	}
	for _, c := range []crew{mira, tobin} {
		if err := s.quietly(ctx, c); err != nil {
			return err
		}
	}
	said, err := s.service.Central.Settings(ctx)
	if err != nil {
		return err
	}
	if err := office.PrintSettings(s.out, said); err != nil {
		return err
	}
	if status, err = mira.store.Status(ctx); err != nil {
		return err
	}
	if status.Note == "" {
		return errors.New("the note did not reach mira's tablet")
	}
	s.say("\n   mira's tablet shows: %q", status.Note)
	return nil
}

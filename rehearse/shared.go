package rehearse

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/google/uuid"

	"homing/conformance/driver"
	"homing/core/rights"
	"homing/device"
	"homing/link"
)

// pin is everybody's.
const pin = "4711"

// join lets a guest whom central has on a device sign in there, too.
func (w *world) join(ctx context.Context, d *unit, guest string) error {
	people, err := d.store.People(ctx)
	if err != nil {
		return err
	}
	if at := slices.IndexFunc(people, func(p device.Worker) bool { return p.SignedIn }); at >= 0 && !people[at].Secret {
		if err := d.store.SetSecret(ctx, "", pin); err != nil {
			return err
		}
	}
	code, err := w.side.code(guest)
	if err != nil {
		return err
	}
	was := w.unsent(ctx, d)
	if d.at == guest { // it is theirs
		was = nil
	}
	_, err = d.store.Join(ctx, code, pin)
	var problem *link.Problem
	switch {
	case errors.As(err, &problem), errors.Is(err, link.ErrUnreachable):
		w.tell("%s cannot sign in on %s yet", guest, d.name)
		return nil
	case err != nil:
		return err
	}
	w.tell("%s is signed in on %s", guest, d.name)
	d.at = guest
	return w.checkAside(ctx, d, was)
}

// rejoin lets those come back who have left a device and have something unsent on it, as after a restore of central to
// a time before they joined.
func (w *world) rejoin(ctx context.Context, d *unit) error {
	people, err := d.store.People(ctx)
	if err != nil {
		return err
	}
	for _, p := range people {
		at := slices.IndexFunc(d.left, func(who rights.Person) bool { return who.Name == p.Name })
		if p.Unsent == 0 || at < 0 {
			continue
		}
		guest := d.left[at]
		d.left, d.guests = slices.Delete(d.left, at, at+1), append(d.guests, guest)
		w.tell("%s joins %s again, since %d of theirs wait", guest.Name, d.name, p.Unsent)
		if err := errors.Join(w.side.invite(d, guest), w.join(ctx, d, guest.Name)); err != nil {
			return err
		}
	}
	return nil
}

// handOver lets somebody else use a device that several people share.
func (w *world) handOver(ctx context.Context, d *unit) error {
	people, err := d.store.People(ctx)
	if err != nil {
		return err
	}
	var others []string
	for _, p := range people {
		if p.Secret && !p.SignedIn {
			others = append(others, p.Name)
		}
	}
	if len(others) == 0 {
		if len(d.guests) == 0 {
			return nil
		}
		return w.join(ctx, d, d.guests[0].Name)
	}
	next := others[w.random.IntN(len(others))]
	w.tell("%s is handed to %s", d.name, next)
	was := w.unsent(ctx, d)
	if w.chance(30) {
		if _, err := d.store.SignOut(ctx); err != nil {
			return err
		}
	}
	if err := d.store.SignIn(ctx, next, pin); err != nil {
		return err
	}
	d.at = next
	return w.checkAside(ctx, d, was)
}

// who is the one who is signed in on a device. When nobody is any more, since they left or the store was restored,
// somebody who can signs in.
func (w *world) who(ctx context.Context, d *unit) (string, error) {
	people, err := d.store.People(ctx)
	if err != nil {
		return "", err
	}
	if at := slices.IndexFunc(people, func(p device.Worker) bool { return p.SignedIn }); at >= 0 {
		d.at = people[at].Name
		return d.at, nil
	}
	for _, p := range people {
		if err := d.store.SignIn(ctx, p.Name, pin); !errors.Is(err, device.ErrNobody) {
			w.tell("%s signs in on %s", p.Name, d.name)
			d.at = p.Name
			return d.at, err
		}
	}
	return "", fmt.Errorf("nobody can sign in on %s", d.name)
}

// everybody lets each of the people of a device who has something unsent see to it.
func (w *world) everybody(ctx context.Context, d *unit, sees func() error) error {
	people, err := d.store.People(ctx)
	if err != nil {
		return err
	}
	first, err := w.who(ctx, d)
	if err != nil {
		return err
	}
	if err := sees(); err != nil {
		return err
	}
	for _, p := range people {
		if p.Name == first || p.Unsent == 0 || !p.Secret {
			continue
		}
		if err := d.store.SignIn(ctx, p.Name, pin); err != nil {
			return err
		}
		w.tell("%s signs in on %s", p.Name, d.name)
		d.at = p.Name
		if err := sees(); err != nil {
			return err
		}
	}
	if now, err := w.who(ctx, d); err != nil || now == first {
		return err
	}
	err = d.store.SignIn(ctx, first, pin)
	d.at = first
	if errors.Is(err, device.ErrNobody) {
		err = nil // they left, and have nothing unsent any more
	}
	return err
}

// unsent are the values that whoever is signed in has saved and not sent.
func (w *world) unsent(ctx context.Context, d *unit) map[string]bool {
	all := map[string]bool{}
	queue, err := d.store.Review(ctx)
	if err != nil {
		return all
	}
	for _, q := range queue {
		for _, edit := range q.Fields {
			for found := range tokensOf(edit.To) {
				if w.ledger.tokens[found] != nil && !tokensOf(edit.From)[found] {
					all[found] = true
				}
			}
		}
	}
	return all
}

// checkAside looks for what somebody has not sent, after somebody else has signed in.
func (w *world) checkAside(ctx context.Context, d *unit, unsent map[string]bool) error {
	queue, err := d.store.Review(ctx)
	if err != nil {
		return err
	}
	shown := map[string]uuid.UUID{}
	look := func(id uuid.UUID, value json.RawMessage) {
		for found := range tokensOf(value) {
			if unsent[found] {
				shown[found] = id
			}
		}
	}
	for _, q := range queue {
		for _, edit := range q.Fields {
			if from := tokensOf(edit.From); len(from) == 0 { // else it may be what central had when they saw it
				look(q.Record, edit.To)
			}
		}
	}
	for _, def := range w.options.Definitions {
		if _, err := d.store.Collection(ctx, def.Collection); err != nil || !def.Sync.Direction.Pulls() {
			continue
		}
		found, err := d.store.Find(ctx, def.Collection, driver.Find{Limit: 1000})
		if err != nil {
			return err
		}
		for _, r := range found.Records {
			if r.Lost {
				continue // shown as central had accepted it before it was restored
			}
			for _, value := range r.Fields {
				look(r.ID, value)
			}
		}
	}
	if len(shown) == 0 {
		return nil
	}
	// Central may have had it, though the answer was lost, or from a copy of the device.
	if err := w.eachAccepted(func(token string) { delete(shown, token) }); err != nil {
		return err
	}
	maps.DeleteFunc(shown, func(token string, _ uuid.UUID) bool { return w.ledger.had[token] })
	for token, id := range shown {
		w.wrong("P11: %s of %s, which somebody else has not sent, is shown on %s", token, name("", id), d.name)
	}
	return nil
}

// eachAccepted names every token that central has accepted.
func (w *world) eachAccepted(named func(token string)) error {
	_, history, err := w.side.whole()
	if err != nil {
		return err
	}
	for _, v := range history {
		for _, edit := range v.Change.Fields {
			for found := range tokensOf(edit.To) {
				named(found)
			}
		}
	}
	return nil
}

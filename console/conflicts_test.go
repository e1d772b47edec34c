package console_test

import (
	"context"
	"testing"

	"homing/device"
	"homing/internal/testbed"
)

// A conflict shows on its page as soon as it opens, and one press settles it.
func TestConflictsPage(t *testing.T) {
	p := open(t, 1280)
	p.bed.Define("collection: sites\nlabel: \"{name}\"\nfields:\n  name: {type: string}\n  state: {title: State, enum: [open, closed]}\nsync:\n  rules: {state: ask}\n")
	a, b := p.bed.Device("worker", "Valley tablet", device.Options{}), p.bed.Device("lead", "Ridge phone", device.Options{})
	testbed.Exchange(t, a, b)
	site, err := a.Add(context.Background(), "sites", device.Fields{"name": "Fork"})
	testbed.Must(t, err)
	testbed.Exchange(t, a, b)
	p.visit("/conflicts")
	p.signIn("lead", testbed.Password)
	p.says(".page", "Nothing waits for a person")
	for store, state := range map[*device.Store]string{a: "open", b: "closed"} {
		_, err := store.Edit(context.Background(), "sites", site.ID, device.Fields{"state": state})
		testbed.Must(t, err)
	}
	testbed.Exchange(t, a, b)
	p.says(".conflict", "worker on Valley tablet")
	p.says(".conflict", "lead on Ridge phone")
	p.press("Take this")
	p.says(".page", "Nothing waits for a person")
	testbed.Exchange(t, a, b)
	p.bed.Same(a, b)
	r, err := a.Get(context.Background(), "sites", site.ID)
	if err != nil || string(r.Fields["state"]) != `"closed"` {
		t.Errorf("the device shows %s, %v", r.Fields["state"], err)
	}
}

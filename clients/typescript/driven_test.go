// Package typescript drives the device in TypeScript against ours.
package typescript_test

import (
	"slices"
	"strings"
	"testing"

	"homing/conformance/proof"
)

func prove(t *testing.T, o proof.Options) []proof.Result {
	t.Helper()
	o.Driver.Args = []string{"node", "dist/driver.js"}
	results, err := proof.Run(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	return results
}

func holds(t *testing.T, r proof.Result) {
	t.Helper()
	if !r.Holds() || r.Left || r.Cases == 0 {
		t.Errorf("%s, %s: %d of %d: %s\n%s", r.Part, r.Name, r.Held, r.Cases, strings.Join(r.Wrong, "\n"), strings.Join(r.Story, "\n"))
	}
}

// The heart of the device in TypeScript works out the vectors as the core does, in Node.
func TestVectorsInNode(t *testing.T) {
	for _, r := range prove(t, proof.Options{Parts: []string{proof.Vectors}}) {
		holds(t, r)
	}
}

// What the device in TypeScript does not do yet. Whoever makes it do one of these takes it off the list.
var left = []string{"several workers on one device", "asked to erase"}

// It comes out of every other situation as ours does.
func TestSituationsInNode(t *testing.T) {
	for _, r := range prove(t, proof.Options{Parts: []string{proof.Situations}}) {
		if !slices.Contains(left, r.Name) {
			holds(t, r)
		} else if r.Holds() {
			t.Errorf("%s: it does this by now", r.Name)
		}
	}
}

// P1 to P10: in fleets of both kinds of devices nothing is lost, doubled or overwritten, while requests are lost, repeated and cut,
// devices killed, restored and copied, central restored, clocks turned and definitions changed.
func TestFleetsInNode(t *testing.T) {
	for _, r := range prove(t, proof.Options{Parts: []string{proof.Fleets}, Plain: true, First: 1, Seeds: 5}) {
		holds(t, r)
	}
}

// Package typescript drives the device in TypeScript against ours.
package typescript_test

import (
	"strings"
	"testing"

	"homing/conformance/proof"
)

func prove(t *testing.T, program string, o proof.Options) {
	t.Helper()
	// Programs are started often and for short: to make their WebAssembly quick first takes longer.
	o.Driver.Args = []string{"node", "--liftoff-only", "dist/" + program}
	results, err := proof.Run(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range results {
		if !r.Holds() || r.Left || r.Cases == 0 {
			t.Errorf("%s, %s: %d of %d: %s\n%s", r.Part, r.Name, r.Held, r.Cases, strings.Join(r.Wrong, "\n"),
				strings.Join(r.Story, "\n"))
		}
	}
}

// The heart of the device in TypeScript works out the vectors as the core does, and the device comes out of every
// situation as ours does: in Node, where its store is a file, and in Chromium, where it is among the origin's private
// files.
func TestSituations(t *testing.T) {
	for name, program := range map[string]string{"Node": "driver.js", "Chromium": "chromium.js"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			prove(t, program, proof.Options{Parts: []string{proof.Vectors, proof.Situations}})
		})
	}
}

// P1 to P12: in fleets of both kinds of devices nothing is lost, doubled or overwritten, while requests are lost, repeated
// and cut, devices killed, restored, copied, handed on and erased, central restored, clocks turned and definitions changed.
func TestFleets(t *testing.T) {
	for name, of := range map[string]struct {
		program string
		seeds   int
	}{"Node": {"driver.js", 30}, "Chromium": {"chromium.js", 3}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			prove(t, of.program, proof.Options{Parts: []string{proof.Fleets}, First: 1, Seeds: of.seeds})
		})
	}
}

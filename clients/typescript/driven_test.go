// Package typescript drives the device in TypeScript against ours.
package typescript_test

import (
	"strings"
	"testing"

	"homing/conformance/driver"
	"homing/conformance/proof"
)

// The heart of the device in TypeScript works out the vectors as the core does, in Node.
func TestVectorsInNode(t *testing.T) {
	results, err := proof.Run(t.Context(), proof.Options{Driver: driver.Command{Args: []string{"node", "dist/driver.js"}}, Parts: []string{proof.Vectors}})
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range results {
		if !r.Holds() || r.Left || r.Cases == 0 {
			t.Errorf("%s: %d of %d: %s", r.Name, r.Held, r.Cases, strings.Join(r.Wrong, "\n"))
		}
	}
}

package conformance_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"testing"

	"homing/conformance"
)

var write = flag.Bool("write", false, "write the vectors as the core makes them now")

// The vectors are what the core says. A change of the core that changes one changes the protocol.
func TestVectorsAreWhatTheCoreSays(t *testing.T) {
	made, err := conformance.Vectors()
	if err != nil {
		t.Fatal(err)
	}
	if *write {
		for name, text := range made {
			if err := os.WriteFile(filepath.Join("vectors", name), text, 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	kept, err := filepath.Glob("vectors/*.json")
	if err != nil || len(kept) != len(made) {
		t.Errorf("%d files are kept, %d are made: %v", len(kept), len(made), err)
	}
	for name, want := range made {
		got, err := os.ReadFile(filepath.Join("vectors", name))
		if err != nil {
			t.Error(err)
			continue
		}
		a, b := bytes.Split(got, []byte("\n")), bytes.Split(want, []byte("\n"))
		for n := range max(len(a), len(b)) {
			if n >= len(a) || n >= len(b) || !bytes.Equal(a[n], b[n]) {
				t.Errorf("%s is otherwise from line %d on", name, n+1)
				break
			}
		}
		var read struct {
			About, Protocol string
			Cases           []json.RawMessage
		}
		if err := json.Unmarshal(got, &read); err != nil || read.About == "" || read.Protocol == "" || len(read.Cases) < 5 {
			t.Errorf("%s has %d cases, %v", name, len(read.Cases), err)
		}
	}
}

// Among the drawn cases every rule decides, every answer is given, and changes are refused.
func TestTheMergeIsCoveredWhole(t *testing.T) {
	text, err := os.ReadFile("vectors/merge.json")
	if err != nil {
		t.Fatal(err)
	}
	var read struct {
		Cases []struct {
			Wanted struct {
				Steps []struct {
					Refused, Answer string
					Decisions       []struct{ Field, Rule, Kept string }
					After           struct {
						Removed bool
						Marks   struct{ Disputes map[string]json.RawMessage }
					}
				}
			}
		}
	}
	if err := json.Unmarshal(text, &read); err != nil {
		t.Fatal(err)
	}
	seen := map[string]int{}
	for _, life := range read.Cases {
		for _, one := range life.Wanted.Steps {
			seen["answer "+one.Answer]++
			seen["refused "+one.Refused]++
			if one.After.Removed {
				seen["removed"]++
			}
			if len(one.After.Marks.Disputes) > 0 {
				seen["disputes"]++
			}
			for _, d := range one.Decisions {
				seen["rule "+d.Rule+" "+d.Kept]++
				if d.Field == "" {
					seen["removal by "+d.Rule]++
				}
			}
		}
	}
	for _, want := range []string{"answer applied", "answer merged", "answer held", "removed", "disputes", "rule newest central", "rule newest change", "rule first central",
		"rule ask central", "rule sum both", "rule min central", "rule max change", "rule union both", "rule append both", "removal by edit-stays", "removal by removal-stays",
		"removal by ask"} {
		if seen[want] < 3 {
			t.Errorf("%s comes up %d times", want, seen[want])
		}
	}
	if t.Failed() {
		t.Log(seen)
	}
}

package merge_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"math/rand/v2"
	"testing"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/merge"
	"homing/core/record"
)

var rules = merge.Rules{Removal: merge.EditStays}

// store n numbers its changes from 1.
func source(store byte, number int64) change.Source {
	return change.Source{Incarnation: uuid.UUID{15: store}, Number: number}
}

func edit(store byte, number, base, millis int64, fields map[string]string) merge.Edit {
	delta := record.Delta{}
	for name, value := range fields {
		delta[name] = record.Edit{}
		if value != "" {
			delta[name] = record.Edit{To: json.RawMessage(value)}
		}
	}
	return merge.Edit{Kind: change.Edit, Base: base, Fields: delta, Stamp: clock.Stamp{Millis: millis},
		Source: source(store, number)}
}

func of(kind change.Kind, e merge.Edit) merge.Edit {
	e.Kind = kind
	return e
}

// added is a record that store 9 added at revision 1.
func added(t *testing.T) merge.State {
	return apply(t, merge.State{}, of(change.Add, edit(9, 1, 0, 1, map[string]string{"a": "1", "b": "1"}))).State
}

func apply(t *testing.T, state merge.State, e merge.Edit) merge.Outcome {
	t.Helper()
	out, err := merge.Merge(rules, state, e)
	if err != nil {
		t.Fatalf("%+v: %v", e, err)
	}
	return out
}

func TestDifferentFieldsComeTogether(t *testing.T) {
	first := apply(t, added(t), edit(1, 1, 1, 10, map[string]string{"a": "2"}))
	second := apply(t, first.State, edit(2, 1, 1, 5, map[string]string{"b": "3"}))
	if first.Verdict != change.Applied || second.Verdict != change.Merged {
		t.Errorf("verdicts %s and %s, want applied and merged", first.Verdict, second.Verdict)
	}
	if got := string(second.State.Fields.JSON()); got != `{"a":2,"b":3}` || len(second.Decisions) != 0 {
		t.Errorf("came to %s with decisions %v", got, second.Decisions)
	}
}

// P5: the later edit stays, and the decision says what it met.
func TestNewestDecidesAndSaysSo(t *testing.T) {
	late, early := edit(1, 1, 1, 20, map[string]string{"a": "2"}), edit(2, 1, 1, 10, map[string]string{"a": "3"})
	out := apply(t, apply(t, added(t), late).State, early)
	if string(out.State.Fields["a"]) != "2" || len(out.Decisions) != 1 {
		t.Fatalf("came to %s with decisions %v", out.State.Fields.JSON(), out.Decisions)
	}
	if d := out.Decisions[0]; d.Field != "a" || d.Kept != "central" || d.Rule != "newest" || d.Other.Revision != 2 ||
		d.Other.Source != late.Source {
		t.Errorf("decision %+v", d)
	}
	if out.State.Revision != 3 || len(out.Delta) != 0 {
		t.Errorf("revision %d, delta %v: an accepted change has a revision even when it lost", out.State.Revision, out.Delta)
	}
}

func TestADeviceNeverDisputesWithItself(t *testing.T) {
	state := apply(t, added(t), edit(1, 1, 1, 50, map[string]string{"a": "2"})).State
	out := apply(t, state, edit(1, 2, 1, 40, map[string]string{"a": "3"})) // its clock was set back, its base is old
	if string(out.State.Fields["a"]) != "3" || out.Verdict != change.Applied || len(out.Decisions) != 0 {
		t.Errorf("came to %s, %s, %v", out.State.Fields.JSON(), out.Verdict, out.Decisions)
	}
}

func TestEqualEditsDoNotDispute(t *testing.T) {
	state := apply(t, added(t), edit(1, 1, 1, 50, map[string]string{"a": "2"})).State
	if out := apply(t, state, edit(2, 1, 1, 40, map[string]string{"a": "2"})); len(out.Decisions) != 0 ||
		string(out.State.Fields["a"]) != "2" {
		t.Errorf("came to %s with %v", out.State.Fields.JSON(), out.Decisions)
	}
}

func TestEditOutlivesRemovalWhicheverComesFirst(t *testing.T) {
	e := edit(1, 1, 1, 10, map[string]string{"a": "2"})
	r := of(change.Remove, edit(2, 1, 1, 20, nil))
	editFirst := apply(t, apply(t, added(t), e).State, r)
	removalFirst := apply(t, apply(t, added(t), r).State, e)
	for name, out := range map[string]merge.Outcome{"edit first": editFirst, "removal first": removalFirst} {
		if out.State.Removed || string(out.State.Fields.JSON()) != `{"a":2,"b":1}` || out.Verdict != change.Merged ||
			len(out.Decisions) != 1 {
			t.Errorf("%s: %+v", name, out)
		}
	}
	if out := apply(t, apply(t, added(t), r).State, of(change.Remove, edit(3, 1, 1, 30, nil))); !out.State.Removed {
		t.Error("two removals do not remove")
	}
	back := apply(t, apply(t, added(t), r).State, of(change.Add, edit(1, 1, 2, 30, map[string]string{"a": "7"})))
	if back.State.Removed || string(back.State.Fields["a"]) != "7" {
		t.Errorf("an add did not bring the record back: %+v", back.State)
	}
}

func TestRefusals(t *testing.T) {
	removed := apply(t, added(t), of(change.Remove, edit(1, 1, 1, 5, nil))).State
	for name, test := range map[string]struct {
		state merge.State
		edit  merge.Edit
		code  string
	}{
		"a base that is not there yet": {added(t), edit(1, 1, 7, 5, nil), change.CodeUnknownBase},
		"an edit of nothing":           {merge.State{}, edit(1, 1, 0, 5, nil), change.CodeUnknownRecord},
		"an add upon what is lost":     {merge.State{}, of(change.Add, edit(1, 1, 4, 5, nil)), change.CodeUnknownRecord},
		"an edit of what one removed":  {removed, edit(1, 2, 2, 6, nil), change.CodeRemoved},
		"a second removal":             {removed, of(change.Remove, edit(1, 2, 2, 6, nil)), change.CodeRemoved},
	} {
		_, err := merge.Merge(rules, test.state, test.edit)
		var refused *merge.Refusal
		if !errors.As(err, &refused) || refused.Reason.Code != test.code {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// P4: whatever the order in which the changes of different devices arrive, the outcome is the same.
func TestOrderDoesNotMatter(t *testing.T) {
	for seed := range uint64(3000) {
		random := rand.New(rand.NewPCG(seed, 1))
		queues := drawQueues(random)
		want := ""
		for try := range 4 {
			state := added(t)
			for _, e := range interleave(random, queues) {
				state = apply(t, state, e).State
			}
			got := string(state.Fields.JSON())
			if state.Removed {
				got = "removed"
			}
			if try == 0 {
				want = got
			} else if got != want {
				t.Fatalf("seed %d: one order came to %s, another to %s\n%+v", seed, want, got, queues)
			}
		}
	}
}

// drawQueues gives each of three stores a few edits, or a removal at the end, all based on revision 1.
func drawQueues(random *rand.Rand) [][]merge.Edit {
	queues := make([][]merge.Edit, 3)
	for store := range queues {
		millis := int64(10)
		for n := range 1 + random.IntN(3) {
			millis += 1 + int64(random.IntN(20))
			fields := map[string]string{}
			for _, name := range []string{"a", "b", "c"} {
				if random.IntN(2) == 0 {
					fields[name] = string(rune('1' + random.IntN(4)))
				}
			}
			fields["a"] = string(rune('1' + random.IntN(9)))
			queues[store] = append(queues[store], edit(byte(store+1), int64(n+1), 1, millis, fields))
		}
		if store == 2 && random.IntN(3) == 0 {
			queues[store] = []merge.Edit{of(change.Remove, edit(3, 1, 1, millis, nil))}
		}
	}
	return queues
}

func interleave(random *rand.Rand, queues [][]merge.Edit) []merge.Edit {
	at, all := make([]int, len(queues)), []merge.Edit{}
	for {
		var open []int
		for n := range queues {
			if at[n] < len(queues[n]) {
				open = append(open, n)
			}
		}
		if len(open) == 0 {
			return all
		}
		n := open[random.IntN(len(open))]
		all = append(all, queues[n][at[n]])
		at[n]++
	}
}

func TestMergeLeavesItsInputsAlone(t *testing.T) {
	state := added(t)
	before, err := json.Marshal(state)
	if err != nil {
		t.Fatal(err)
	}
	apply(t, state, edit(1, 1, 1, 10, map[string]string{"a": "2", "b": ""}))
	apply(t, state, of(change.Remove, edit(1, 1, 1, 10, nil)))
	if after, _ := json.Marshal(state); !bytes.Equal(before, after) {
		t.Errorf("the state was altered:\n%s\n%s", before, after)
	}
}

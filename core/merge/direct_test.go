package merge_test

import (
	"reflect"
	"testing"

	"homing/core/change"
	"homing/core/merge"
)

// What two people write at central meets as if each had a store of their own, though one source numbers both, in
// whatever order it does.
func TestDirectEditsAreStrangers(t *testing.T) {
	for _, rule := range merge.RuleNames {
		base, one, two := `3`, `5`, `4`
		switch rule {
		case merge.Union:
			base, one, two = `["b"]`, `["b","c"]`, `["a","b"]`
		case merge.Append:
			base, one, two = `"x"`, `"x1"`, `"x2"`
		}
		rules := ruled(rule)
		meet := func(first, second merge.Edit) merge.Outcome {
			state := start(t, base)
			for _, e := range []merge.Edit{first, second} {
				out, err := merge.Merge(rules, state, e)
				if err != nil {
					t.Fatal(rule, err)
				}
				if state = out.State; e.Source == second.Source {
					return out
				}
			}
			panic("the second edit is always reached")
		}
		apart := meet(from(1, 1, 1, 10, base, one), from(2, 1, 1, 20, base, two))
		for _, numbers := range [][2]int64{{1, 2}, {2, 1}} {
			first, second := from(3, numbers[0], 1, 10, base, one), from(3, numbers[1], 1, 20, base, two)
			first.Direct, second.Direct = true, true
			together := meet(first, second)
			if !reflect.DeepEqual(together.State.Fields, apart.State.Fields) || together.Verdict != apart.Verdict ||
				len(together.Decisions) != 1 ||
				together.Decisions[0].Rule != apart.Decisions[0].Rule || together.Decisions[0].Kept != apart.Decisions[0].Kept ||
				len(together.State.Marks.Disputes) != len(apart.State.Marks.Disputes) {
				t.Errorf("%s, numbered %v: %+v; apart: %+v", rule, numbers, together, apart)
			}
		}
	}
}

// A removal at central meets an edit made at central that the remover had not seen, under each way.
func TestDirectRemovalMeetsDirectEdit(t *testing.T) {
	for _, removal := range merge.Removals {
		rules := merge.Rules{Removal: removal}
		edit := from(3, 1, 1, 10, `1`, `2`)
		remove := of(change.Remove, from(3, 2, 1, 20, ``, ``))
		remove.Fields, edit.Direct, remove.Direct = nil, true, true
		edited, err := merge.Merge(rules, start(t, `1`), edit)
		if err != nil {
			t.Fatal(err)
		}
		out, err := merge.Merge(rules, edited.State, remove)
		if err != nil || out.State.Removed != (removal == merge.RemovalStays) || len(out.Decisions) != 1 ||
			out.Decisions[0].Rule != string(removal) {
			t.Errorf("%s: %+v, %v", removal, out, err)
		}
		remove.Base = edited.State.Revision
		if out, err = merge.Merge(rules, edited.State, remove); err != nil || !out.State.Removed || len(out.Decisions) != 0 {
			t.Errorf("%s, having seen the edit: %+v, %v", removal, out, err)
		}
	}
}

// In a dispute that people at central have joined, each value stays, also of those who share the source.
func TestDirectCandidatesStay(t *testing.T) {
	state := start(t, `0`)
	for n, value := range []string{`1`, `2`, `3`} {
		e := from(3, int64(n+1), 1, int64(10+n), `0`, value)
		e.Direct = true
		out, err := merge.Merge(ruled(merge.Ask), state, e)
		if err != nil {
			t.Fatal(err)
		}
		state = out.State
	}
	if open := state.Marks.Disputes["a"]; string(state.Fields["a"]) != `1` || len(open.Others) != 2 ||
		string(open.Others[0].Value) != `2` || string(open.Others[1].Value) != `3` {
		t.Errorf("central has %s, in dispute are %+v", state.Fields["a"], open.Others)
	}
}

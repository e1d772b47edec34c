package merge_test

import (
	"encoding/json"
	"math/rand/v2"
	"testing"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/merge"
	"homing/core/record"
)

// Edits of the parts of a nested field by different stores come to the same in whatever order they arrive, each part
// by its own rule.
func TestPartsDoNotDependOnTheOrder(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 7))
	rules := merge.Rules{Fields: map[string]merge.Rule{"a/n": merge.Sum, "a/s": merge.Union},
		Nested: map[string]bool{"a": true}, Removal: merge.EditStays}
	start := `{"deep":{"x":"x","y":"y"},"n":10,"s":["one"],"t":"t"}`
	for round := range 500 {
		var edits []merge.Edit
		for store := byte(1); store <= 4; store++ {
			fields := record.Fields{"a": json.RawMessage(start)}
			to := fields
			for path, value := range map[string]string{"a/t": `"` + string('A'+rune(store)) + `"`, "a/deep/x": `"` +
				string('a'+rune(store)) + `"`, "a/n": "1" + string('0'+rune(store)), "a/s": `["one","` + string('a'+rune(store)) +
				`"]`} {
				if random.IntN(2) == 0 {
					to = to.Apply(to.Set(path, json.RawMessage(value)))
				}
			}
			edits = append(edits, merge.Edit{Kind: change.Edit, Base: 1, Fields: record.Diff(fields, to),
				Stamp: clock.Stamp{Millis: int64(random.IntN(5))}, Source: source(store, 1)})
		}
		first := ""
		for range 6 {
			state := apply(t, merge.State{}, of(change.Add, edit(9, 1, 0, 1, map[string]string{"a": start}))).State
			random.Shuffle(len(edits), func(i, j int) { edits[i], edits[j] = edits[j], edits[i] })
			for _, e := range edits {
				out, err := merge.Merge(rules, state, e)
				if err != nil {
					t.Fatal(err)
				}
				state = out.State
			}
			got := string(state.Fields["a"])
			if first == "" {
				first = got
			}
			if got != first {
				t.Fatalf("round %d: %s in one order, %s in another", round, first, got)
			}
		}
	}
}

// A removal that asks and an edit that meet come to the same whichever is first: the record stays with the edit, and
// the removal waits.
func TestRemovalThatAsks(t *testing.T) {
	rules := merge.Rules{Removal: merge.AskRemoval}
	removal := merge.Edit{Kind: change.Remove, Base: 1, Stamp: clock.Stamp{Millis: 20}, Source: source(1, 5)}
	edited := from(2, 3, 1, 10, `1`, `2`)
	for _, order := range [][]merge.Edit{{removal, edited}, {edited, removal}} {
		state := start(t, `1`)
		for _, e := range order {
			out, err := merge.Merge(rules, state, e)
			if err != nil {
				t.Fatal(err)
			}
			state = out.State
		}
		open, disputed := state.Marks.Disputes[merge.RecordRemoval]
		if state.Removed || string(state.Fields["a"]) != `2` || !disputed || len(open.Others) != 1 ||
			open.Others[0].Side.Source != removal.Source {
			t.Fatalf("removed %v, %s, %+v", state.Removed, state.Fields["a"], open)
		}
		stays, err := merge.Merge(rules, state, merge.Edit{Kind: change.Edit, Base: state.Revision,
			Stamp: clock.Stamp{Millis: 30}, Source: source(3, 1)})
		if err != nil || stays.State.Removed || stays.State.Marks.Disputes != nil || len(stays.Decisions) != 1 {
			t.Errorf("settled as staying: %+v, %v", stays, err)
		}
		goes, err := merge.Merge(rules, state, merge.Edit{Kind: change.Remove, Base: state.Revision,
			Stamp: clock.Stamp{Millis: 30}, Source: source(3, 1)})
		if err != nil || !goes.State.Removed || goes.State.Marks.Disputes != nil {
			t.Errorf("settled as removed: %+v, %v", goes, err)
		}
		unaware, err := merge.Merge(rules, state, merge.Edit{Kind: change.Remove, Base: 1, Stamp: clock.Stamp{Millis: 30},
			Source: source(4, 1)})
		if err != nil || unaware.State.Removed || unaware.Verdict != change.Held ||
			len(unaware.State.Marks.Disputes[merge.RecordRemoval].Others) != 2 {
			t.Errorf("a remover who knew nothing of it: %+v, %v", unaware, err)
		}
	}
}

// A store's earlier edit that comes after its later one takes nothing back; what it counted counts.
func TestAnEarlierEditComesLater(t *testing.T) {
	rules := merge.Rules{Fields: map[string]merge.Rule{"a": merge.Newest}, Removal: merge.EditStays}
	for _, rule := range []merge.Rule{merge.Newest, merge.First, merge.Ask, merge.Min, merge.Max} {
		rules.Fields["a"] = rule
		later := apply(t, start(t, `1`), of(change.Edit, from(1, 8, 1, 20, `2`, `3`)))
		out, err := merge.Merge(rules, later.State, from(1, 7, 1, 10, `1`, `2`))
		if err != nil || string(out.State.Fields["a"]) != `3` || len(out.Decisions) != 1 || out.State.Marks.Disputes != nil {
			t.Errorf("%s: %s, %+v, %v", rule, out.State.Fields["a"], out.Decisions, err)
		}
	}
	rules.Fields["a"] = merge.Sum
	state := start(t, `10`)
	for _, e := range []merge.Edit{from(1, 8, 1, 20, `12`, `15`), from(1, 7, 1, 10, `10`, `12`)} {
		out, err := merge.Merge(rules, state, e)
		if err != nil {
			t.Fatal(err)
		}
		state = out.State
	}
	if string(state.Fields["a"]) != `15` {
		t.Errorf("counted %s, want 15", state.Fields["a"])
	}
}

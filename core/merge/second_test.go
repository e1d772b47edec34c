package merge_test

import (
	"encoding/json"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"homing/core/change"
	"homing/core/merge"
	"homing/core/record"
)

// play merges edits in an order.
func play(t *testing.T, rules merge.Rules, state merge.State, edits ...merge.Edit) (merge.State, []change.Decision) {
	t.Helper()
	var decided []change.Decision
	for _, e := range edits {
		out, err := merge.Merge(rules, state, e)
		if err != nil {
			t.Fatal(err)
		}
		state, decided = out.State, append(decided, out.Decisions...)
	}
	return state, decided
}

// P5: a store's second edit, made before it knew what its first has met, comes to what both would have as one: what
// others wanted is neither taken out without a word, nor lost against a value that its author has given up.
func TestP5SecondEditsMeetWhatTheFirstHasMet(t *testing.T) {
	for _, test := range []struct {
		rule                     merge.Rule
		base, other, first, then string
		wants                    string
		decided                  bool
	}{
		{merge.Max, `10`, `100`, `200`, `50`, `100`, true},
		{merge.Min, `900`, `100`, `50`, `200`, `100`, true},
		{merge.Max, `10`, `100`, `200`, `300`, `300`, true},
		{merge.Append, `"x"`, `"xB"`, `"xA"`, `"xAC"`, `"xBAC"`, true},
		{merge.First, `1`, `2`, `2`, `3`, `2`, true},
		{merge.Ask, `1`, `2`, `2`, `3`, `2`, true},
		{merge.Newest, `1`, `2`, `3`, `4`, `4`, true},
		{merge.Sum, `1`, `3`, `2`, `5`, `7`, true},
	} {
		other := from(1, 1, 1, 10, test.base, test.other)
		first, then := from(2, 1, 1, 20, test.base, test.first), from(2, 2, 1, 30, test.first, test.then)
		state, decided := play(t, ruled(test.rule), start(t, test.base), other, first, then)
		if got := string(state.Fields["a"]); got != test.wants {
			t.Errorf("%s: %s, then %s and %s of another come to %s, want %s", test.rule, test.other, test.first, test.then,
				got, test.wants)
		}
		if test.decided && len(decided) == 0 {
			t.Errorf("%s: no decision is noted", test.rule)
		}
		if _, disputed := state.Marks.Disputes["a"]; disputed != (test.rule == merge.Ask) {
			t.Errorf("%s: disputed: %v", test.rule, disputed)
		}
	}
}

// P4: with newest, min and max, whatever the stores edit and in whatever order it arrives, the same comes out, also
// where each edits several times before it hears of the other.
func TestP4SeveralEditsOfEachInAnyOrder(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for _, rule := range []merge.Rule{merge.Newest, merge.Min, merge.Max} {
		for range 400 {
			queues := make([][]merge.Edit, 2+random.IntN(2))
			for n := range queues {
				seen := "50"
				for number := range 1 + random.IntN(3) {
					to := strconv.Itoa(random.IntN(100))
					queues[n] = append(queues[n], from(byte(n+1), int64(number+1), 1, int64(10*number+n+2), seen, to))
					seen = to
				}
			}
			outcomes := map[string]bool{}
			for range 12 {
				state, _ := play(t, ruled(rule), start(t, "50"), interleave(random, queues)...)
				outcomes[string(state.Fields["a"])] = true
			}
			if len(outcomes) != 1 {
				t.Fatalf("%s of %+v comes to %v", rule, queues, outcomes)
			}
		}
	}
}

// P5: in a storm of additions, each made without having seen the others', none is lost.
func TestP5NoAdditionIsLost(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	for range 100 {
		queues, lines := make([][]merge.Edit, 3), []string{}
		for n := range queues {
			seen := ""
			for number := range 5 {
				line := string(rune('a'+n)) + strconv.Itoa(number) + "."
				lines = append(lines, line)
				queues[n] = append(queues[n], from(byte(n+1), int64(number+1), 1, int64(random.IntN(1000)+2), quote(seen),
					quote(seen+line)))
				seen += line
			}
		}
		state, _ := play(t, ruled(merge.Append), start(t, `""`), interleave(random, queues)...)
		for _, line := range lines {
			if strings.Count(string(state.Fields["a"]), line) != 1 {
				t.Fatalf("%s is not once in %s", line, state.Fields["a"])
			}
		}
	}
}

func quote(text string) string { return strconv.Quote(text) }

// A counter that is cleared is taken down by what its author saw: what others have added stays, whichever came first.
func TestP2AClearedCounter(t *testing.T) {
	cleared, added := from(1, 1, 1, 10, "5", ""), from(2, 1, 1, 20, "5", "8")
	for _, order := range [][]merge.Edit{{cleared, added}, {added, cleared}} {
		state, _ := play(t, ruled(merge.Sum), start(t, "5"), order...)
		if got := string(state.Fields["a"]); got != "3" {
			t.Errorf("three added to a counter that was cleared make %q", got)
		}
	}
	state, _ := play(t, ruled(merge.Sum), start(t, "5"), cleared)
	if value, has := state.Fields["a"]; has {
		t.Errorf("a counter that was cleared and holds nothing more has the value %s", value)
	}
}

// P4: an answer says that the record is not what was asked for, where the change itself met nobody, but the one before
// it had been merged: whoever laid it over what they have would show another count.
func TestP4WhatIsNotAsAskedIsMerged(t *testing.T) {
	rules := ruled(merge.Sum)
	state, _ := play(t, rules, start(t, `10`), from(1, 1, 1, 10, `10`, `14`), from(2, 1, 1, 20, `10`, `17`))
	out, err := merge.Merge(rules, state, from(2, 2, state.Revision, 30, `17`, `20`))
	if err != nil || out.Verdict != change.Merged || string(out.State.Fields["a"]) != `24` {
		t.Errorf("the second is %s and leaves %s, %v", out.Verdict, out.State.Fields["a"], err)
	}
	out, err = merge.Merge(rules, out.State, from(2, 3, out.State.Revision, 40, `24`, `25`))
	if err != nil || out.Verdict != change.Applied {
		t.Errorf("the third, made on what central has, is %s, %v", out.Verdict, err)
	}
}

// P4: what was held sets no mark, and is news all the same to whoever has not seen it.
func TestP4AHeldEditIsNews(t *testing.T) {
	rules := ruled(merge.Ask)
	rules.Fields["b"] = merge.Newest
	state, _ := play(t, rules, start(t, `1`), from(1, 1, 1, 10, `1`, `2`), from(2, 1, 1, 20, `1`, `3`))
	other := from(3, 1, state.Revision-1, 30, ``, `"x"`)
	other.Fields = map[string]record.Edit{"b": {To: json.RawMessage(`"x"`)}}
	out, err := merge.Merge(rules, state, other)
	if err != nil || out.Verdict != change.Merged {
		t.Errorf("an edit that came after the dispute is %s, %v", out.Verdict, err)
	}
}

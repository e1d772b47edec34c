package merge_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/merge"
	"homing/core/record"
)

func ruled(rule merge.Rule) merge.Rules {
	return merge.Rules{Fields: map[string]merge.Rule{"a": rule}, Removal: merge.EditStays}
}

// from makes an edit of the field a, with what its author saw.
func from(store byte, number, base, millis int64, from, to string) merge.Edit {
	e := record.Edit{}
	if from != "" {
		e.From = json.RawMessage(from)
	}
	if to != "" {
		e.To = json.RawMessage(to)
	}
	return merge.Edit{Kind: change.Edit, Base: base, Fields: record.Delta{"a": e}, Stamp: clock.Stamp{Millis: millis},
		Source: source(store, number)}
}

func start(t *testing.T, value string) merge.State {
	t.Helper()
	return apply(t, merge.State{}, of(change.Add, edit(9, 1, 0, 1, map[string]string{"a": value}))).State
}

// Two edits of one field meet under each rule: what comes out, and which side the decision says was kept.
func TestEachRule(t *testing.T) {
	for _, test := range []struct {
		rule                  merge.Rule
		base, early, late     string
		lateFirst, earlyFirst string // what comes out when the late or the early edit arrives first
		kept                  string // with the early one first
	}{
		{merge.Newest, `1`, `2`, `3`, `3`, `3`, "change"},
		{merge.First, `1`, `2`, `3`, `3`, `2`, "central"},
		{merge.Sum, `10`, `13`, `8`, `11`, `11`, "both"},
		{merge.Sum, `10`, `11`, `11`, `12`, `12`, "both"}, // both counted one: that makes two
		{merge.Sum, ``, `1.5`, `2.25`, `3.75`, `3.75`, "both"},
		{merge.Sum, `0.1`, `0.3`, `0.2`, `0.4`, `0.4`, "both"},
		{merge.Sum, `9007199254740993`, `9007199254740994`, `9007199254740995`, `9007199254740996`, `9007199254740996`,
			"both"},
		{merge.Sum, `"x"`, `"y"`, `"z"`, `"z"`, `"z"`, "change"}, // no numbers: the later stays
		{merge.Min, `5`, `3`, `4`, `3`, `3`, "central"},
		{merge.Max, `5`, `8`, `7`, `8`, `8`, "central"},
		{merge.Max, `"2026-01-01"`, `"2026-03-01"`, `"2026-02-01"`, `"2026-03-01"`, `"2026-03-01"`, "central"},
		{merge.Union, `["a","b"]`, `["a","b","d"]`, `["b","c"]`, `["b","c","d"]`, `["b","c","d"]`, "both"},
		{merge.Union, ``, `["z"]`, `["a"]`, `["a","z"]`, `["a","z"]`, "both"},
		{merge.Append, `"x"`, `"x, one"`, `"x, two"`, `"x, one, two"`, `"x, one, two"`, "both"},
		{merge.Append, `"x"`, `"y"`, `"x, two"`, `"x, two"`, `"x, two"`, "change"}, // rewritten, not added to: the later stays
	} {
		rules := ruled(test.rule)
		early, late := from(1, 1, 1, 10, test.base, test.early), from(2, 1, 1, 20, test.base, test.late)
		for n, order := range [][]merge.Edit{{late, early}, {early, late}} {
			state := start(t, test.base)
			var out merge.Outcome
			for _, e := range order {
				var err error
				if out, err = merge.Merge(rules, state, e); err != nil {
					t.Fatal(err)
				}
				state = out.State
			}
			want := []string{test.lateFirst, test.earlyFirst}[n]
			if got := string(state.Fields["a"]); got != want || out.Verdict != change.Merged {
				t.Errorf("%s of %s: %s and %s come to %s, want %s (%s)", test.rule, test.base, order[0].Fields["a"].To,
					order[1].Fields["a"].To, got, want, out.Verdict)
			}
			if n == 1 && (len(out.Decisions) != 1 || out.Decisions[0].Kept != test.kept) {
				t.Errorf("%s of %s: decided %+v, want %s kept", test.rule, test.base, out.Decisions, test.kept)
			}
		}
	}
}

// A sum holds what was there, so its mark is no earlier, whichever arrives first. A device that asks whether a central
// which was restored has a count again goes by that.
func TestASumIsNoEarlierThanWhatItHolds(t *testing.T) {
	rules := ruled(merge.Sum)
	one, other, onTop := from(1, 1, 1, 100, `10`, `13`), from(2, 1, 1, 95, `10`, `11`), from(2, 1, 2, 90, `13`, `14`)
	for _, order := range [][]merge.Edit{{one, other}, {other, one}, {one, onTop}} {
		state := start(t, `10`)
		for _, e := range order {
			out, err := merge.Merge(rules, state, e)
			if err != nil {
				t.Fatal(err)
			}
			state = out.State
		}
		if mark := state.Marks.Of("a"); mark.Stamp.Millis != 100 || mark.Source != order[1].Source || string(state.Fields["a"]) != `14` {
			t.Errorf("%s is marked %+v", state.Fields["a"], mark)
		}
	}
}

// P5: under the rule ask nothing is overwritten: the edit is held, later words of the same store take the place of
// its earlier ones, and whoever knows of the dispute settles it.
func TestAskHoldsUntilSomebodySettles(t *testing.T) {
	rules := ruled(merge.Ask)
	state := start(t, `1`)
	step := func(e merge.Edit, verdict change.Verdict, value string, candidates int) {
		t.Helper()
		out, err := merge.Merge(rules, state, e)
		if err != nil {
			t.Fatal(err)
		}
		state = out.State
		if out.Verdict != verdict || string(state.Fields["a"]) != value ||
			len(state.Marks.Disputes["a"].Others) != candidates {
			t.Errorf("edit to %s: %s, %s, %d candidates; want %s, %s, %d", e.Fields["a"].To, out.Verdict, state.Fields["a"],
				len(state.Marks.Disputes["a"].Others), verdict, value, candidates)
		}
	}
	step(from(1, 1, 1, 10, `1`, `2`), change.Applied, `2`, 0)
	step(from(2, 1, 1, 20, `1`, `2`), change.Merged, `2`, 0) // the same value does not dispute
	step(from(3, 1, 1, 30, `1`, `3`), change.Held, `2`, 1)
	step(from(3, 2, 1, 31, `3`, `4`), change.Held, `2`, 1) // joins, in place of what it said before
	step(from(4, 1, 1, 32, `1`, `5`), change.Held, `2`, 2) // joins
	opened := state.Marks.Disputes["a"].Opened
	if d := state.Marks.Disputes["a"]; string(d.Base) != `1` || string(d.Others[0].Value) != `4` ||
		d.Others[1].Side.Source != source(4, 1) {
		t.Errorf("the dispute is %+v", d)
	}
	step(from(5, 1, opened+2, 40, `2`, `4`), change.Applied, `4`, 0) // knows of it, and settles it
	step(from(6, 1, opened, 41, `2`, `9`), change.Held, `4`, 1)      // settled in between: this one opens another
	step(from(7, 1, state.Revision, 50, `4`, `4`), change.Applied, `4`, 0)
}

func TestRemovalStays(t *testing.T) {
	rules := merge.Rules{Removal: merge.RemovalStays}
	removal := of(change.Remove, merge.Edit{Base: 1, Stamp: clock.Stamp{Millis: 10}, Source: source(1, 1)})
	later := from(2, 1, 1, 20, `1`, `2`)
	for n, order := range [][]merge.Edit{{removal, later}, {later, removal}} {
		state := start(t, `1`)
		var last merge.Outcome
		for _, e := range order {
			var err error
			if last, err = merge.Merge(rules, state, e); err != nil {
				t.Fatal(err)
			}
			state = last.State
		}
		if !state.Removed || len(last.Decisions) != 1 || last.Decisions[0].Rule != "removal-stays" {
			t.Errorf("order %d: removed %v, decided %+v", n, state.Removed, last.Decisions)
		}
	}
}

// Whatever the order in which the changes of several devices arrive, differences, smallest, largest and unions come
// out the same.
func TestRulesDoNotDependOnTheOrder(t *testing.T) {
	rules := merge.Rules{Removal: merge.EditStays, Fields: map[string]merge.Rule{"a": merge.Sum, "b": merge.Union,
		"c": merge.Min, "d": merge.Max}}
	for seed := range uint64(1500) {
		random := rand.New(rand.NewPCG(seed, 7))
		first := map[string]string{"a": `10`, "b": `["m","n"]`, "c": `50`, "d": `50`}
		base, err := merge.Merge(rules, merge.State{}, of(change.Add, edit(9, 1, 0, 1, first)))
		if err != nil {
			t.Fatal(err)
		}
		var queues [][]merge.Edit
		for store := range byte(4) {
			count, list := 10, []string{`"m"`, `"n"`}
			var queue []merge.Edit
			for number := range int64(1 + random.IntN(4)) {
				delta := record.Delta{}
				was := count
				count += random.IntN(9) - 4
				delta["a"] = record.Edit{From: json.RawMessage(fmt.Sprint(was)), To: json.RawMessage(fmt.Sprint(count))}
				before := list
				list = append(append([]string{}, list...), fmt.Sprintf(`"s%d-%d"`, store, number))
				if random.IntN(3) == 0 && list[0] == `"m"` {
					list = list[1:]
				}
				delta["b"] = record.Edit{From: texts(before), To: texts(list)}
				if number == 0 {
					delta["c"] = record.Edit{From: json.RawMessage(`50`), To: json.RawMessage(fmt.Sprint(random.IntN(100)))}
					delta["d"] = record.Edit{From: json.RawMessage(`50`), To: json.RawMessage(fmt.Sprint(random.IntN(100)))}
				}
				queue = append(queue, merge.Edit{Kind: change.Edit, Base: 1, Fields: delta,
					Stamp: clock.Stamp{Millis: random.Int64N(1000)}, Source: source(store+1, number+1)})
			}
			queues = append(queues, queue)
		}
		want := ""
		for range 4 {
			state := base.State
			for _, e := range interleave(random, queues) {
				out, err := merge.Merge(rules, state, e)
				if err != nil {
					t.Fatal(err)
				}
				state = out.State
			}
			if got := string(state.Fields.JSON()); want == "" {
				want = got
			} else if got != want {
				t.Fatalf("seed %d: %s in one order, %s in another", seed, want, got)
			}
		}
	}
}

func texts(list []string) json.RawMessage {
	text := "["
	for n, one := range list {
		if n > 0 {
			text += ","
		}
		text += one
	}
	return json.RawMessage(text + "]")
}

// Whatever meets whatever, the merge neither panics nor gives a value that is not JSON, and a field without a rule of
// its own is never held.
func FuzzRules(f *testing.F) {
	f.Add("sum", `10`, `12`, `7`)
	f.Add("union", `["a"]`, `["b"]`, `[]`)
	f.Add("append", `"x"`, `"xy"`, `"xz"`)
	f.Add("min", `1e400`, `-1`, ``)
	f.Add("ask", `1`, `2`, `3`)
	f.Fuzz(func(t *testing.T, rule, base, one, other string) {
		var values []string
		for _, text := range []string{base, one, other} {
			canonical, err := record.CanonicalField("a", []byte(text))
			if err != nil {
				return
			}
			values = append(values, string(canonical))
		}
		rules := ruled(merge.Rule(rule))
		state := start(t, values[0])
		for n, e := range []merge.Edit{from(1, 1, 1, 10, values[0], values[1]), from(2, 1, 1, 20, values[0], values[2])} {
			out, err := merge.Merge(rules, state, e)
			if err != nil {
				t.Fatal(err)
			}
			if value := out.State.Fields["a"]; value != nil {
				if canonical, err := record.Canonical(value); err != nil || string(canonical) != string(value) {
					t.Errorf("edit %d under %q gives %s, which is not canonical (%v)", n, rule, value, err)
				}
			}
			if out.Verdict == change.Held && merge.Rule(rule) != merge.Ask {
				t.Errorf("held under %q", rule)
			}
			state = out.State
		}
	})
}

// Lists are united member by member, not each against each: the work grows with their length alone.
func TestLongListsUniteQuickly(t *testing.T) {
	list := func(from, to int) string {
		var all []string
		for n := from; n < to; n++ {
			all = append(all, strconv.Itoa(1_000_000+n))
		}
		return "[" + strings.Join(all, ",") + "]"
	}
	const long = 100_000 // each against each would take minutes
	state := start(t, list(0, long))
	first, second := from(1, 1, 1, 10, list(0, long), list(0, long+5)), from(2, 1, 1, 20, list(0, long), list(5, long))
	state, _ = play(t, ruled(merge.Union), state, first, second)
	if got := len(strings.Split(string(state.Fields["a"]), ",")); got != long {
		t.Errorf("%d members, want %d", got, long)
	}
}

// P2: a record that is added again while it is there, since what was known of it went to central by another way, too,
// counts what either says, and not both.
func TestAnAddOfWhatIsThereCountsOnce(t *testing.T) {
	rules := ruled(merge.Sum)
	for _, test := range []struct{ first, again, want string }{{`4`, `4`, `4`}, {`4`, `6`, `6`}, {`6`, `4`, `6`}, {``, `4`, `4`}, {`4`, ``, `4`}} {
		fields := map[string]string{"b": `"x"`}
		if test.first != "" {
			fields["a"] = test.first
		}
		out, err := merge.Merge(rules, merge.State{}, of(change.Add, edit(9, 1, 0, 1, fields)))
		if err != nil {
			t.Fatal(err)
		}
		fields = map[string]string{"b": `"x"`}
		if test.again != "" {
			fields["a"] = test.again
		}
		if out, err = merge.Merge(rules, out.State, of(change.Add, edit(3, 1, 0, 2, fields))); err != nil {
			t.Fatal(err)
		}
		if got := string(out.State.Fields["a"]); got != test.want {
			t.Errorf("%s and %s come to %s, want %s", test.first, test.again, got, test.want)
		}
	}
}

// P10: a store's earlier edit comes after its later one, as when a restored central is offered again what it lost. A
// count that holds both is as late as the later one, so that nobody takes it for older than what it holds.
func TestWhatHoldsBothIsAsLateAsTheLater(t *testing.T) {
	for _, rule := range []merge.Rule{merge.Sum, merge.Union, merge.Append} {
		before, first, second := `1`, `2`, `4`
		switch rule {
		case merge.Union:
			before, first, second = `["a"]`, `["a","b"]`, `["a","b","c"]`
		case merge.Append:
			before, first, second = `"a"`, `"a b"`, `"a b c"`
		}
		apply := func(state merge.State, e merge.Edit) merge.State {
			t.Helper()
			out, err := merge.Merge(ruled(rule), state, e)
			if err != nil {
				t.Fatal(err)
			}
			return out.State
		}
		state := apply(merge.State{}, of(change.Add, edit(9, 1, 0, 1, map[string]string{"a": before})))
		state = apply(state, from(1, 7, 1, 40, first, second))
		state = apply(state, from(1, 3, 1, 10, before, first))
		if at := state.Marks.Of("a").Stamp.Millis; at != 40 {
			t.Errorf("%s: the mark is of %d", rule, at)
		}
	}
}

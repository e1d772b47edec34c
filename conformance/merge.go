package conformance

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/merge"
	"homing/core/record"
)

// held is a record with its marks, as it travels.
type held struct {
	Revision int64         `json:"revision"`
	Removed  bool          `json:"removed,omitempty"`
	Fields   record.Fields `json:"fields"`
	Marks    merge.Marks   `json:"marks"`
}

// life is what happens to one record, change by change.
type life struct {
	Rules struct {
		Fields  map[string]merge.Rule `json:"fields"`
		Nested  []string              `json:"nested"`
		Removal merge.Removal         `json:"removal"`
	} `json:"rules"`
	Edits []edit `json:"edits"`
}

func (l life) rules() merge.Rules {
	rules := merge.Rules{Fields: l.Rules.Fields, Nested: map[string]bool{}, Removal: l.Rules.Removal}
	for _, name := range l.Rules.Nested {
		rules.Nested[name] = true
	}
	return rules
}

// edit is a change with its stamp in central's time.
type edit struct {
	Kind   change.Kind     `json:"kind"`
	Base   int64           `json:"base"`
	Fields record.Delta    `json:"fields,omitempty"`
	Stamp  clock.Stamp     `json:"stamp"`
	Source change.Source   `json:"source"`
	Seen   []change.Source `json:"seen,omitempty"`
}

func (e edit) merge() merge.Edit {
	return merge.Edit{Kind: e.Kind, Base: e.Base, Fields: e.Fields, Stamp: e.Stamp, Source: e.Source, Seen: e.Seen}
}

// outcome is what came of one of them.
type outcome struct {
	Refused   string            `json:"refused,omitempty"` // the code
	After     *held             `json:"after,omitempty"`
	Answer    change.Verdict    `json:"answer,omitempty"`
	Delta     record.Delta      `json:"delta,omitempty"`
	Decisions []change.Decision `json:"decisions,omitempty"`
}

// merges are changes that meet a record: drawn lives of records under every rule.
var merges = kind{
	about: "The merge. Each case is the life of one record that is not there at first. Each of edits is a change with its stamp in central's time, and meets the record as the one before has left " +
		"it. steps say what comes of each: after, answer, delta and decisions, or refused, the code of a change that cannot be merged and leaves the record as it was. A field without a rule has " +
		"newest. Nested fields are merged part by part.",
	given: func() (all []any, err error) {
		for n := range uint64(64) {
			one, err := aLife(drawing(1000+n), merge.Removals[n%uint64(len(merge.Removals))], n >= 48)
			if err != nil {
				return nil, fmt.Errorf("life %d: %w", n, err)
			}
			all = append(all, one)
		}
		return all, nil
	},
	work: working(func(given life) (any, error) {
		rules, state, steps := given.rules(), merge.State{}, []outcome{}
		for _, e := range given.Edits {
			var one outcome
			out, err := merge.Merge(rules, state, e.merge())
			var refusal *merge.Refusal
			switch {
			case errors.As(err, &refusal):
				one.Refused = refusal.Reason.Code
			case err != nil:
				return nil, err
			default:
				state = out.State
				one = outcome{After: &held{state.Revision, state.Removed, state.Fields, state.Marks}, Answer: out.Verdict, Delta: out.Delta, Decisions: out.Decisions}
			}
			steps = append(steps, one)
		}
		return map[string]any{"steps": steps}, nil
	}),
}

// aLife draws what happens to one record. Twice says that several add it without knowing of each other, as with the one for a place and a
// period.
func aLife(random *rand.Rand, removal merge.Removal, twice bool) (one life, err error) {
	one.Rules.Fields = map[string]merge.Rule{"asked": merge.Ask, "first": merge.First, "count": merge.Sum, "least": merge.Min, "most": merge.Max,
		"tags": merge.Union, "log": merge.Append, "parts/tally": merge.Sum, "parts/said": merge.Ask}
	one.Rules.Nested, one.Rules.Removal = []string{"parts"}, removal
	var stores [3]uuid.UUID
	for n := range stores {
		stores[n] = drawnID(random)
	}
	numbers, late := map[uuid.UUID]int64{}, map[uuid.UUID]int64{}
	states := []merge.State{{}} // by revision
	start := time.Date(2026, 6, 1, 6, 0, 0, 0, time.UTC)
	for step := range 9 {
		state := states[len(states)-1]
		store := stores[random.IntN(len(stores))]
		e := edit{}
		e.Source, e.Kind = change.Source{Incarnation: store, Number: late[store]}, change.Edit
		if late[store] == 0 || random.IntN(3) > 0 {
			numbers[store]++
			if late[store] == 0 && random.IntN(4) == 0 {
				late[store] = numbers[store]
				numbers[store]++
			}
			e.Source.Number = numbers[store]
		} else {
			late[store] = 0 // an earlier edit comes after a later one of the same store
		}
		e.Stamp = clock.At(start.Add(time.Duration(random.IntN(120)) * time.Minute / 4)) // now and then two at one moment
		e.Base = int64(random.IntN(len(states)))
		switch roll := random.IntN(20); {
		case step == 0:
			e.Kind, e.Base = change.Add, 0
		case roll == 0, twice && step < 4:
			e.Kind, e.Base = change.Add, 0
		case roll < 4:
			e.Kind = change.Remove
		}
		if e.Kind != change.Remove {
			e.Fields = someEdits(random, states[e.Base].Fields, step)
		}
		if out, err := merge.Merge(one.rules(), state, e.merge()); err == nil { // else it is refused
			states = append(states, out.State)
		}
		one.Edits = append(one.Edits, e)
	}
	return one, nil
}

// someEdits are edits of some fields, from what the author saw.
func someEdits(random *rand.Rand, seen record.Fields, step int) record.Delta {
	delta := record.Delta{}
	set := func(name, value string) {
		if random.IntN(3) == 0 {
			delta[name] = record.Edit{From: seen[name], To: json.RawMessage(value)}
		}
	}
	number := fmt.Sprint(random.IntN(50))
	set("plain", fmt.Sprintf(`"word %d"`, step))
	set("asked", fmt.Sprintf(`"asked %d"`, random.IntN(3))) // so that two say the same now and then
	set("first", fmt.Sprintf(`"first %d"`, step))
	set("count", number)
	set("least", number)
	set("most", number+".5")
	set("parts", fmt.Sprintf(`{"said":"said %d","tally":%s}`, random.IntN(3), number))
	var tags []string
	json.Unmarshal(seen["tags"], &tags) // none where there is no list
	if len(tags) > 0 && random.IntN(2) == 0 {
		tags = tags[1:]
	}
	text, _ := json.Marshal(append(tags, fmt.Sprintf("tag %d", random.IntN(6)))) // always marshals
	set("tags", string(text))
	var log string
	json.Unmarshal(seen["log"], &log)
	text, _ = json.Marshal(log + fmt.Sprintf("line %d\n", step))
	set("log", string(text))
	if len(seen) > 0 && random.IntN(6) == 0 { // something is taken away
		for _, name := range []string{"plain", "least", "first"} {
			if seen[name] != nil {
				delta[name] = record.Edit{From: seen[name]}
				break
			}
		}
	}
	return delta
}

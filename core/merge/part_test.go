package merge_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"

	"homing/core/change"
	"homing/core/merge"
	"homing/core/record"
)

// P4: whatever has become of a record, what came after a revision makes it out of what it was then, byte for byte, or the
// digest says that it does not. Nearly always it does.
func TestAPartMakesTheWhole(t *testing.T) {
	asked := merge.Rules{Removal: merge.EditStays, Fields: map[string]merge.Rule{"a": merge.Ask, "b": merge.Sum, "c": merge.First, "d": merge.Append}}
	random := rand.New(rand.NewPCG(5, 8))
	right, all := 0, 0
	for range 300 {
		state := apply(t, merge.State{}, of(change.Add, edit(9, 1, 0, 1, map[string]string{"a": `"x"`, "b": "1", "e": "7"}))).State
		states := []merge.State{{}, state}
		for number := range int64(12) {
			e := edit(byte(1+random.IntN(3)), number+2, max(1, state.Revision-random.Int64N(4)), 10+random.Int64N(50), someFields(random))
			if random.IntN(8) == 0 {
				e.Kind, e.Fields = change.Remove, record.Delta{}
			}
			out, err := merge.Merge(asked, state, e)
			if err != nil || out.State.Revision == state.Revision {
				continue
			}
			state = out.State
			states = append(states, state)
		}
		if state.Removed {
			continue // comes whole
		}
		fields, marks := bothTexts(t, state)
		for since, then := range states {
			part, ok := merge.After(int64(since), state.Fields, state.Marks)
			if !ok || then.Removed || since == 0 {
				continue
			}
			all++
			was, wasMarks := bothTexts(t, then)
			overFields, overMarks := part.Whole(then.Fields, then.Marks)
			marked, err := json.Marshal(overMarks)
			if err != nil {
				t.Fatal(err)
			}
			same := string(overFields.JSON()) == string(fields) && string(marked) == string(marks)
			if same != (merge.Digest(overFields.JSON(), marked) == merge.Digest(fields, marks)) {
				t.Fatalf("the digest does not tell %s %s from %s %s", overFields.JSON(), marked, fields, marks)
			}
			if same {
				right++
			}
			if now, nowMarks := bothTexts(t, then); string(now) != string(was) || string(nowMarks) != string(wasMarks) {
				t.Fatalf("laying a part over it has altered what was there: %s, %s", now, was)
			}
		}
	}
	if all < 1000 || right*100 < all*98 {
		t.Errorf("%d of %d parts make the whole", right, all)
	}
}

func someFields(random *rand.Rand) map[string]string {
	fields := map[string]string{}
	for _, name := range []string{"a", "b", "c", "d", "e", "f"} {
		switch random.IntN(6) {
		case 0:
			fields[name] = fmt.Sprintf(`"%d"`, random.IntN(5))
			if name == "b" {
				fields[name] = fmt.Sprint(random.IntN(9))
			}
		case 1:
			fields[name] = "" // it goes
		}
	}
	return fields
}

func bothTexts(t *testing.T, s merge.State) (fields, marks []byte) {
	t.Helper()
	marks, err := json.Marshal(s.Marks)
	if err != nil {
		t.Fatal(err)
	}
	return s.Fields.JSON(), marks
}

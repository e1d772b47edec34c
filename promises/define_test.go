package promises_test

import (
	"errors"
	"strings"
	"testing"

	"homing/central"
	"homing/central/fault"
	"homing/core/definition"
	"homing/device"
	"homing/internal/testbed"
)

func read(t *testing.T, text string) definition.Definition {
	t.Helper()
	d, err := definition.ReadSource("x.yaml", []byte(text))
	testbed.Must(t, err)
	return d
}

// P1, P12: a definition that would lose or break values is refused, whole, with what, where and how many; a preview
// changes nothing.
func TestP12ABreakingDefinitionIsRefused(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	for _, fields := range []device.Fields{{"name": "Ridge", "state": "open", "length_km": 4.5, "note": "dry"},
		{"name": "Gorge", "state": "closed"}, {"name": "Valley"}} {
		_, err := store.Add(ctx, "trails", fields)
		testbed.Must(t, err)
	}
	testbed.Exchange(t, store)
	base := func(fields string) string {
		return "collection: trails\nlabel: \"{name}\"\nrequired: [name]\nfields:\n" + fields
	}
	const name, state, length, note = "  name: {type: string}\n", "  state: {enum: [open, closed]}\n",
		"  length_km: {type: number}\n", "  note: {type: string}\n"
	for what, test := range map[string]struct {
		text    string
		field   string
		records int
	}{
		"a choice that is used goes":        {base(name + "  state: {enum: [open]}\n" + length + note), "state", 1},
		"a type changes":                    {base(name + state + "  length_km: {type: string}\n" + note), "length_km", 1},
		"a field with values goes":          {base(name + state + length), "note", 1},
		"a field is renamed without a word": {base(name + state + length + "  remark: {type: string}\n"), "note", 1},
		"a field becomes required": {strings.Replace(base(name+state+length+note), "[name]", "[name, state]", 1),
			"state", 1},
		"a bound becomes tighter": {base("  name: {type: string, maxLength: 5}\n" + state + length + note),
			"name", 1},
	} {
		d := read(t, test.text)
		plans, err := bed.Central.Preview(ctx, []definition.Definition{d})
		testbed.Must(t, err)
		if len(plans[0].Broken) != 1 || plans[0].Broken[0].Field != test.field ||
			plans[0].Broken[0].Records != test.records || plans[0].Devices != 1 || len(plans[0].Differences) == 0 {
			t.Errorf("%s: the preview says %+v", what, plans[0])
		}
		_, err = bed.Central.Define(ctx, "admin", []definition.Definition{read(t,
			testbed.Structures+"  height: {type: number}\n"), d})
		if known := fault.Explain(err); err == nil || known == nil || known.Kind != fault.Clash ||
			len(known.Reasons) != 1 || known.Reasons[0].Field != test.field {
			t.Errorf("%s: %v", what, err)
		}
	}
	for _, name := range []string{"trails", "structures"} {
		if c, err := bed.Central.Collection(ctx, name); err != nil || c.Version != 1 {
			t.Errorf("%s is at version %d: %v", name, c.Version, err)
		}
	}
	bed.Same(store)
}

// P12: values are carried over as the file says, each record by a change of its own; changes that a device made under
// the old names are taken under the new ones.
func TestP12ValuesAreCarriedOver(t *testing.T) {
	bed := testbed.Start(t)
	old, fresh := bed.Device("worker", "old", device.Options{}), bed.Device("lead", "new", device.Options{})
	testbed.Exchange(t, old)
	r, err := old.Add(ctx, "trails", device.Fields{"name": "Ridge", "state": "open", "length_km": 4.5, "note": "dry"})
	testbed.Must(t, err)
	testbed.Exchange(t, old, fresh)
	// Without signal, under the old names.
	editTrail(t, old, r.ID, device.Fields{"note": "wet now", "state": "closed"})

	const next = `collection: trails
label: "{name}"
required: [name, grade]
fields:
  name: {type: string, minLength: 1}
  state: {enum: [open, closed]}
  length_m: {type: number}
  remark: {type: string}
  grade: {enum: [easy, hard]}
carry:
  rename: {note: remark}
  convert: {length_m: "record.length_km == null ? dyn(null) : record.length_km * 1000.0"}
  default: {grade: easy}
  drop: [length_km]
`
	plans, err := bed.Central.Preview(ctx, []definition.Definition{read(t, next)})
	testbed.Must(t, err)
	if plans[0].Carried != 1 || len(plans[0].Broken) != 0 {
		t.Errorf("the preview says %+v", plans[0])
	}
	bed.Define(next)
	if got := value(t, bed, r.ID, "length_m") + value(t, bed, r.ID, "remark") + value(t, bed, r.ID, "grade") +
		value(t, bed, r.ID, "note"); got != `4500"dry""easy"` {
		t.Errorf("carried over: %s", got)
	}
	history, err := bed.Central.History(ctx, central.Everything("admin"), "trails", r.ID)
	testbed.Must(t, err)
	if len(history) != 2 || !strings.Contains(string(history[0].Fields), `"length_km":{"from":4.5}`) {
		t.Errorf("the history does not keep what was: %s", history[0].Fields)
	}
	if got := testbed.Exchange(t, old); got.Merged != 1 || got.Refused != 0 {
		t.Errorf("the change under the old names: %+v", got)
	}
	if got := value(t, bed, r.ID, "remark") + value(t, bed, r.ID, "state"); got != `"wet now""closed"` {
		t.Errorf("the change came out as %s", got)
	}
	testbed.Exchange(t, fresh, old)
	bed.Same(old, fresh)

	// The same file again carries nothing over a second time, and neither does a later version that keeps the section.
	bed.Define(next)
	bed.Define(strings.Replace(next, "  grade:", "  warden: {type: string}\n  grade:", 1))
	if got := value(t, bed, r.ID, "length_m"); got != "4500" {
		t.Errorf("converted twice: %s", got)
	}
	for text, says := range map[string]string{
		"carry: {rename: {note: nowhere}}": "rename names the field \"nowhere\"",
		"carry: {drop: [name]}":            "drop names the field", "carry: {convert: {state: \"record.\"}}": "no viable",
		"carry: {jump: 1}": "not known here",
	} {
		_, err := definition.ReadSource("x.yaml", []byte(testbed.Trails+text+"\n"))
		var wrong *definition.SourceError
		if !errors.As(err, &wrong) || !strings.Contains(err.Error(), says) || wrong.Line == 0 {
			t.Errorf("%s: %v", text, err)
		}
	}
}

package definition_test

import (
	"testing"

	"homing/core/definition"
	"homing/core/rights"
)

func TestWhatSomebodyMayDo(t *testing.T) {
	d, err := definition.ReadSource("huts.yaml", []byte(`
collection: huts
fields: {name: {type: string}, open: {type: boolean}}
access:
  read: worker.role != "reader"
  edit: before.open == true
  remove: worker.name == "ada"
`))
	if err != nil {
		t.Fatal(err)
	}
	c, err := d.Compile()
	if err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct {
		who  rights.Person
		want [4]string // read, add, edit, remove
	}{
		{rights.Person{Name: "ada", Role: rights.Worker}, [4]string{"all", "all", "some", "all"}},
		{rights.Person{Name: "bo", Role: rights.Lead}, [4]string{"all", "all", "some", "none"}},
		{rights.Person{Name: "cy", Role: rights.Reader}, [4]string{"none", "none", "none", "none"}},
		{rights.Person{Name: "dee", Role: rights.Admin}, [4]string{"all", "all", "all", "all"}},
	} {
		for n, leave := range c.Leaves(test.who) {
			if leave.With != test.want[n] {
				t.Errorf("%s may %s %s of them by %q, want %s", test.who.Name, leave.Act, leave.With, leave.Rule, test.want[n])
			}
		}
	}
}

func TestTwoEditsMeet(t *testing.T) {
	d, err := definition.ReadSource("huts.yaml", []byte(`
collection: huts
fields: {beds: {type: integer}, state: {type: string}, visits: {type: integer}}
sync: {rules: {state: ask, visits: sum}}
`))
	if err != nil {
		t.Fatal(err)
	}
	base, one, other := fields(t, `{"beds":4,"state":"open","visits":10}`), fields(t, `{"beds":5,"state":"shut","visits":12}`),
		fields(t, `{"beds":6,"state":"damp","visits":13}`)
	for _, otherFirst := range []bool{false, true} {
		met, err := d.Meet(base, one, other, otherFirst)
		if err != nil {
			t.Fatal(err)
		}
		came := map[bool]string{false: `"shut"`, true: `"damp"`}[otherFirst]
		if string(met.Record["beds"]) != "6" || string(met.Record["visits"]) != "15" || string(met.Record["state"]) != came ||
			len(met.Disputes) != 1 {
			t.Errorf("other first %v: %v, disputes %v", otherFirst, met.Record, met.Disputes)
		}
	}
	met, err := d.Meet(base, base, other, false)
	if err != nil || string(met.Record["state"]) != `"damp"` || len(met.Decisions) != 0 {
		t.Errorf("where nobody else edits: %v %v %v", met.Record, met.Decisions, err)
	}
}

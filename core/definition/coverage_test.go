package definition_test

import (
	"strings"
	"testing"

	"homing/core/definition"
	"homing/core/rights"
)

const rounds = `
collection: rounds
required: [hut, week, water]
fields:
  hut: {type: string, format: uuid, reference: huts}
  week: {type: string, period: week}
  water: {type: string}
  done_by: {type: string}
coverage:
  place: hut
  period: week
  expected: {where: 'record.open == true && period.first > "2026-01-01"', from: 2026-W10, until: 2026-W20, due: 1 week}
  complete: done_by
  reopen: worker.role == "lead" && record.water != "dry"
`

func TestWhatIsNoCoverageIsRefused(t *testing.T) {
	if _, err := definition.ReadSource("rounds.yaml", []byte(rounds)); err != nil {
		t.Fatal(err)
	}
	for _, test := range []struct{ old, now, want string }{
		{"place: hut\n", "place: water\n", `rounds.yaml:10: place: "water" is no field with a reference`},
		{"place: hut\n", "place: nothing\n", `"nothing" is no field with a reference`},
		{"period: week\n", "period: water\n", `rounds.yaml:11: period: "water" is no field with a period`},
		{"period: week}", "period: fortnight}", `rounds.yaml:6: period: "fortnight" is no kind of period: take day, week, month, quarter or year`},
		{"{type: string, period: week}", "{type: integer, period: week}", "a period is a text"},
		{"required: [hut, week, water]", "required: [hut, water]", "name both under required"},
		{"from: 2026-W10", "from: 2026-W54", `"2026-W54" is no week: 2026 has 53 weeks`},
		{"until: 2026-W20", "until: 2026-W01", "2026-W01 comes before 2026-W10"},
		{"due: 1 week", "due: 90 minutes", "no number of days"},
		{"due: 1 week", "due: soon", "no number of days"},
		{"  complete: done_by\n", "  complete: nothing\n", `"nothing" is to hold who marked the record complete`},
		{"  complete: done_by\n", "", "nothing is marked complete"},
		{"  reopen: worker.role", "  reopen: worker.roll", "there is no"},
		{"place: hut\n", "places: hut\n", "coverage reads {place: FIELD, period: FIELD"},
		{"collection: rounds\n", "collection: rounds\nkey: water\nunique: true\n", "leave unique out"},
	} {
		text := strings.Replace(rounds, test.old, test.now, 1)
		d, err := definition.ReadSource("rounds.yaml", []byte(text))
		if err == nil {
			err = d.Inspect()
		}
		if text == rounds || err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s: %v, want %s", test.now, err, test.want)
		}
	}
	// A year is a text, also where YAML takes it for a number; and what is written is read again.
	yearly := strings.NewReplacer("period: week}", "period: year}", "2026-W10", "2026", "2026-W20", "2030").Replace(rounds)
	d, err := definition.ReadSource("rounds.yaml", []byte(yearly))
	if err != nil || d.Coverage.Expected.From != "2026" {
		t.Fatalf("a year is %+v, %v", d.Coverage, err)
	}
	if again, err := definition.ReadSource("again.yaml", definition.WriteSource(d)); err != nil || !again.SameAs(d) {
		t.Errorf("written and read it is %+v, %v", again, err)
	}
}

// An expectation over a collection that is not there, or over what its records do not have, is refused with all definitions that stand together.
func TestExpectationsOverOtherCollections(t *testing.T) {
	all := map[string]*definition.Collection{"rounds": compiled(t, rounds)}
	if err := definition.CheckTogether(all); err == nil || !strings.Contains(err.Error(), "refers to the collection huts, which is not defined") {
		t.Errorf("without huts: %v", err)
	}
	all["huts"] = compiled(t, "collection: huts\nfields:\n  name: {type: string}\n")
	if err := definition.CheckTogether(all); err == nil || !strings.Contains(err.Error(), "what rounds expects of huts") {
		t.Errorf("huts that are never open: %v", err)
	}
	all["huts"] = compiled(t, "collection: huts\nfields:\n  name: {type: string}\n  open: {type: boolean}\n")
	if err := definition.CheckTogether(all); err != nil {
		t.Error(err)
	}
}

func TestWhoMayOpenARecordAgain(t *testing.T) {
	c := compiled(t, rounds)
	usual := compiled(t, strings.Replace(rounds, "  reopen: worker.role == \"lead\" && record.water != \"dry\"\n", "", 1))
	for _, test := range []struct {
		c                   *definition.Collection
		name                string
		role                rights.Role
		before, after, want string
	}{
		{c, "mira", rights.Worker, `{}`, `{"done_by":"mira"}`, ""},
		{c, "mira", rights.Worker, `{}`, `{"done_by":"tobin"}`, "mira cannot mark the record complete in the name of tobin"},
		{c, "anna", rights.Admin, `{}`, `{"done_by":"tobin"}`, ""},
		{c, "mira", rights.Worker, `{"done_by":"mira","water":"runs"}`, `{}`, "mira may not open this record again"},
		{c, "runa", rights.Lead, `{"done_by":"mira","water":"runs"}`, `{}`, ""},
		{c, "runa", rights.Lead, `{"done_by":"mira","water":"dry"}`, `{}`, "runa may not open this record again"},
		{usual, "mira", rights.Worker, `{"done_by":"mira"}`, `{}`, ""},
		{usual, "tobin", rights.Worker, `{"done_by":"mira"}`, `{}`, "mira has marked the record complete; they, or a lead, may open it again"},
		{usual, "runa", rights.Lead, `{"done_by":"mira"}`, `{}`, ""},
		{usual, "tobin", rights.Worker, `{"done_by":"mira"}`, `{"done_by":"mira","water":"x"}`, ""},
	} {
		err := test.c.MayEdit(rights.Person{Name: test.name, Role: test.role}, fieldsOf(t, test.before), fieldsOf(t, test.after))
		if got := ""; err != nil {
			if got = err.Error(); test.want == "" || !strings.Contains(got, test.want) {
				t.Errorf("%s from %s to %s: %v", test.name, test.before, test.after, err)
			}
		} else if test.want != "" {
			t.Errorf("%s from %s to %s may, want %s", test.name, test.before, test.after, test.want)
		}
	}
}

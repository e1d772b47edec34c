package definition_test

import (
	"fmt"
	"strings"
	"testing"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
	"homing/core/rights"
)

const following = `
collection: inspections
fields:
  place: {type: string}
  severity: {type: integer}
  state: {type: string}
  hut: {type: string, format: uuid}
parent: {collection: huts, field: hut}
follow_ups:
  - name: severe
    when: after.severity >= 4.0 && (before == null || before.severity == null || before.severity < 4.0)
    set: {state: '"severe, says " + worker.name'}
    set_parent: {state: '"closed"'}
    add: {collection: repairs, fields: {what: '"Mend " + after.place', inspection: id}}
  - {name: gone, when: after == null && before.severity > 2.0, set: {state: '"x"'}, set_parent: {state: "null"}, depth: 1}
`

func fieldsOf(t *testing.T, text string) record.Fields {
	t.Helper()
	if text == "" {
		return nil
	}
	fields, err := record.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return fields
}

func TestFollows(t *testing.T) {
	c := compiled(t, following)
	for _, one := range []struct{ name, before, after, want string }{
		{"an add", "", `{"place":"Gale","severity":4}`, `severe set={"state":"severe, says mira"} parent={"state":"closed"} add={"inspection":"7","what":"Mend Gale"}`},
		{"an edit that makes it so", `{"place":"Gale","severity":3}`, `{"place":"Gale","severity":5}`, `severe set={"state":"severe, says mira"} parent={"state":"closed"} add={"inspection":"7","what":"Mend Gale"}`},
		{"an edit of what is so", `{"place":"Gale","severity":4}`, `{"place":"Gale","severity":5}`, ""},
		{"a value that is missing", "", `{"place":"Gale"}`, ""},
		{"a value that is missing for what it sets", "", `{"severity":5}`, "severe wrong"},
		{"a removal sets nothing in what is gone", `{"severity":3}`, "", `gone set={} parent={"state":null} add={}`},
		{"a removal of what does not matter", `{"severity":1}`, "", ""},
	} {
		got, err := c.Follows(definition.Cause{ID: "7", Before: fieldsOf(t, one.before), After: fieldsOf(t, one.after), Kind: change.Edit,
			Who: rights.Person{Name: "mira", Role: rights.Worker}})
		if err != nil {
			t.Fatal(err)
		}
		text := func(fields record.Fields) string {
			var parts []string
			for _, name := range []string{"inspection", "state", "what"} {
				if value, has := fields[name]; has {
					if value == nil {
						value = []byte("null")
					}
					parts = append(parts, fmt.Sprintf("%q:%s", name, value))
				}
			}
			return "{" + strings.Join(parts, ",") + "}"
		}
		var said []string
		for _, f := range got {
			if f.Wrong != nil {
				said = append(said, f.Rule.Name+" wrong")
				continue
			}
			said = append(said, fmt.Sprintf("%s set=%s parent=%s add=%s", f.Rule.Name, text(f.Set), text(f.SetParent), text(f.Add)))
		}
		if strings.Join(said, "; ") != one.want {
			t.Errorf("%s: %q, not %q", one.name, said, one.want)
		}
	}
}

// What would stop work later is said with its line when the file is read.
func TestFollowUpsThatAreNone(t *testing.T) {
	const head = "collection: rounds\nfields:\n  n: {type: integer}\n  twice: {type: number, computed: record.n * 2.0}\n  memo: {type: string, local: true}\nfollow_ups:\n  - "
	for rule, want := range map[string]string{
		`{name: A, when: "true", set: {n: "1"}}`:                                                     "x.yaml:7: name: \"A\" cannot name a follow-up",
		`{name: a, set: {n: "1"}}`:                                                                   "a condition is missing",
		`{name: a, when: "true"}`:                                                                    "does nothing",
		`{name: a, when: "true", set: {twice: "1"}}`:                                                 "is worked out from other values and cannot be set",
		`{name: a, when: "true", set: {memo: "'x'"}}`:                                                "stays on the device",
		`{name: a, when: "true", set: {m: "1"}}`:                                                     `rounds has no field "m"`,
		`{name: a, when: "after.m > 1.0", set: {n: "1"}}`:                                            `there is no field "m"`,
		`{name: a, when: "after.n >", set: {n: "1"}}`:                                                "x.yaml:7: when:",
		`{name: a, when: after.n > 0.0, set: {n: after.n + 1.0}}`:                                    "without end",
		`{name: a, when: "true", set_parent: {n: "1"}}`:                                              "has no parent",
		`{name: a, when: "true", set: {n: "1"}, depth: 9}`:                                           "take a depth of 1 to 8",
		`{name: a, when: "true", add: {collection: Jobs}}`:                                           "add names the collection",
		`{name: a, when: "true", add: {collection: jobs, each: day}}`:                                "take record or change",
		`{name: a, when: "true", sets: {n: "1"}}`:                                                    "unknown field",
		"{name: a, when: \"true\", set: {n: \"1\"}}\n  - {name: a, when: \"true\", set: {n: \"1\"}}": "stands there twice",
	} {
		_, err := definition.ReadSource("x.yaml", []byte(head+rule+"\n"))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; it is to say %q", rule, err, want)
		}
	}
	// Where it looks at the kind of the change, what is worked out from itself comes to an end.
	if _, err := definition.ReadSource("x.yaml", []byte(head+`{name: a, when: change.kind == "add", set: {n: after.n + 1.0}}`+"\n")); err != nil {
		t.Error(err)
	}
}

// What a follow-up asks of other collections is looked at once all are known.
func TestFollowUpsAcrossCollections(t *testing.T) {
	jobs := "collection: jobs\nrequired: [what]\nfields:\n  what: {type: string}\n  number: {type: string, series: J-1}\n"
	for rule, want := range map[string]string{
		`{name: a, when: "true", add: {collection: nothing}}`:                                    "it adds to the collection nothing, which is not defined",
		`{name: a, when: "true", add: {collection: jobs}}`:                                       "it gives jobs no what, which is required there",
		`{name: a, when: "true", add: {collection: jobs, fields: {what: "'x'", number: "'1'"}}}`: "is a number that central hands out",
		`{name: a, when: "true", add: {collection: jobs, fields: {what: "'x'"}}}`:                "",
	} {
		all := map[string]*definition.Collection{"jobs": compiled(t, jobs),
			"rounds": compiled(t, "collection: rounds\nfields:\n  n: {type: integer}\nfollow_ups:\n  - "+rule+"\n")}
		err := definition.CheckTogether(all)
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%s: %v; it is to say %q", rule, err, want)
		}
	}
}

// A definition with follow-ups is written as it is read.
func TestFollowUpsAreWritten(t *testing.T) {
	d, err := definition.ReadSource("x.yaml", []byte(following))
	if err != nil {
		t.Fatal(err)
	}
	again, err := definition.ReadSource("x.yaml", definition.WriteSource(d))
	if err != nil || !again.SameAs(d) {
		t.Errorf("%v:\n%s", err, definition.WriteSource(d))
	}
}

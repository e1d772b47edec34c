package definition_test

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
)

const watched = `
collection: repairs
required: [what, why_not]
fields:
  what: {type: string, again: true}
  due: {type: string, format: date}
  done: {type: boolean}
  cost: {type: number, computed: "record.due == null ? 0.0 : 5.0"}
  why_not: {type: string, when: record.done == false}
attention:
  - {when: record.done != true && record.due < today, say: overdue, grade: urgent}
  - {when: 'record.done != true && days(today, record.due) <= 14', say: due soon, grade: soon}
  - {when: record.cost > 4.0, say: dear, grade: note}
languages:
  de: {title: Reparaturen, fields: {what: {title: Was}, due: {title: Fällig, description: Bis wann}}, attention: {overdue: überfällig}}
`

func compiled(t *testing.T, source string) *definition.Collection {
	t.Helper()
	d, err := definition.ReadSource("x.yaml", []byte(source))
	if err != nil {
		t.Fatal(err)
	}
	c, err := d.Compile()
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestAttention(t *testing.T) {
	c := compiled(t, watched)
	for _, one := range []struct{ fields, today, want string }{
		{`{"due":"2026-05-01"}`, "2026-05-02", "overdue"},
		{`{"due":"2026-05-01"}`, "2026-05-01", "due soon"},
		{`{"due":"2026-05-01"}`, "2026-04-17", "due soon"},
		{`{"due":"2026-05-01"}`, "2026-04-16", ""},
		{`{"due":"2026-05-01","done":true,"cost":5}`, "2026-05-02", "dear"},
		{`{}`, "2026-05-02", ""},
	} {
		fields, err := record.Parse([]byte(one.fields))
		if err != nil {
			t.Fatal(err)
		}
		if got, _ := c.Attention(fields, one.today); got.Say != one.want {
			t.Errorf("%s on %s: %q, not %q", one.fields, one.today, got.Say, one.want)
		}
	}
}

func TestFieldsThatAreNotAskedFor(t *testing.T) {
	c := compiled(t, watched)
	for text, want := range map[string]string{
		`{"what":"rail","done":false,"why_not":"snow"}`: "",
		`{"what":"rail","done":true}`:                   "",
		`{"what":"rail"}`:                               "",
		`{"what":"rail","done":false}`:                  "why_not missing",
		`{"what":"rail","done":true,"why_not":"snow"}`:  "why_not not-asked",
		`{"what":"rail","why_not":7}`:                   "why_not invalid-value, why_not not-asked",
		`{"done":true}`:                                 "what missing",
	} {
		fields, err := record.Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, reason := range c.Validate(fields) {
			got = append(got, reason.Field+" "+reason.Code)
		}
		if strings.Join(got, ", ") != want {
			t.Errorf("%s: %v, not %s", text, got, want)
		}
	}
	if change.CodeNotAsked != "not-asked" {
		t.Error("the word for programs is part of the protocol")
	}
}

func TestAttentionAndLanguagesThatCannotBe(t *testing.T) {
	start := "collection: huts\nfields:\n  name: {type: string}\n  state: {enum: [open, shut]}\n"
	for text, want := range map[string]string{
		"attention: [{when: record.name < today, say: old, grade: red}]":                  `"red" is not a grade`,
		"attention: [{when: record.name < today, say: '', grade: note}]":                  `take a word or two`,
		"attention: [{when: '', say: old, grade: note}]":                                  `a condition is missing`,
		"attention: [{when: record.nam < today, say: old, grade: note}]":                  `there is no field "nam"; probably name`,
		"attention: [{when: today, say: old, grade: note}]":                               `must give true or false`,
		"attention: [{when: worker.name == '', say: old, grade: note}]":                   `worker`,
		"attention: {when: record.name < today}":                                          `attention reads a list of`,
		"attention: [{when: record.name < today, word: old}]":                             `attention reads a list of`,
		"languages: {de: {fields: {nam: {title: Name}}}}":                                 `"nam" is not a field of the collection; probably name`,
		"languages: {de: {fields: {state: {choices: {opn: offen}}}}}":                     `"opn" is not one of the choices of state; probably open`,
		"languages: {xx-yy-zz-1: {title: Huts}}":                                          `is no language`,
		"languages: {de: {attention: {old: alt}}}":                                        `is not said of any record`,
		"languages: {de: {tittle: Hütten}}":                                               `languages reads`,
		"attention: [" + strings.Repeat("{when: 'true', say: x, grade: note}, ", 9) + "]": `take at most 8`,
	} {
		_, err := definition.ReadSource("huts.yaml", []byte(start+text))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, not %s", text, err, want)
		}
	}
	for field, want := range map[string]string{
		"  x: {type: string, when: record.state}":               "must give true or false",
		"  x: {type: string, when: record.stat == 'open'}":      "probably state",
		"  x: {type: string, when: 'true', computed: \"'a'\"}":  "nobody is asked for it",
		"  x: {type: string, again: maybe}":                     "again is true or false",
		"  x: {type: string, again: true, series: X-1}":         "no form starts with it",
		"  x: {type: string, when: 'days(record.name, 5) > 1'}": "",
	} {
		_, err := definition.ReadSource("huts.yaml", []byte(start+field+"\n"))
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, not %s", field, err, want)
		}
	}
}

func TestAttentionIsWrittenAsItIsRead(t *testing.T) {
	d, err := definition.ReadSource("x.yaml", []byte(watched))
	if err != nil {
		t.Fatal(err)
	}
	again, err := definition.ReadSource("y.yaml", definition.WriteSource(d))
	if err != nil {
		t.Fatal(err)
	}
	one, _ := json.Marshal(d)
	other, _ := json.Marshal(again)
	if !reflect.DeepEqual(one, other) {
		t.Errorf("%s\n%s", one, other)
	}
	if what, _ := d.Field("what"); !what.Again {
		t.Error("again is lost")
	}
}

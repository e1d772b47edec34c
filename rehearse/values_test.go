package rehearse

import (
	"encoding/json"
	"math/rand/v2"
	"regexp"
	"testing"

	"github.com/google/uuid"

	"homing/core/definition"
	"homing/core/record"
)

// Texts made for a pattern match it; of what it cannot make, it says so.
func TestMatching(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for pattern, can := range map[string]bool{`^[A-Z]{2}-[0-9]{2,4}$`: true, `^(kell|ostra)( crew)?$`: true,
		`^\d+(\.\d+)*$`: true, `^.{3,}x+$`: true, `^a|b$`: true, `(`: false, `^\p{Greek}é+$`: true} {
		for range 200 {
			text, ok := matching(random, pattern)
			if ok != can {
				t.Fatalf("%s: made %q, %v", pattern, text, ok)
			}
			if ok && !regexp.MustCompile(pattern).MatchString(text) {
				t.Fatalf("%q does not match %s", text, pattern)
			}
		}
	}
}

// Values made for a field are ones that its definition allows, so that a rehearsal is not about refusals.
func TestValuesAreAllowed(t *testing.T) {
	d, err := definition.ReadSource("test.yaml", []byte(`collection: all
fields:
  free: {type: string}
  short: {type: string, minLength: 2, maxLength: 5}
  number: {type: string, pattern: "^[A-Z]{2}-[0-9]{2}$"}
  choice: {enum: [one, two, 3]}
  count: {type: integer, minimum: 5, maximum: 9}
  from: {type: number, minimum: 1000}
  to: {type: number, maximum: -10}
  sure: {type: boolean}
  day: {type: string, format: date}
  moment: {type: string, format: date-time}
  place: {$ref: "urn:homing:point"}
  line: {$ref: "urn:homing:line"}
  list: {type: array, items: {enum: [a, b, c]}, uniqueItems: true}
  tags: {type: array, items: {type: string}, uniqueItems: true}
  log: {type: string}
  added: {type: integer}
  parts: {type: object, properties: {one: {type: string}, two: {type: string}}}
sync:
  rules: {tags: union, log: append, added: sum}
`))
	if err != nil {
		t.Fatal(err)
	}
	compiled, err := d.Compile()
	if err != nil {
		t.Fatal(err)
	}
	w := &world{random: rand.New(rand.NewPCG(3, 4)), ledger: ledger{tokens: map[string]*save{}}}
	var old record.Fields
	seen := map[string]bool{}
	tokens := map[string]bool{}
	for range 300 {
		made, notes := w.values(0, d, old, true, nil)
		for field, value := range made {
			text, err := json.Marshal(value)
			if err != nil {
				t.Fatal(err)
			}
			raw, err := record.CanonicalField(field, text)
			if err != nil {
				t.Fatal(err)
			}
			if seen[field] = true; raw == nil { // a counter is cleared now and then
				delete(old, field)
				continue
			}
			if wrong := compiled.Validate(record.Fields{field: raw}); len(wrong) > 0 {
				t.Fatalf("%s: %s is not allowed: %+v", field, raw, wrong)
			}
			if old == nil {
				old = record.Fields{}
			}
			old[field] = raw
		}
		for _, one := range notes {
			if one.token != "" && tokens[one.token] {
				t.Fatalf("the token %s was made twice", one.token)
			}
			tokens[one.token] = true
			if one.token != "" && !tokensOf(old[definitionField(one.field)])[one.token] {
				t.Fatalf("%s does not hold its token %s: %s", one.field, one.token, old[definitionField(one.field)])
			}
		}
	}
	for _, f := range d.Fields {
		if !seen[f.Name] {
			t.Errorf("no value was ever made for %s", f.Name)
		}
	}
}

// definitionField is the field that a path begins with.
func definitionField(path string) string {
	return regexp.MustCompile(`^[^/]*`).FindString(path)
}

// What a rehearsal cannot make values for is left out, and a parent is one of those that there are.
func TestValuesOfParents(t *testing.T) {
	d, err := definition.ReadSource("test.yaml", []byte("collection: posts\nfields:\n  way: {type: string, format: "+
		"uuid}\n  odd: {type: string, pattern: \"(?i)x\", format: email}\nparent: {collection: ways, field: way, "+
		"removal: keep}\n"))
	if err != nil {
		t.Fatal(err)
	}
	w := &world{random: rand.New(rand.NewPCG(5, 6))}
	if made, _ := w.values(0, d, nil, true, nil); made["way"] != nil {
		t.Errorf("without parents, it belongs to %v", made["way"])
	}
	parents := []uuid.UUID{{1}, {2}}
	found := map[any]bool{}
	for range 100 {
		made, _ := w.values(0, d, nil, true, parents)
		found[made["way"]] = true
	}
	delete(found, nil)
	if len(found) != 2 || !found[parents[0].String()] || !found[parents[1].String()] {
		t.Errorf("it belongs to %v", found)
	}
}

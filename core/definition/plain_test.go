package definition

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"

	"homing/core/record"
)

// The short way says of no value that it is valid which the schema refuses, whatever the schema and the value.
func FuzzPlainAgainstTheSchema(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) {
		random := rand.New(rand.NewPCG(seed, 1))
		if _, _, err := drawn(random); err != nil {
			t.Fatal(err)
		}
	})
}

func TestPlainAgainstTheSchema(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 9))
	short, valid := 0, 0
	for range 6_000 {
		plainly, byIt, err := drawn(random)
		if err != nil {
			t.Fatal(err)
		}
		if byIt {
			valid++
		}
		if plainly {
			short++
		}
	}
	if valid < 1000 || short*10 < valid*4 {
		t.Errorf("of %d that are valid, %d went the short way", valid, short)
	}
}

func pick[T any](random *rand.Rand, of ...T) T { return of[random.IntN(len(of))] }

// drawn draws a schema and a value, and says what both ways say of it.
func drawn(random *rand.Rand) (plainly, valid bool, err error) {
	schema := pick(random, `{"type":"string"}`, `{"type":"string","minLength":2}`, `{"type":"string","maxLength":3,"title":"x"}`, `{"type":"number"}`,
		`{"type":"number","minimum":0}`, `{"type":"integer","minimum":-3,"maximum":10}`, `{"type":"number","maximum":0.1}`, `{"enum":["a","ä","b c"]}`,
		`{"type":"string","enum":["a","\"q"]}`, `{"enum":["a",1]}`, `{"type":"string","format":"date"}`, `{"type":"string","format":"date","maxLength":4}`,
		`{"$ref":"urn:homing:point"}`, `{"$ref":"urn:homing:line"}`, `{"type":"string","pattern":"^a"}`, `{"type":["string","null"]}`, `{"type":"integer","multipleOf":2}`,
		`{"type":"string","minLength":2.0,"maxLength":2}`, `{"type":"boolean"}`, `true`, `false`, `{}`, `{"type":"number","minLength":2,"minimum":1}`,
		`{"type":"string","minimum":5}`, `{"$ref":"urn:homing:point","title":"where"}`, `{"type":"number","exclusiveMinimum":0}`, `{"enum":[]}`)
	raw := pick(random, `"a"`, `"ä"`, `"äö"`, `"b c"`, `"\"q"`, `"aaaa"`, `""`, `"2026-02-28"`, `"2026-02-30"`, `"2026-2-3"`, `"abc\u0001"`, `1`, `0`, `-0`, `-3`, `10`,
		`11`, `0.1`, `0.10000000000000001`, `0.1000000001`, `1e2`, `1E400`, `5.0`, `5.5`, `123456789012345678`, `9007199254740993`, `-1`, `true`, `[]`, `{}`, `[1,"a"]`,
		fmt.Sprintf(`{"type":"Point","coordinates":[%d,%d.5]}`, random.IntN(400)-200, random.IntN(200)-100), `{"type":"Point","coordinates":[180,90]}`,
		`{"type":"Point","coordinates":[1]}`, `{"type":"Point","coordinates":[1,2,3,4]}`, `{"type":"Point","coordinates":[1,2,-1e3]}`,
		`{"type":"Point","coordinates":[1,2],"more":1}`, `{"type":"Point","coordinates":["1",2]}`, `{"type":"Points","coordinates":[1,2]}`,
		fmt.Sprint(random.Int64N(40)-20), fmt.Sprintf("%q", string(rune('a'+random.IntN(26)))))
	definition := Definition{Collection: "drawn", Title: "Drawn", Label: "{f}", Fields: []Field{{Name: "f", Title: "f", Required: random.IntN(2) == 0,
		Schema: json.RawMessage(schema)}, {Name: "g", Title: "g", Schema: json.RawMessage(`{"type":"string"}`)}}}
	c, err := definition.Compile()
	if err != nil {
		return false, false, nil // no such schema
	}
	fields, err := record.Parse([]byte(`{"f":` + raw + `,"g":"x"}`))
	if err != nil {
		return false, false, nil // no such value
	}
	if random.IntN(8) == 0 {
		delete(fields, "f")
	}
	if random.IntN(8) == 0 {
		fields["unknown"] = json.RawMessage("1")
	}
	plainly, wrong := c.plainly(fields), c.bySchema(fields)
	if plainly && len(wrong) > 0 {
		return plainly, false, fmt.Errorf("%s is taken for valid by %s, which says %v", fields.JSON(), schema, wrong)
	}
	return plainly, len(wrong) == 0, nil
}

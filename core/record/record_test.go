package record_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"math/big"
	"strings"
	"testing"

	"homing/core/record"
)

func TestCanonicalMakesEqualValuesEqualBytes(t *testing.T) {
	groups := [][]string{
		{`1`, `1.0`, `1e0`, `10E-1`, `0.1e1`, `1.000`},
		{`0`, `-0`, `0.0`, `0e5`},
		{`-12.5`, `-1.25e1`, `-125e-1`},
		{`90071992547409931`, `90071992547409931.0`}, // beyond 2^53: every digit stays
		{`1e30`, `1000000000000000000000000000000`},
		{`0.000001`, `1e-6`},
		{`{"b":1,"a":[1,2]}`, ` { "a" : [ 1.0 , 2 ] , "b" : 1 } `},
		{`"ä<&>"`, `"\u00e4\u003c&>"`},
		{`null`}, {`true`}, {`[]`}, {`{}`}, {`""`},
	}
	seen := map[string]string{}
	for _, group := range groups {
		first := ""
		for n, text := range group {
			got, err := record.Canonical([]byte(text))
			if err != nil {
				t.Errorf("%s: %v", text, err)
				continue
			}
			if n == 0 {
				first = string(got)
				if other := seen[first]; other != "" {
					t.Errorf("%s and %s are both %s", text, other, first)
				}
				seen[first] = text
			}
			if string(got) != first {
				t.Errorf("%s is %s, but %s is %s", text, got, group[0], first)
			}
		}
	}
	if got, _ := record.Canonical([]byte(`90071992547409931`)); string(got) != `90071992547409931` {
		t.Errorf("a large number lost digits: %s", got)
	}
}

func TestCanonicalRefuses(t *testing.T) {
	for name, text := range map[string]string{
		"invalid UTF-8":    "\"\xff\"",
		"the character 0":  `"a\u0000b"`,
		"a key twice":      `{"a":1,"a":2}`,
		"too large number": `1e999`, "huge exponent": `1e99999999999999999999`, "too small number": `1e-999`,
		"too deep": strings.Repeat("[", 40) + strings.Repeat("]", 40),
		"broken":   `{"a":`, "two values": `1 2`, "nothing": ``,
		"too long": `"` + strings.Repeat("x", record.MaxValue) + `"`,
	} {
		if got, err := record.Canonical([]byte(text)); !errors.Is(err, record.ErrValue) {
			t.Errorf("%s: got %.40s, %v", name, got, err)
		}
	}
	if _, err := record.Canonical([]byte(`{"__proto__":{"a":1}}`)); err != nil {
		t.Errorf("an odd key is a key like any other: %v", err)
	}
}

func TestDiffAndApply(t *testing.T) {
	parse := func(text string) record.Fields {
		fields, err := record.Parse([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return fields
	}
	before := parse(`{"a":1,"b":"x","c":[1],"gone":null}`)
	after := parse(`{"a":1.0,"b":"y","d":{"k":2}}`)
	delta := record.Diff(before, after)
	if names := strings.Join(delta.Names(), " "); names != "b c d" {
		t.Errorf("the delta touches %s", names)
	}
	if got := before.Apply(delta).JSON(); !bytes.Equal(got, after.JSON()) {
		t.Errorf("applied: %s, want %s", got, after.JSON())
	}
	if len(before) != 3 {
		t.Errorf("Apply altered its receiver: %v", before)
	}
	if _, err := record.Parse([]byte(`[1]`)); !errors.Is(err, record.ErrNotObject) {
		t.Errorf("a list was taken as fields: %v", err)
	}
}

func FuzzCanonical(f *testing.F) {
	for _, seed := range []string{`{"a":[1,2.50,-3e-7],"b":null}`, `"\ud800"`, `1E+2`, `[[[]]]`,
		`123456789012345678901234567890.5e-12`} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		once, err := record.Canonical(text)
		if err != nil {
			if !errors.Is(err, record.ErrValue) {
				t.Fatalf("%q: an error of another kind: %v", text, err)
			}
			return
		}
		if !json.Valid(once) {
			t.Fatalf("%q became %q, which is no JSON", text, once)
		}
		twice, err := record.Canonical(once)
		if err != nil || !bytes.Equal(once, twice) {
			t.Fatalf("%q became %q, then %q (%v)", text, once, twice, err)
		}
		// A number keeps its exact value.
		if want, ok := new(big.Rat).SetString(strings.TrimSpace(string(text))); ok && len(text) < 40 && json.Valid(text) {
			if got, ok := new(big.Rat).SetString(string(once)); !ok || got.Cmp(want) != 0 {
				t.Fatalf("%q became %q, another number", text, once)
			}
		}
	})
}

package record_test

import (
	"encoding/json"
	"testing"

	"homing/core/record"
)

func TestPartsAndPaths(t *testing.T) {
	parts, ok := record.Parts(json.RawMessage(`{"a":{"b":1,"c":{}},"d/e":[{"x":1}],"f~":"t"}`))
	if !ok || len(parts) != 4 || string(parts["a/b"]) != "1" || string(parts["a/c"]) != "{}" ||
		string(parts["d~1e"]) != `[{"x":1}]` || string(parts["f~0"]) != `"t"` {
		t.Errorf("%v %s", ok, parts)
	}
	for _, value := range []string{`[1]`, `"x"`, `3`, `null`, ``} {
		if _, ok := record.Parts(json.RawMessage(value)); ok {
			t.Errorf("%q has parts", value)
		}
	}
	fields := record.Fields{"keeper": json.RawMessage(`{"address":{"path":"north","place":"Kell"},"beds":3}`),
		"name": json.RawMessage(`"Gale"`)}
	for path, want := range map[string]string{"name": `"Gale"`, "keeper/beds": "3", "keeper/address/place": `"Kell"`,
		"keeper/address": `{"path":"north","place":"Kell"}`, "keeper/none/deep": "", "none": "", "name/x": ""} {
		if got := string(fields.At(path)); got != want {
			t.Errorf("at %s is %s, want %s", path, got, want)
		}
	}
	for path, change := range map[string]struct{ to, want string }{
		"name":                 {`"Fosk"`, `{"keeper":{"address":{"path":"north","place":"Kell"},"beds":3},"name":"Fosk"}`},
		"keeper/beds":          {`4`, `{"keeper":{"address":{"path":"north","place":"Kell"},"beds":4},"name":"Gale"}`},
		"keeper/address/place": {``, `{"keeper":{"address":{"path":"north"},"beds":3},"name":"Gale"}`},
		"keeper/address":       {`"by the lake"`, `{"keeper":{"address":"by the lake","beds":3},"name":"Gale"}`},
		"new/part": {`true`,
			`{"keeper":{"address":{"path":"north","place":"Kell"},"beds":3},"name":"Gale","new":{"part":true}}`},
	} {
		var to json.RawMessage
		if change.to != "" {
			to = json.RawMessage(change.to)
		}
		if got := string(fields.Apply(fields.Set(path, to)).JSON()); got != change.want {
			t.Errorf("%s set to %s gives\n%s, want\n%s", path, change.to, got, change.want)
		}
	}
}

// An object that is taken apart and put together again is what it was.
func FuzzParts(f *testing.F) {
	for _, seed := range []string{`{"a":{"b":1}}`, `{}`, `{"":{"":0}}`, `{"a/b":{"~":1},"a":{"b":2}}`, `{"a":{"":{}}}`, `{"<":{"&":1}}`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		value, err := record.Canonical([]byte(text))
		if err != nil {
			return
		}
		parts, ok := record.Parts(value)
		if !ok {
			return
		}
		if back := record.Join(parts); string(back) != string(value) {
			t.Errorf("%s came back as %s", value, back)
		}
	})
}

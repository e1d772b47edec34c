package cli_test

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
)

const hard = `collection: hard
label: "{name}"
fields:
  name: {type: string}
  text: {type: string}
  number: {type: number}
  whole: {type: integer}
  yes: {type: boolean}
  day: {type: string, format: date}
  since: {type: string, format: date-time}
  tags: {type: array, items: {type: string}, uniqueItems: true}
  box: {type: object, properties: {wide: {type: number}, note: {type: string}}}
  at: {$ref: "urn:homing:point"}
`

// hardValues are fields that have come back altered from some table or other.
var hardValues = []map[string]any{
	{"text": ""}, {"text": "=1+1"}, {"text": "'=1+1"}, {"text": "+49 123"}, {"text": "-"}, {"text": "@x"}, {"text": "true"}, {"text": "12"}, {"text": "012"},
	{"text": "1e5"}, {"text": "2026-11-25"}, {"text": "null"}, {"text": "[]"}, {"text": `{"a":1}`}, {"text": `"quoted"`}, {"text": "a,b;c\td"},
	{"text": "two\nlines"}, {"text": " blanks around "}, {"text": "é ü ß 漢字 🏔"}, {"text": "a\u202eb"}, {"text": strings.Repeat("long ", 6000)},
	{"number": json.Number("0.1")}, {"number": json.Number("-5")}, {"number": json.Number("12345678901234567890.123456789")},
	{"number": json.Number("1e-300")}, {"number": json.Number("1e21")}, {"whole": json.Number("9007199254740993")},
	{"whole": json.Number("123456789012345678901234567890")}, {"whole": 0}, {"yes": true}, {"yes": false}, {"day": "0001-01-01"}, {"day": "2026-02-28"},
	{"since": "2026-11-25T10:00:00Z"}, {"since": "2026-11-25T10:00:00.123456789+05:45"}, {"tags": []string{"a", "b,c", "d;e", "f\"g"}},
	{"tags": []string{}}, {"tags": []string{"=x"}}, {"box": map[string]any{"wide": 1.5, "note": "=x"}}, {"box": map[string]any{}},
	{"at": map[string]any{"type": "Point", "coordinates": []json.Number{"11.123456789012345", "-46.5"}}},
	{"at": map[string]any{"type": "Point", "coordinates": []json.Number{"0", "0", "1234.5"}}},
}

// What was exported comes in again without a change, in every format.
func TestExportsComeInAgain(t *testing.T) {
	bed := hour(t)
	fine(t, "define", written(t, "hard.yaml", hard))
	for n, fields := range hardValues {
		body := map[string]any{"name": fmt.Sprint("record ", n)}
		for name, value := range fields {
			body[name] = value
		}
		if status, text := bed.Call("POST", "/v1/records/hard", "", map[string]any{"fields": body}); status != 201 {
			t.Fatalf("%v: %d %s", fields, status, text)
		}
	}
	folder := t.TempDir()
	before := fine(t, "export", "hard", "--format", "ndjson")
	for _, format := range []string{"ndjson", "csv", "xlsx", "geojson"} {
		file := filepath.Join(folder, "hard."+format)
		fine(t, "export", "hard", "--to", file)
		out, wrong, code := homing(t, "import", file, "--collection", "hard", "--yes")
		if code != 0 || !strings.Contains(out, fmt.Sprintf("%d unchanged", len(hardValues))) {
			t.Errorf("%s comes in again as: exit %d\n%s%s", format, code, out, wrong)
		}
		if after := fine(t, "export", "hard", "--format", "ndjson"); after != before {
			a, b := strings.Split(before, "\n"), strings.Split(after, "\n")
			for n := range a {
				if n >= len(b) || a[n] != b[n] {
					t.Errorf("%s altered\n%.300s\nto\n%.300s", format, a[n], b[min(n, len(b)-1)])
				}
			}

		}
	}
	// What a workbook cannot hold is said, instead of being cut.
	for _, text := range []string{strings.Repeat("x", 40000), "bell\a"} {
		if status, got := bed.Call("POST", "/v1/records/hard", "", map[string]any{"fields": map[string]any{"name": "no", "text": text}}); status != 201 {
			t.Fatalf("%d %s", status, got)
		}
		_, wrong, code := homing(t, "export", "hard", "--to", filepath.Join(folder, "no.xlsx"))
		if code == 0 || !strings.Contains(wrong, "take csv or ndjson") {
			t.Errorf("exit %d %s", code, wrong)
		}
		fine(t, "records", "remove", "hard", "no")
	}
}

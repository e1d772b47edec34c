package propose_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"homing/core/definition"
	"homing/core/propose"
)

func table(t *testing.T, headers []string, rows ...[]string) *propose.Table {
	t.Helper()
	tab := propose.NewTable(headers)
	for _, row := range rows {
		cells := map[string]propose.Value{}
		for n, text := range row {
			cells[headers[n]] = propose.Value{Text: text}
		}
		tab.Add(cells)
	}
	return tab
}

func TestProposesWhatTheRowsHold(t *testing.T) {
	headers := []string{"Hut No", "Name", "Höhe (m)", "Valley", "Opened", "Seen", "Heated", "Beds", "Zip", "Mixed",
		"Empty"}
	var rows [][]string
	for n := range 20 {
		mixed := "12"
		if n == 9 {
			mixed = "a dozen"
		}
		rows = append(rows, []string{fmt.Sprintf("H%02d", n), "Hut " + strings.Repeat("x", n), fmt.Sprintf("%d.5", n),
			[]string{"Kell", "Ostra"}[n%2], "2025-06-01",
			"2025-06-01T10:00:00Z", []string{"yes", "No"}[n%2], fmt.Sprint(n % 3), "0" + fmt.Sprint(100+n), mixed, ""})
	}
	rows[3][6] = ""
	d, err := table(t, headers, rows...).Definition("huts")
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]string{
		"hut_no": `"type":"string"`, "name": `"type":"string"`, "hoehe_m": `"type":"number"`,
		"valley": `"enum":["Kell","Ostra"]`, "opened": `"format":"date"`,
		"seen": `"format":"date-time"`, "heated": `"type":"boolean"`, "beds": `"type":"integer"`, "zip": `"type":"string"`,
		"mixed": `"type":"integer"`, "empty": `"type":"string"`,
	}
	for _, field := range d.Fields {
		if !strings.Contains(string(field.Schema), want[field.Name]) {
			t.Errorf("%s: %s, want %s", field.Name, field.Schema, want[field.Name])
		}
		if field.Required != (field.Name != "heated" && field.Name != "empty") {
			t.Errorf("%s: required is %v", field.Name, field.Required)
		}
	}
	if d.Key != "hut_no" || d.Label != "{name}" {
		t.Errorf("key %q, label %q", d.Key, d.Label)
	}
	// What is proposed can be written down, read again and compiled.
	again, err := definition.ReadSource("huts.yaml", definition.WriteSource(d))
	if err != nil || !again.SameAs(d) {
		t.Errorf("%v\n%s\n%+v\n%+v", err, definition.WriteSource(d), again, d)
	}
}

// Headings that would become the same field get fields of their own.
func TestHeadingsOfOneName(t *testing.T) {
	tab := propose.NewTable([]string{"a b", "A-B", "a_b_2", "Beds"})
	var fields []string
	for _, c := range tab.Columns {
		fields = append(fields, c.Field)
	}
	if got := strings.Join(fields, " "); got != "a_b a_b_2 a_b_2_2 beds" {
		t.Errorf("they become %s", got)
	}
}

func TestConvert(t *testing.T) {
	for _, test := range []struct{ schema, text, want string }{
		{`{"type":"string"}`, " as it is ", `" as it is "`}, {`{"type":"string"}`, "12", `"12"`},
		{`{"type":"integer"}`, " 12 ", `12`}, {`{"type":"integer"}`, "many", `"many"`},
		{`{"type":"number"}`, "1.50", `1.50`}, {`{"type":"number"}`, "1,5", `"1,5"`}, {`{"type":"boolean"}`, "Yes", `true`},
		{`{"type":"boolean"}`, "no", `false`},
		{`{"enum":["a","b"]}`, " a", `"a"`}, {`{"$ref":"urn:homing:point"}`, `{"type":"Point","coordinates":[1,2]}`,
			`{"type":"Point","coordinates":[1,2]}`},
		{`{"type":"array","items":{"type":"string"}}`, `["x"]`, `["x"]`}, {`{"type":"string"}`, "  ", ""},
	} {
		got := propose.Figures{}.Convert(definition.Field{Name: "f", Schema: json.RawMessage(test.schema)},
			propose.Value{Text: test.text})
		if string(got) != test.want {
			t.Errorf("%q as %s is %s, want %s", test.text, test.schema, got, test.want)
		}
	}
}

package definition_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/core/definition"
	"homing/core/record"
	"homing/core/rights"
)

// A wrong setting is refused with its line and the reason.
func TestSettingsThatCannotBe(t *testing.T) {
	head := "collection: jobs\nfields:\n  name: {type: string}\n  up: {type: string, format: uuid}\n"
	for says, text := range map[string]string{
		"x.yaml:5: the field \"sum\": computed is a text": head + "  sum: {type: number, computed: 3}\n",
		"x.yaml:5: computed: \"record.x +\"":              head + "  sum: {type: number, computed: record.x +}\n",
		"undeclared reference to 'worker'":                head + "  sum: {type: number, computed: worker.name}\n",
		"stands alone; inside braces a comma ends a text": head +
			"  sum: {type: number, computed: sum(children.a.map(x, x.n))}\n",
		"x.yaml:5: number: a field is one of computed": head +
			"  number: {type: string, series: A-1, local: true}\n",
		"does not start a series": head + "  number: {type: string, series: A-}\n",
		"so it cannot be required": head +
			"  number: {type: string, series: A-1}\nrequired: [number]\n",
		"central never sees it": head +
			"  memo: {type: string, local: true}\nrequired: [memo]\n",
		"local is true or false":               head + "  memo: {type: string, local: maybe}\n",
		"the key memo stays on the device":     head + "  memo: {type: string, local: true}\nkey: memo\n",
		"parent: \"over\" is not a field":      head + "parent: {collection: sites, field: over}\n",
		"parent: the key \"field\" is missing": head + "parent: {collection: sites}\n",
		"not what a removal does: take restrict, remove or keep": head +
			"parent: {collection: sites, field: up, removal: forget}\n",
		"refers to huts, not to the parent sites": head +
			"  hut: {type: string, reference: huts}\nparent: {collection: sites, field: hut}\n",
		"x.yaml:6: direction: \"sideways\"":        head + "sync:\n  direction: sideways\n",
		"\"a while\" is not a way to keep records": head + "sync:\n  keep: a while\n",
		"\"soon\" is not a time":                   head + "sync:\n  max_age: {warn: soon}\n",
	} {
		_, err := definition.ReadSource("x.yaml", []byte(text))
		var wrong *definition.SourceError
		if !errors.As(err, &wrong) || !strings.Contains(err.Error(), says) {
			t.Errorf("want %q, got %v", says, err)
		}
	}
}

// What WriteSource writes, ReadSource reads as the same.
func TestSettingsAreWrittenAsTheyAreRead(t *testing.T) {
	d, err := definition.ReadSource("x.yaml", []byte(`collection: jobs
fields:
  number: {type: string, series: J-001}
  up: {type: string, format: uuid}
  hours: {type: number}
  cost: {type: number, computed: "record.hours * 3.0"}
  by: {type: string, filled: worker.name}
  memo: {type: string, local: true}
  keeper: {type: object, properties: {phone: {type: string}, calls: {type: integer}}}
parent: {collection: sites, field: up, removal: remove}
sync:
  removal: ask
  steps: every
  rules: {hours: sum, keeper/calls: sum, keeper/phone: ask}
  direction: up
  keep: 2 weeks
  max_age: {warn: 1 day, block: 3 days}
`))
	if err != nil {
		t.Fatal(err)
	}
	again, err := definition.ReadSource("y.yaml", definition.WriteSource(d))
	if err != nil || !again.SameAs(d) {
		t.Errorf("%v\n%s", err, definition.WriteSource(d))
	}
}

func TestSeries(t *testing.T) {
	s, err := definition.ParseSeries("REP-00042")
	if err != nil || s.First != 42 || s.Format(7) != "REP-00007" || s.Format(1234567) != "REP-1234567" {
		t.Errorf("%+v, %v", s, err)
	}
	for text, want := range map[string]int64{"REP-00042": 42, "REP-1234567": 1234567, "REP-x": 0, "XEP-00001": 0,
		"REP--0001": 0, "": 0} {
		if got, fits := s.Number(text); got*b2i(fits) != want {
			t.Errorf("%q is number %d, %v", text, got, fits)
		}
	}
	id := uuid.MustParse("01941f29-7c00-7000-8000-00000000abcd")
	if mark := s.Provisional(id); mark != "REP-~ABCD" {
		t.Errorf("the provisional mark is %s", mark)
	}
	if _, fits := s.Number(s.Provisional(id)); fits {
		t.Error("a provisional mark passes for a number")
	}
}

func b2i(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

func TestSpansAndAges(t *testing.T) {
	for text, want := range map[string]time.Duration{"90 minutes": 90 * time.Minute, "1 hour": time.Hour,
		"7 days": 168 * time.Hour, "2 weeks": 336 * time.Hour,
		"0 days": 0, "-1 day": 0, "7": 0, "7 fortnights": 0, "": 0, "9999999 days": 0} {
		if got, err := definition.ParseSpan(text); got != want || (err == nil) != (want > 0) {
			t.Errorf("%q is %s, %v", text, got, err)
		}
	}
	now := time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)
	age := &definition.MaxAge{Warn: "1 day", Block: "1 week"}
	for ago, want := range map[time.Duration]definition.Age{0: definition.Fresh, 25 * time.Hour: definition.Old,
		200 * time.Hour: definition.TooOld, -time.Hour: definition.Fresh} {
		if got := age.Judge(now.Add(-ago), now); got != want {
			t.Errorf("%s ago is %q", ago, got)
		}
	}
	if age.Judge(time.Time{}, now) != definition.Unknown ||
		(*definition.MaxAge)(nil).Judge(time.Time{}, now) != definition.Fresh {
		t.Error("what was never confirmed")
	}
}

// Computed fields see those before them, children in every order give the same sum, and what cannot be worked out has
// no value.
func TestCompute(t *testing.T) {
	lines := compile(t, "collection: lines\nfields:\n  bill: {type: string, format: uuid}\n  amount: {type: "+
		"number}\nparent: {collection: bills, field: bill}\n")
	bills := compile(t, `collection: bills
fields:
  rate: {type: number}
  net: {type: number, computed: "sum(children.lines.map(l, l.amount))"}
  tax: {type: number, computed: record.net * record.rate}
  largest: {type: number, computed: "size(children.lines) == 0 ? dyn(null) : math.greatest(children.lines.filter(l, l.amount != null).map(l, double(l.amount)))"}
  text: {type: string, computed: "string(int(record.net)) + \" in all\""}
  dear: {type: boolean, computed: "[1,2,3,4,5,6,7,8,9,10].all(a, [1,2,3,4,5,6,7,8,9,10].all(b, [1,2,3,4,5,6,7,8,9,10].all(c, [1,2,3,4,5,6,7,8,9,10].all(d, [1,2,3,4,5,6,7,8,9,10].all(e, [1,2,3,4,5,6,7,8,9,10].all(f, a+b+c+d+e+f > 0))))))"}
`)
	if !bills.Computes() || !bills.Totals("lines") || bills.Totals("bills") || lines.Computes() {
		t.Error("what is counted")
	}
	var children []record.Fields
	for _, text := range []string{`{"amount":0.1}`, `{"amount":0.2}`, `{}`, `{"amount":1e15}`, `{"amount":-1e15}`} {
		children = append(children, fields(t, text))
	}
	var first string
	for turn := range len(children) {
		turned := append(append([]record.Fields{}, children[turn:]...), children[:turn]...)
		got, wrong := bills.Compute(fields(t, `{"rate":0.5}`),
			map[string]definition.Brood{"lines": {Collection: lines, Records: turned}})
		if first == "" {
			first = string(got.JSON())
		}
		if string(got.JSON()) != first || len(wrong) != 1 || wrong["dear"] == nil {
			t.Errorf("turned by %d: %s, %v", turn, got.JSON(), wrong)
		}
	}
	if first != `{"largest":1000000000000000,"net":0.3,"tax":0.15,"text":"0 in all"}` {
		t.Errorf("worked out: %s", first)
	}
	got, wrong := bills.Compute(fields(t, `{}`), nil)
	if string(got.JSON()) != `{"net":0,"text":"0 in all"}` || wrong["tax"] == nil {
		t.Errorf("without rate and lines: %s, %v", got.JSON(), wrong)
	}
}

func TestFill(t *testing.T) {
	c := compile(t, "collection: jobs\nfields:\n  name: {type: string}\n  by: {type: string, filled: worker.name + "+
		"\" at \" + change.received}\n  first: {type: string, filled: \"record.first == null ? worker.name : "+
		"record.first\"}\n")
	got, err := c.Fill(fields(t, `{"name":"x","first":"mira"}`),
		definition.Accepting{Who: rights.Person{Name: "tobin"}, Received: "noon"})
	if err != nil || string(got.JSON()) != `{"by":"tobin at noon","first":"mira"}` {
		t.Errorf("%s, %v", got.JSON(), err)
	}
}

// One member that a shape cannot hold does not hide the others, such as the one by which lists are united.
func TestShapesOfOddSchemas(t *testing.T) {
	for schema, want := range map[string]any{`{"type":"array","uniqueItems":true,"maxItems":10.0}`: "array",
		`{"type":"integer","minLength":"x"}`: "integer", `true`: nil} {
		shape := definition.ShapeOf([]byte(schema))
		if shape.Type != want || shape.Unique != (want == "array") {
			t.Errorf("%s has the shape %+v", schema, shape)
		}
	}
}

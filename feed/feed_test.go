package feed_test

import (
	"strings"
	"testing"

	"homing/core/definition"
	"homing/core/record"
	"homing/feed"
)

const whole = `
feed: office
sees: mira
collections:
  huts: {called: shelters, when: record.beds >= 2.0, fields: {name: name, beds: places}}
to: {hook: {url: "https://office.example/in", secret: office-hook}}
`

func TestReadFeed(t *testing.T) {
	f, err := feed.Read("x.yaml", []byte(whole))
	if err != nil || f.Called("huts") != "shelters" || f.To.Hook.Secret != "office-hook" {
		t.Errorf("%+v %v", f, err)
	}
	for change, want := range map[string]string{
		"":                                "the file is empty",
		"feed: office>feed: Office":       `x.yaml: feed: "Office" cannot name a feed`,
		"sees: mira>title: x":             "sees is missing",
		"to:>too:":                        "x.yaml:6: field too is not known",
		"secret: office-hook>secret: X y": "name the secret",
		"https://office.example/in>ftp://office.example/in":       "is no address",
		"https://office.example/in>https://u:p@office.example/in": "without a password",
		"called: shelters>called: Shelters":                       "cannot be a name there",
		"beds: places>beds: name":                                 "is called name there, too",
		"beds: places>beds: homing_id":                            "not homing_ at the start",
		"{hook: {url: \"https://office.example/in\", secret: office-hook}}>{files: {folder: ../up, form: csv}}":                  "is not a folder within",
		"{hook: {url: \"https://office.example/in\", secret: office-hook}}>{files: {folder: up, form: xml}}":                     "take ndjson, csv, geojson",
		"{hook: {url: \"https://office.example/in\", secret: office-hook}}>{files: {folder: up, form: csv, every: 1ms}}":         "is not a time",
		"{hook: {url: \"https://office.example/in\", secret: office-hook}}>{tables: {database: a, removed: hide}}":               "neither delete nor mark",
		"{hook: {url: \"https://office.example/in\", secret: office-hook}}>{tables: {database: a, rows: both}}":                  "neither record nor change",
		"{hook: {url: \"https://office.example/in\", secret: office-hook}}>{tables: {database: a, rows: change, removed: mark}}": "a removal is a row of its own",
		"{hook: {url: \"https://office.example/in\", secret: office-hook}}>{}":                                                   "to names one destination",
	} {
		from, into, _ := strings.Cut(change, ">")
		text := strings.Replace(whole, from, into, 1)
		if change == "" {
			text = ""
		}
		if _, err := feed.Read("x.yaml", []byte(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v; it is to say %q", change, err, want)
		}
	}
}

func TestShape(t *testing.T) {
	d, err := definition.ReadSource("x.yaml", []byte(`
collection: huts
fields:
  name: {type: string}
  beds: {type: integer}
  memo: {type: string, local: true}
  twice: {type: number, computed: record.beds * 2.0}
  rounds: {type: integer, computed: size(children.rounds)}
  more: {type: integer, computed: record.rounds + 1.0}
`))
	if err != nil {
		t.Fatal(err)
	}
	c, err := d.Compile()
	if err != nil {
		t.Fatal(err)
	}
	fields, _ := record.Parse([]byte(`{"name":"Gale","beds":3}`))
	of := func(part feed.Collection) feed.Feed {
		return feed.Feed{Name: "f", Collections: map[string]feed.Collection{"huts": part}}
	}
	s, err := of(feed.Collection{When: "record.twice > 5.0"}).Shape(c)
	if err != nil {
		t.Fatal(err)
	}
	values, fits, err := s.Values(fields)
	// Totals over other records do not go: they move without the record.
	if err != nil || !fits || len(values) != 3 || string(values["twice"]) != "6" || len(s.Columns) != 3 {
		t.Errorf("%v %v %v", values, fits, err)
	}
	if few, _ := record.Parse([]byte(`{"name":"Gale","beds":2}`)); func() bool { _, fits, _ := s.Values(few); return fits }() {
		t.Error("two beds fit")
	}
	if _, fits, err := s.Values(record.Fields{}); fits || err != nil {
		t.Errorf("what has no beds: %v %v", fits, err)
	}
	for _, wrong := range []struct {
		part feed.Collection
		want string
	}{
		{feed.Collection{Fields: map[string]string{"nam": "x"}}, `no field "nam"; probably name`},
		{feed.Collection{Fields: map[string]string{"memo": "x"}}, "stays on devices"},
		{feed.Collection{Fields: map[string]string{"more": "x"}}, "counts other records"},
		{feed.Collection{When: "record.bed > 1.0"}, `there is no field "bed"`},
	} {
		if _, err := of(wrong.part).Shape(c); err == nil || !strings.Contains(err.Error(), wrong.want) {
			t.Errorf("%+v: %v", wrong.part, err)
		}
	}
}

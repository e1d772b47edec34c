package main

import (
	"context"
	"os"
	"strings"
	"testing"

	"homing/centraltest"
	"homing/core/definition"
	"homing/device"
	"homing/generate"
)

// The app against a real central: what is typed in one hut without signal is read in another.
func TestHutBook(t *testing.T) {
	central := centraltest.Start(t, "huts.yaml", "visits.yaml")
	central.Add(t, "huts", map[string]any{"number": "H-01", "name": "Gale Shelter", "beds": 4, "guests": 0})
	ctx := context.Background()
	say := func(store *device.Store, args ...string) string {
		t.Helper()
		var out strings.Builder
		if err := run(ctx, store, args, &out); err != nil {
			t.Fatalf("%v: %v", args, err)
		}
		return out.String()
	}
	gale, valley := central.Store(t, "mira"), central.Store(t, "tobin")
	say(gale, "exchange")
	say(valley, "exchange")
	if err := gale.MoveCentral(ctx, "http://127.0.0.1:1"); err != nil { // no signal
		t.Fatal(err)
	}
	say(gale, "visit", "H-01", "Rope team Arn", "3")
	say(gale, "visit", "Gale Shelter", "Two from Kell", "2")
	if got := say(gale, "exchange"); !strings.Contains(got, "No signal") {
		t.Errorf("without signal it says %q", got)
	}
	if got := say(gale, "book"); got != "H-01 Gale Shelter (full)\n   Rope team Arn: 3, unsent\n   Two from Kell: 2, unsent\n" {
		t.Errorf("the book says\n%s", got)
	}
	if err := gale.MoveCentral(ctx, central.URL()); err != nil {
		t.Fatal(err)
	}
	if got := say(gale, "exchange"); !strings.HasPrefix(got, "4 sent") {
		t.Errorf("in signal it says %q", got)
	}
	say(valley, "exchange")
	if got := say(valley, "book"); got != "H-01 Gale Shelter (full)\n   Rope team Arn: 3\n   Two from Kell: 2\n" {
		t.Errorf("in the valley the book says\n%s", got)
	}
	if got := central.Records(t, "visits", "people>2"); len(got) != 1 || string(got[0].Fields["party"]) != `"Rope team Arn"` {
		t.Errorf("central has %+v", got)
	}
	if err := run(ctx, gale, []string{"visit", "H-01", "x", "many"}, os.Stdout); err == nil {
		t.Error("many is a number")
	}
}

// The types are those that the definitions say.
func TestTypesAreOfTheDefinitions(t *testing.T) {
	var all []definition.Definition
	for _, name := range []string{"huts.yaml", "visits.yaml"} {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		d, err := definition.ReadSource(name, text)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, d)
	}
	want, err := generate.Write("go", "", all)
	if err != nil {
		t.Fatal(err)
	}
	got, err := os.ReadFile("records/records.go")
	if err != nil || string(got) != string(want) {
		t.Errorf("records/records.go is not what homing generate writes: %v", err)
	}
}

package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"homing/internal/testbed"
)

// A record is named by its id, its key or its label, at central and on a device alike, however many others say the same words;
// so is what a field refers to; and a part of a nested field is set alone.
func TestRecordsAreNamed(t *testing.T) {
	bed := hour(t)
	defer bed.Stop()
	folder := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(folder, name)
		testbed.Must(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	fine(t, "define", file("huts.yaml", `collection: huts
label: "{name} ({kind})"
key: number
fields:
  number: {type: string}
  name: {type: string}
  kind: {enum: [bridge, shelter]}
  keeper: {type: object, properties: {name: {type: string}, phone: {type: string}}}
`), file("notes.yaml", `collection: notes
fields:
  text: {type: string}
  hut: {type: string, format: uuid, reference: huts}
  count: {type: integer}
`))
	var rows strings.Builder
	rows.WriteString("number,name,kind\n")
	for n := range 1500 {
		fmt.Fprintf(&rows, "H-%d,Gale %d,shelter\n", n, n)
	}
	rows.WriteString("H-x,Gale,bridge\n7,Gale's End,bridge\n")
	fine(t, "import", file("huts.csv", rows.String()))
	fine(t, "local", "enrol", "--name", "phone")
	fine(t, "local", "exchange")
	for _, at := range [][]string{{"records"}, {"local"}} {
		do := func(args ...string) string { t.Helper(); return fine(t, append(at[:1:1], args...)...) }
		for name, want := range map[string]string{"H-7": "Gale 7 ", "Gale (bridge)": "H-x", "gale 1499 (SHELTER)": "H-1499", "7": "Gale's End", "Gale's End (bridge)": "7"} {
			if out := do("show", "huts", name); !strings.Contains(out, want) {
				t.Errorf("%s show %q gives\n%s", at[0], name, out)
			}
		}
		if _, wrong, code := homing(t, append(at[:1:1], "show", "huts", "Gale")...); code != 3 || !strings.Contains(wrong, "the id, the key or the label") {
			t.Errorf("%s: exit %d %s", at[0], code, wrong)
		}
		do("edit", "huts", "H-x", "--set", "keeper/phone=12 34", "--set", "keeper/name=Runa")
		do("edit", "huts", "H-x", "--set", "keeper/phone=56")
		if out := do("show", "huts", "H-x", "--json"); !strings.Contains(strings.Join(strings.Fields(out), ""), `"keeper":{"name":"Runa","phone":"56"}`) {
			t.Errorf("%s: the keeper is in\n%s", at[0], out)
		}
		do("edit", "huts", "H-x", "--clear", "keeper/name", "--clear", "keeper/phone")
		do("add", "notes", "--set", "text=by key", "--set", "hut=H-12")
		do("add", "notes", "--set", "text=by label", "--set", "hut=Gale (bridge)")
		if out := do("list", "notes"); strings.Count(out, "by ") < 2 {
			t.Errorf("%s: the notes are\n%s", at[0], out)
		}
		if _, wrong, code := homing(t, append(at[:1:1], "add", "notes", "--set", "hut=nobody")...); code != 3 || !strings.Contains(wrong, "--set hut") {
			t.Errorf("%s: exit %d %s", at[0], code, wrong)
		}
		if _, wrong, code := homing(t, append(at[:1:1], "edit", "huts", "H-x", "--set", "keeper/fax=1")...); code != 4 || !strings.Contains(wrong, `no field "keeper/fax"`) {
			t.Errorf("%s: exit %d %s", at[0], code, wrong)
		}
		// Conditions that cannot be compared, and values that are not there.
		for condition, says := range map[string]string{"kind=brigde": "kind is one of bridge, shelter, and not \"brigde\"; probably bridge", "count>many": "count is a number",
			"hut=Gale": "holds the ids of records of huts"} {
			collection := "notes"
			if strings.HasPrefix(condition, "kind") {
				collection = "huts"
			}
			if _, wrong, code := homing(t, append(at[:1:1], "list", collection, "--where", condition)...); code == 0 || !strings.Contains(wrong, says) {
				t.Errorf("%s --where %s: exit %d %s", at[0], condition, code, wrong)
			}
		}
		if out := do("list", "notes", "--where", "text=by nobody"); !strings.Contains(out, "No records.\ntext is, in records that there are: by key, by label") {
			t.Errorf("%s says\n%s", at[0], out)
		}
	}
}

// Two crews make a record with one key; whoever comes second is told which fields differ, and makes one of the two.
func TestUnite(t *testing.T) {
	hour(t)
	folder := t.TempDir()
	trails := filepath.Join(folder, "trails.yaml")
	testbed.Must(t, os.WriteFile(trails, []byte("collection: trails\nlabel: \"{number} {name}\"\nkey: number\nunique: true\n"+
		"fields:\n  number: {type: string}\n  name: {type: string}\n  note: {type: string}\n"), 0o600))
	fine(t, "define", trails)
	for _, crew := range []string{"one", "other"} {
		t.Setenv("HOMING_STORE", filepath.Join(folder, crew+".db"))
		fine(t, "local", "enrol", "--name", crew)
		fine(t, "local", "exchange")
		fine(t, "local", "add", "trails", "--set", "number=KL-1", "--set", "name=by "+crew, "--set", "note="+crew)
	}
	t.Setenv("HOMING_STORE", filepath.Join(folder, "one.db"))
	fine(t, "local", "exchange")
	t.Setenv("HOMING_STORE", filepath.Join(folder, "other.db"))
	if _, _, code := homing(t, "local", "exchange"); code == 0 {
		t.Error("a refused change is no success")
	}
	out, told, code := homing(t, "local", "unite", "1", "--take", "note")
	if code != 2 || strings.Join(strings.Fields(out), " ") != "FIELD THERE YOURS name by one by other" ||
		!strings.Contains(told, "--take name") || !strings.Contains(told, "--leave name") {
		t.Errorf("exit %d\n%s%s", code, out, told)
	}
	mustSay(t, fine(t, "local", "unite", "1", "--take", "note", "--leave", "name"), "United: KL-1 by one", "other.db.discarded.ndjson")
	fine(t, "local", "exchange")
	mustSay(t, fine(t, "records", "show", "trails", "KL-1"), "by one", "other")
	mustSay(t, fine(t, "local", "list", "trails"), "1 record")
	if _, told, code := homing(t, "local", "unite", "1"); code != 3 || !strings.Contains(told, "1") {
		t.Errorf("exit %d\n%s", code, told)
	}
}

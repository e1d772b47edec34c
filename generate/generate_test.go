package generate_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"homing/core/definition"
	"homing/demo"
	"homing/generate"
)

const odd = `collection: masts
title: Masts
key: number
fields:
  number: {type: string}
  fields: {type: string}
  height: {type: number}
  serial: {type: integer}
  floors: {type: integer, minimum: 0, maximum: 40}
  keeper: {type: object, properties: {name: {type: string}, phone: {type: string}, shifts: {type: array, items: {type: string}}}}
  structure: {type: string, format: uuid, reference: structures}
  taller: {type: boolean, computed: "record.height > 10.0"}
`

func written(t *testing.T, language string) string {
	t.Helper()
	definitions, err := demo.Definitions()
	if err != nil {
		t.Fatal(err)
	}
	d, err := definition.ReadSource("masts.yaml", []byte(odd))
	if err != nil {
		t.Fatal(err)
	}
	text, err := generate.Write(language, "", append(definitions, d))
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func file(t *testing.T, folder, name, text string) {
	t.Helper()
	if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
}

const useGo = `package records

import (
	"encoding/json"
	"fmt"
	"testing"
)

func TestUse(t *testing.T) {
	r, err := ReadMasts(map[string]json.RawMessage{"number": []byte("\"M-1\""), "height": []byte("12.345678901234567890"),
		"serial": []byte("9007199254740993"), "keeper": []byte("{\"name\":\"Runa\",\"shifts\":[\"night\"]}"),
		"structure": []byte("\"01941f29-7c00-7000-8000-000000000001\""), "taller": []byte("true"), "unknown": []byte("1")})
	if err != nil || *r.Height != "12.345678901234567890" || *r.Serial != 9007199254740993 || *r.Keeper.Name != "Runa" || !*r.Taller {
		t.Fatalf("%+v, %v", r, err)
	}
	change := MastsChange{Height: To(*r.Height), Serial: To(*r.Serial + 1), Number: Clear[string](), Structure: To(*r.Structure), Keeper: To(*r.Keeper),
		FieldsValue: To("x")}
	text, err := json.Marshal(change.Fields())
	if got := string(text); err != nil || got != "{\"fields\":\"x\",\"height\":12.345678901234567890,\"keeper\":{\"name\":\"Runa\",\"shifts\":[\"night\"]},"+
		"\"number\":null,\"serial\":9007199254740994,\"structure\":\"01941f29-7c00-7000-8000-000000000001\"}" {
		t.Errorf("%s, %v", got, err)
	}
	if text, err := json.Marshal(MastsChange{}.Fields()); err != nil || fmt.Sprintf("%s", text) != "{}" {
		t.Errorf("%s, %v", text, err)
	}
	if _, err := ReadMasts(map[string]json.RawMessage{"structure": []byte("\"no id\"")}); err == nil {
		t.Error("it takes what is no id")
	}
}
`

// What is written for Go compiles; numbers keep their digits; a change sets and clears what people set, and nothing else; ids of
// one collection are not taken for another's.
func TestGo(t *testing.T) {
	folder := t.TempDir()
	text := written(t, "go")
	file(t, folder, "records.go", text)
	file(t, folder, "go.mod", "module records\n\ngo 1.26\n")
	file(t, folder, "use_test.go", useGo)
	run := func(args ...string) (string, error) {
		command := exec.Command("go", args...)
		command.Dir = folder
		out, err := command.CombinedOutput()
		return string(out), err
	}
	if out, err := run("vet", "."); err != nil {
		t.Fatalf("go vet: %v\n%s", err, out)
	}
	if out, err := run("test", "."); err != nil {
		t.Errorf("go test: %v\n%s", err, out)
	}
	for says, wrong := range map[string]string{
		"unknown field Taller":  "var _ = MastsChange{Taller: To(true)}",
		"cannot use To(id)":     "func f(id TrailsID) MastsChange { return MastsChange{Structure: To(id)} }",
		"unknown field Missing": "var _ = Masts{Missing: nil}",
	} {
		file(t, folder, "wrong.go", "package records\n\n"+wrong+"\n")
		if out, err := run("vet", "."); err == nil || !strings.Contains(out, says) {
			t.Errorf("%s compiles: %v\n%s", wrong, err, out)
		}
	}
}

// The same in TypeScript.
func TestTypeScript(t *testing.T) {
	folder := t.TempDir()
	file(t, folder, "records.ts", written(t, "typescript"))
	compiler, err := filepath.Abs("../console/node_modules/.bin/tsc")
	if err != nil {
		t.Fatal(err)
	}
	check := func(name string) (string, error) {
		out, err := exec.Command(compiler, "--noEmit", "--strict", "--target", "es2022", filepath.Join(folder, name)).CombinedOutput()
		return string(out), err
	}
	file(t, folder, "right.ts", `import { Exact, readJSON, writeJSON, type Changes, type IDs, type Masts, type MastsChange, type StructuresID } from './records'
const mast: Masts = { number: 'M-1', taller: true, keeper: { name: 'Runa', shifts: ['night'] } }
const id = '01941f29-7c00-7000-8000-000000000001' as StructuresID
const change: MastsChange = { number: null, structure: id, keeper: { phone: '1' } }
const same: IDs['structures'] = id
const other: Changes['masts'] = change
const rest: MastsChange = { height: 1.5, serial: new Exact('9007199254740993') }
const floors: number | undefined = mast.floors
console.log(mast.keeper?.name, change, same, other, rest, floors)
const hard = process.argv[2]
const read = readJSON<Masts & { all: unknown[] }>(hard)
if (!(read.serial instanceof Exact) || BigInt(read.serial.text) !== BigInt('9007199254740993') || Number(read.height) !== 12.345678901234567) {
  throw new Error('read as ' + read.serial + ', ' + read.height)
}
const kinds = read.all.map(one => one instanceof Exact ? 'exact' : typeof one).join(' ')
if (kinds !== 'number number number number exact exact exact string string string object') throw new Error(kinds)
console.log('\n' + writeJSON({ ...read, more: BigInt('18446744073709551617') }))
declare const process: { argv: string[] }
`)
	if out, err := check("right.ts"); err != nil {
		t.Errorf("tsc: %v\n%s", err, out)
	}
	// What is read is written again to the digit, and no text passes for a number.
	const hard = `{"serial":9007199254740993,"height":12.345678901234567890,"1":"0","all":[0,-1.5,1e+21,0.30000000000000004,1e-400,123456789012345678,` +
		`-0.1000000000000000055511151231257827,"` + "\uE000" + `12","\\\"9007199254740993","` + "\uE000\uE000" + `",{"` + "\uE000" + `7":1}]`
	if out, err := exec.Command(compiler, "--outDir", folder, "--module", "commonjs", "--target", "es2022", "--strict",
		filepath.Join(folder, "right.ts")).CombinedOutput(); err != nil {
		t.Fatalf("tsc: %v\n%s", err, out)
	}
	out, err := exec.Command("node", filepath.Join(folder, "right.js"), hard+"}").CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	// JSON.stringify writes whole keys first.
	_, got, _ := strings.Cut(string(out), "\n\n")
	want := `{"1":"0",` + strings.Replace(hard[1:], `"1":"0",`, "", 1) + `,"more":18446744073709551617}`
	if got = strings.TrimSpace(got); got != want {
		t.Errorf("it writes\n%s, want\n%s", got, want)
	}
	wrong := [][2]string{
		{"'taller' does not exist", "export const c: MastsChange = { taller: true }"},
		{"is not assignable", "export const c = (id: TrailsID): MastsChange => ({ structure: id })"},
		{"read-only", "export const c = (m: Masts) => { m.number = 'x' }"},
		{"'Numeric' is not", "export const c = (m: Masts): number => m.serial!"},
		{"'null' is not assignable", "export const c: TrailsChange = { name: null }"},
	}
	files := []string{"--noEmit", "--strict", "--target", "es2022"}
	for n, one := range wrong {
		name := fmt.Sprintf("wrong%d.ts", n)
		file(t, folder, name, "import type { Masts, MastsChange, TrailsChange, TrailsID } from './records'\n"+one[1]+"\n")
		files = append(files, filepath.Join(folder, name))
	}
	said, err := exec.Command(compiler, files...).CombinedOutput()
	if err == nil {
		t.Error("all of what is wrong compiles")
	}
	for n, one := range wrong {
		found := false
		for line := range strings.Lines(string(said)) {
			found = found || strings.Contains(line, fmt.Sprintf("wrong%d.ts", n)) && strings.Contains(line, one[0])
		}
		if !found {
			t.Errorf("%s compiles, or fails for something else:\n%s", one[1], said)
		}
	}
}

func TestUnknownLanguage(t *testing.T) {
	if _, err := generate.Write("latin", "", nil); err == nil || !strings.Contains(err.Error(), "go or typescript") {
		t.Errorf("got %v", err)
	}
}

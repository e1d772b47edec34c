package typescript_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"homing/core/definition"
	"homing/generate"
	"homing/internal/testbed"
)

// Types that are generated for the library fit its stores, and say where an app goes wrong.
func TestTypesOfOnesOwn(t *testing.T) {
	var all []definition.Definition
	for name, text := range map[string]string{"trails": "collection: trails\nlabel: \"{name}\"\nrequired: [name]\nfields:\n  name: {type: string}\n  walked: {type: integer}\n",
		"signs": "collection: signs\nfields:\n  trail: {type: string, format: uuid, reference: trails}\n"} {
		d, err := definition.ReadSource(name+".yaml", []byte(text))
		testbed.Must(t, err)
		all = append(all, d)
	}
	here, err := os.Getwd()
	testbed.Must(t, err)
	records, err := generate.Write("typescript", filepath.Join(here, "src/browser/index.ts"), all)
	testbed.Must(t, err)
	folder := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		testbed.Must(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	write("records.ts", string(records))
	config, err := json.Marshal(map[string]any{"extends": filepath.Join(here, "tsconfig.json"), "include": []string{folder},
		"compilerOptions": map[string]any{"typeRoots": []string{filepath.Join(here, "node_modules/@types")}}})
	testbed.Must(t, err)
	write("tsconfig.json", string(config))
	const start = "import { open } from \"" + "HERE/src/browser/index.ts\"\nimport { withTypes, type TrailsID } from \"./records.ts\"\nconst store = withTypes(await open(\"typed\"))\n" +
		"const trail = await store.add(\"trails\", { name: \"Ridge\", walked: 3 })\n"
	app := func(name, line string) { write(name, strings.ReplaceAll(start, "HERE", here)+line+"\nexport {}\n") }
	app("right.ts", `const id: TrailsID = trail.id; await store.edit("trails", id, { walked: null }); await store.add("signs", { trail: id })
store.live("trails", { sort: "name" }, ({ records }) => console.log(records.map((r) => r.fields.name.toUpperCase())))`)
	wrong := [][2]string{
		{`await store.add("trails", { name: 3 })`, "not assignable to type 'string'"},
		{`await store.add("paths", {})`, "not assignable to parameter of type"},
		{`await store.edit("trails", trail.id, { nmae: "Ridge" })`, "nmae"},
		{`const sign = await store.add("signs", {}); await store.get("trails", sign.id)`, "not assignable to parameter of type"},
		{`trail.fields.name = "Other"`, "read-only"},
	}
	for n, one := range wrong {
		app(fmt.Sprintf("wrong%d.ts", n), one[0])
	}
	out, _ := exec.Command("node_modules/.bin/tsc", "--noEmit", "-p", folder).CombinedOutput() // what is wrong stands in it
	said := map[string]string{}
	for line := range strings.Lines(string(out)) {
		if strings.HasPrefix(line, " ") {
			continue // it says more of the one before
		}
		name, _, _ := strings.Cut(line, "(")
		said[filepath.Base(name)] += line
	}
	for n, one := range wrong {
		name := fmt.Sprintf("wrong%d.ts", n)
		if !strings.Contains(said[name], one[1]) {
			t.Errorf("%s: the compiler says %q, want %q", one[0], said[name], one[1])
		}
		delete(said, name)
	}
	if len(said) > 0 {
		t.Errorf("a right app: %v", said)
	}
}

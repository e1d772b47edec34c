package cli_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"golang.org/x/tools/go/packages"

	"homing/internal/testbed"
	"homing/service"
)

// page is one section of the guide: its commands, and what stands between fences, by language.
type page struct {
	commands []string
	fences   map[string][]string
}

func section(t *testing.T, heading string) page {
	t.Helper()
	text, err := os.ReadFile("../../docs/guide.md")
	testbed.Must(t, err)
	_, rest, found := strings.Cut(string(text), "\n## "+heading+"\n")
	if !found {
		t.Fatalf("the guide has no section %q", heading)
	}
	rest, _, _ = strings.Cut(rest, "\n## ")
	p := page{fences: map[string][]string{}}
	for at := range strings.SplitSeq(rest, "\n") {
		line, indented := strings.CutPrefix(at, "    ")
		if line = strings.TrimPrefix(line, "bin/"); indented && strings.HasPrefix(line, "homing ") {
			p.commands = append(p.commands, strings.TrimPrefix(line, "homing "))
		}
	}
	for _, fence := range regexp.MustCompile("(?s)```([a-z]+)\n(.*?)```").FindAllStringSubmatch(rest, -1) {
		p.fences[fence[1]] = append(p.fences[fence[1]], fence[2])
	}
	return p
}

// with are the commands that begin so.
func (p page) with(starts ...string) (all []string) {
	for _, command := range p.commands {
		if slices.ContainsFunc(starts, func(start string) bool { return strings.HasPrefix(command, start) }) {
			all = append(all, command)
		}
	}
	return all
}

var (
	shellWord    = regexp.MustCompile(`(?:[^\s"']+|"[^"]*"|'[^']*')+`)
	shellComment = regexp.MustCompile(`\s+#\s.*$`)
)

// run runs a command of the page as a shell would, in the folder of the test.
func run(t *testing.T, command string, more ...string) string {
	t.Helper()
	command, into, _ := strings.Cut(shellComment.ReplaceAllString(command, ""), " > ")
	var args []string
	for _, word := range shellWord.FindAllString(command, -1) {
		plain := strings.NewReplacer(`"`, "", `'`, "").Replace(word)
		if files, err := filepath.Glob(plain); err == nil && strings.Contains(plain, "*") && len(files) > 0 {
			args = append(args, files...)
			continue
		}
		args = append(args, plain)
	}
	out, told, code := homing(t, append(args, more...)...)
	if code != 0 {
		t.Fatalf("the guide's homing %s: exit %d\n%s%s", command, code, out, told)
	}
	if into != "" {
		testbed.Must(t, os.WriteFile(strings.TrimSpace(into), []byte(out), 0o600))
	}
	return out + told
}

// guide is where the commands of a section are run: a folder like a fresh clone's, and an open central without collections.
func guide(t *testing.T) *testbed.Bed {
	t.Helper()
	demo, err := filepath.Abs("../../demo")
	testbed.Must(t, err)
	bed := hour(t)
	folder := t.TempDir()
	testbed.Must(t, os.Symlink(demo, filepath.Join(folder, "demo")))
	t.Chdir(folder)
	return bed
}

func mustSay(t *testing.T, out string, parts ...string) {
	t.Helper()
	for _, part := range parts {
		if !strings.Contains(out, part) {
			t.Errorf("it says\n%s\nand not %q", out, part)
		}
	}
}

// The first hour, from the page's commands alone.
func TestGuideFirstHour(t *testing.T) {
	p := section(t, "A first hour")
	guide(t)
	out := ""
	for _, command := range p.commands {
		if command != "serve --open" {
			out += run(t, command)
		}
	}
	mustSay(t, out, "trails", "Enrolled Valley tablet", "Added: KL-01 Ridge Path", "length_km", "2 changes: 2 to send", "1 applied")
	if len(p.commands) < 9 {
		t.Errorf("the section has only the commands %q", p.commands)
	}
}

// A definition by hand: the page's own is taken, checked without central and defined.
func TestGuideDefinitionByHand(t *testing.T) {
	p := section(t, "Define what is collected")
	guide(t)
	if len(p.fences["yaml"]) == 0 {
		t.Fatal("the section shows no definition")
	}
	testbed.Must(t, os.WriteFile("structures.yaml", []byte(p.fences["yaml"][0]), 0o600))
	mustSay(t, run(t, "define --check structures.yaml"), "structures: in order")
	mustSay(t, run(t, "define --preview structures.yaml"), "structures")
	mustSay(t, run(t, "define structures.yaml"), "kind: ask")
	run(t, `records add structures --set name="Long Bridge" --set kind=bridge`)
	mustSay(t, run(t, `records show structures "Long Bridge (bridge)"`), "Long Bridge")
}

// bringIn is the section on imports, with the demo's definitions and a spreadsheet as people have them.
func bringIn(t *testing.T) (page, *testbed.Bed) {
	t.Helper()
	p := section(t, "Bring in what exists, and write it out")
	bed := guide(t)
	run(t, "define demo/definitions/*.yaml")
	testbed.Must(t, os.WriteFile("cabins.csv", []byte("Cabins of the Arn range;;;\nNo;Name;Height;Opened\nH-1;Gale;1.250,5;01.06.2025\n"+
		"H-2;Fosk;980;14.07.2024\nTotal;;2.230,5;\n"), 0o600))
	return p, bed
}

// A spreadsheet comes in, and what is written out comes in again.
func TestGuideSpreadsheet(t *testing.T) {
	p, _ := bringIn(t)
	imports := p.with("import cabins.csv")
	if len(imports) != 1 {
		t.Fatalf("the section has only the commands %q", p.commands)
	}
	mustSay(t, run(t, imports[0], "--yes"), "2 records added", "the heading is taken to stand in row 2", "looks like totals", "The key is no")
	mustSay(t, run(t, imports[0]), "0 records added, 0 updated, 2 unchanged")
	for _, command := range p.with("export ") {
		run(t, command)
	}
	mustSay(t, run(t, "import cabins.xlsx"), "0 records added, 0 updated, 2 unchanged")
	if _, err := os.Stat("damaged.geojson"); err != nil {
		t.Error(err)
	}
}

// Tables of a database come in with what relates them, and again with what has changed there.
func TestGuideDatabase(t *testing.T) {
	p, _ := bringIn(t)
	source := testbed.Database(t)
	tables := testbed.SQL(t, source)
	tables.MustExec(`CREATE TABLE sites (id int PRIMARY KEY, name text NOT NULL);
		CREATE TABLE visits (site int REFERENCES sites ON DELETE CASCADE, day date, PRIMARY KEY (site, day));
		INSERT INTO sites VALUES (1, 'Arn'); INSERT INTO visits VALUES (1, '2026-06-01')`)
	imports := p.with("import postgres")
	if len(imports) != 1 {
		t.Fatalf("the section has only the commands %q", p.commands)
	}
	command := regexp.MustCompile(`postgres://\S+`).ReplaceAllString(imports[0], source)
	mustSay(t, run(t, command, "--yes"), "sites: 1 record added", "visits: 1 record added")
	tables.MustExec(`UPDATE sites SET name = 'Arn Saddle'; INSERT INTO sites VALUES (2, 'Kell')`)
	mustSay(t, run(t, command, "--yes"), "sites: 1 record added, 1 updated", "visits: 0 records added")
}

// Analysts get a role, and each query of the guide runs under it.
func TestGuideAnalysts(t *testing.T) {
	p, bed := bringIn(t)
	t.Setenv("HOMING_DATABASE", bed.Database)
	analysts := p.with("analysts add", "analysts remove")
	if len(analysts) != 2 {
		t.Fatalf("the section has only the commands %q", p.commands)
	}
	defer func() { _ = service.RemoveAnalyst(t.Context(), bed.Database, "", "reports") }() // where the test ended before it did
	address := regexp.MustCompile(`postgres://\S+`).FindString(run(t, analysts[0]))
	reader := testbed.SQL(t, address)
	text, err := os.ReadFile(filepath.Join(filepath.Dir(must(filepath.EvalSymlinks("demo"))), "docs", "guide.md"))
	testbed.Must(t, err)
	queries := regexp.MustCompile(`(?m)^    (SELECT .*);$`).FindAllStringSubmatch(string(text), -1)
	if len(queries) < 2 {
		t.Fatalf("the guide has the queries %q", queries)
	}
	for _, found := range queries {
		if _, err := reader.Exec(found[1]); err != nil {
			t.Errorf("%s: %v", found[1], err)
		}
	}
	run(t, analysts[1])
}

func must(path string, err error) string {
	if err != nil {
		panic(err)
	}
	return path
}

// An app of one's own: the page's calls are one program, which is built and run against a central with the demo's collections.
func TestGuideApp(t *testing.T) {
	p := section(t, "In your own app")
	if len(p.fences["go"]) != 2 {
		t.Fatalf("the section has the code %q", p.fences["go"])
	}
	folder, err := os.MkdirTemp("../../examples", "guide-") // within the module, whose packages it imports
	testbed.Must(t, err)
	defer func() { testbed.Must(t, os.RemoveAll(folder)) }()
	folder, err = filepath.Abs(folder)
	testbed.Must(t, err)
	hutBook, err := os.ReadFile("../../examples/hutbook/main_test.go")
	testbed.Must(t, err)
	bed := guide(t)
	run(t, "define demo/definitions/*.yaml")
	calls := regexp.MustCompile(`(?m)^.*\berr :?= .*$`).ReplaceAllString(p.fences["go"][0], "$0\n\tmust(err)")
	calls = strings.NewReplacer("http://127.0.0.1:8400", bed.URL(), "ABCD-EFGH-IJKL-MNOP", bed.Code("worker")).Replace(calls)
	program := `package main

import (
	"context"
	"fmt"

	"homing/core/query"
	"homing/device"
)

func main() {
	ctx := context.Background()
` + calls + `
	fmt.Println(found.Total, ridge.Label, summary.Applied)
}

func must(err error) {
	if err != nil {
		panic(err)
	}
}
`
	testbed.Must(t, os.WriteFile(filepath.Join(folder, "main.go"), []byte(program), 0o600))
	built := filepath.Join(t.TempDir(), "app")
	build := exec.Command("go", "build", "-o", built, ".")
	build.Dir = folder
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s\n%s", err, out, program)
	}
	out, err := exec.Command(built).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	mustSay(t, string(out), "1 KL-02 Gale Ridge 1")
	for language, says := range map[string]string{"go": "type StructuresChange struct", "typescript": "export interface StructuresChange {"} {
		mustSay(t, run(t, "generate "+language), says)
	}
	// The other code of the page is what the tests of the hut book begin with.
	for line := range strings.Lines(p.fences["go"][1]) {
		_, call, _ := strings.Cut(strings.TrimSpace(line), " := ")
		mustSay(t, string(hutBook), call)
	}
}

// The library of an app is compiled for what people carry, too.
const sqliteItself = "go-sqlite3-wasm"

func TestTheLibraryBuildsForOtherSystems(t *testing.T) {
	for _, system := range []string{"windows", "darwin"} {
		// Types are checked, and no machine code is made: of SQLite that takes minutes. Its functions, which are the same on every system, are not looked into.
		all, err := packages.Load(&packages.Config{Mode: packages.NeedName | packages.NeedFiles | packages.NeedCompiledGoFiles | packages.NeedImports |
			packages.NeedTypes | packages.NeedTypesSizes | packages.NeedSyntax | packages.NeedTypesInfo | packages.NeedDeps,
			ParseFile: func(files *token.FileSet, name string, text []byte) (*ast.File, error) {
				file, err := parser.ParseFile(files, name, text, parser.SkipObjectResolution)
				if err == nil && strings.Contains(name, sqliteItself) {
					for _, one := range file.Decls {
						if f, is := one.(*ast.FuncDecl); is {
							f.Body = nil
						}
					}
				}
				return file, err
			},
			Env: append(os.Environ(), "GOOS="+system, "GOARCH=arm64", "CGO_ENABLED=0")}, "homing/examples/hutbook")
		if err != nil {
			t.Fatal(err)
		}
		looked := 0
		packages.Visit(all, nil, func(p *packages.Package) {
			looked++
			if strings.HasSuffix(p.PkgPath, sqliteItself) { // what its functions import counts as not used
				return
			}
			for _, wrong := range p.Errors {
				t.Errorf("%s: %v", system, wrong)
			}
		})
		if looked < 50 {
			t.Errorf("%s: only %d packages were looked at", system, looked)
		}
	}
}

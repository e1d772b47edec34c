package generate_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"homing/demo"
	"homing/generate"
)

// What is generated from the demo's definitions compiles, in Go and in TypeScript.
func TestGeneratedCompiles(t *testing.T) {
	definitions, err := demo.Definitions()
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	for _, language := range generate.Languages {
		text, err := generate.Write(language, definitions)
		if err != nil {
			t.Fatal(err)
		}
		name := map[string]string{"go": "records.go", "typescript": "records.ts"}[language]
		if err := os.WriteFile(filepath.Join(folder, name), text, 0o600); err != nil {
			t.Fatal(err)
		}
		for _, part := range map[string][]string{
			"go": {"type Structures struct", "Location *Point", "Materials []string", "LengthKM *float64",
				"// bridge, shelter"},
			"typescript": {"export interface Structures", "location?: Point", "materials?: Array<string>",
				`"bridge" | "shelter"`, "trails: Trails"},
		}[language] {
			if !strings.Contains(strings.Join(strings.Fields(string(text)), " "), part) {
				t.Errorf("%s lacks %q:\n%s", language, part, text)
			}
		}
	}
	if err := os.WriteFile(filepath.Join(folder, "go.mod"), []byte("module records\n\ngo 1.26\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	vet := exec.Command("go", "vet", ".")
	vet.Dir = folder
	if out, err := vet.CombinedOutput(); err != nil {
		t.Errorf("go vet: %v\n%s", err, out)
	}
	compiler, err := filepath.Abs("../console/node_modules/.bin/tsc")
	if err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(compiler, "--noEmit", "--strict",
		filepath.Join(folder, "records.ts")).CombinedOutput(); err != nil {
		t.Errorf("tsc: %v\n%s", err, out)
	}
}

func TestUnknownLanguage(t *testing.T) {
	if _, err := generate.Write("latin", nil); err == nil || !strings.Contains(err.Error(), "go or typescript") {
		t.Errorf("got %v", err)
	}
}

package core_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// The core computes and nothing else: the same code must give the same result at central and on every device.
func TestCoreImportsNothingThatActs(t *testing.T) {
	forbidden := []string{"net", "os", "database/sql", "io/fs", "math/rand", "crypto/rand", "log", "homing/"}
	files := 0
	err := filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		files++
		parsed, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		for _, spec := range parsed.Imports {
			name, err := strconv.Unquote(spec.Path.Value)
			if err != nil {
				return err
			}
			for _, bad := range forbidden {
				if (name == strings.TrimSuffix(bad, "/") || strings.HasPrefix(name, strings.TrimSuffix(bad, "/")+"/")) &&
					!strings.HasPrefix(name, "homing/core/") {
					t.Errorf("%s imports %s", path, name)
				}
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if files < 10 {
		t.Fatalf("only %d files were looked at", files)
	}
}

package field_test

import (
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"homing/internal/testbed"
)

var (
	saidOnce  = regexp.MustCompile(`\bt\(\s*'((?:[^'\\]|\\.)*)'`)
	saidOfN   = regexp.MustCompile(`\btn\(`)
	forms     = regexp.MustCompile(`'((?:[^'\\]|\\.)*\|(?:[^'\\]|\\.)*)'`)
	translate = regexp.MustCompile(`(?m)^  (?:'((?:[^'\\]|\\.)*)'|([A-Za-z]+)):\s+'((?:[^'\\]|\\.)*)',$`)
)

// texts are all that is said by t and tn in the sources of some folders.
func texts(t *testing.T, folders ...string) map[string]bool {
	t.Helper()
	all := map[string]bool{}
	for _, folder := range folders {
		err := filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() || strings.Contains(path, "words") {
				return err
			}
			source, err := os.ReadFile(path)
			for _, one := range saidOnce.FindAllSubmatch(source, -1) {
				all[string(one[1])] = true
			}
			for _, at := range saidOfN.FindAllIndex(source, -1) {
				rest := source[at[1]:min(at[1]+500, len(source))]
				if one := forms.FindSubmatch(rest); one != nil {
					all[string(one[1])] = true
				}
			}
			return err
		})
		testbed.Must(t, err)
	}
	return all
}

// words are the texts of a catalogue, by their English.
func words(t *testing.T, path string) map[string]string {
	t.Helper()
	source, err := os.ReadFile(path)
	testbed.Must(t, err)
	all := map[string]string{}
	for _, one := range translate.FindAllSubmatch(source, -1) {
		all[string(one[1])+string(one[2])] = string(one[3])
	}
	return all
}

// All that a phone fetches, packed as central hands it out, is at most 600 kB.
func TestWhatAPhoneFetches(t *testing.T) {
	t.Parallel()
	shell, err := os.ReadFile("dist/sw.js")
	testbed.Must(t, err)
	list := regexp.MustCompile(`const files = (\[.*\])`).FindSubmatch(shell)
	if list == nil {
		t.Fatal("the service worker has no list of files")
	}
	var files []string
	testbed.Must(t, json.Unmarshal(list[1], &files))
	total := 0
	for _, name := range files {
		packed, err := os.Stat("dist/" + name + ".br")
		testbed.Must(t, err)
		total += int(packed.Size())
	}
	if total > 600_000 {
		t.Errorf("%d files take %d bytes", len(files), total)
	}
	t.Logf("%d files, %d bytes", len(files), total)
}

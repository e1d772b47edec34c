// Package conformance makes the vectors: cases that every implementation of a device must get right, as the core works
// them out. They stand in files beside it, for programs in any language; docs/conformance.md says how to use them.
package conformance

import (
	"bytes"
	"embed"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"path"
	"slices"
	"strings"

	"homing/wire"
)

// Files are the vectors as they are kept.
//
//go:embed vectors/*.json
var Files embed.FS

// kind is one file of vectors: what its cases mean, from which they are made, and what comes out of one.
type kind struct {
	about string
	given func() ([]any, error)
	// work gives what comes out of a case. The error says that the case is none.
	work func(given json.RawMessage) (any, error)
}

// kinds are the files by their names without an ending.
var kinds = map[string]kind{
	"canonical": canonical, "stamps": stamps, "offsets": offsets, "merge": merges, "fingerprints": fingerprints,
	"schemas": schemas, "expressions": expressions, "rights": mays, "computed": computed, "labels": labels, "attention": marks, "series": numbers, "digests": digests,
	"periods": periods, "coverage": grids,
}

// Case is one case of a file.
type Case struct {
	Given  json.RawMessage `json:"given"`
	Wanted json.RawMessage `json:"wanted"`
}

// Names are the names of the files, without an ending.
func Names() []string { return slices.Sorted(maps.Keys(kinds)) }

// Vectors makes the files anew, by their names.
func Vectors() (map[string][]byte, error) {
	all := map[string][]byte{}
	for name, k := range kinds {
		text, err := k.write()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		all[name+".json"] = text
	}
	return all, nil
}

// Kept reads the cases of a file as they are kept.
func Kept(name string) ([]Case, error) {
	text, err := Files.ReadFile(path.Join("vectors", name+".json"))
	if err != nil {
		return nil, err
	}
	var read struct{ Cases []Case }
	return read.Cases, json.Unmarshal(text, &read)
}

// WorkOut gives what comes out of a case of a file, as the core has it.
func WorkOut(of string, given json.RawMessage) (any, error) {
	k, known := kinds[of]
	if !known {
		return nil, fmt.Errorf("there are no vectors %q; there are %s", of, strings.Join(Names(), ", "))
	}
	return k.work(given)
}

// working reads what is given, and gives what work makes of it.
func working[G any](work func(given G) (any, error)) func(json.RawMessage) (any, error) {
	return func(text json.RawMessage) (any, error) {
		var given G
		if err := json.Unmarshal(text, &given); err != nil {
			return nil, fmt.Errorf("the case cannot be read: %w", err)
		}
		return work(given)
	}
}

// write gives one case a line, so that a case that changes shows as one.
func (k kind) write() ([]byte, error) {
	head, err := json.Marshal(struct {
		About    string `json:"about"`
		Protocol string `json:"protocol"`
	}{k.about, wire.Version})
	if err != nil {
		return nil, err
	}
	given, err := k.given()
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	out.Write(head[:len(head)-1])
	out.WriteString(",\n\"cases\":[")
	for n, one := range given {
		if n > 0 {
			out.WriteByte(',')
		}
		out.WriteByte('\n')
		var c Case
		if c.Given, err = plain(one); err != nil {
			return nil, err
		}
		wanted, err := k.work(c.Given)
		if err != nil {
			return nil, err
		}
		if c.Wanted, err = plain(wanted); err != nil {
			return nil, err
		}
		line, err := plain(c)
		if err != nil {
			return nil, err
		}
		out.Write(line)
	}
	out.WriteString("\n]}\n")
	return out.Bytes(), nil
}

// plain writes JSON in which signs that only HTML minds stand for themselves.
func plain(value any) (json.RawMessage, error) {
	var out bytes.Buffer
	writer := json.NewEncoder(&out)
	writer.SetEscapeHTML(false)
	err := writer.Encode(value)
	return bytes.TrimRight(out.Bytes(), "\n"), err
}

// drawing is the chance by which cases are drawn: always the same.
func drawing(seed uint64) *rand.Rand { return rand.New(rand.NewPCG(seed, 0x766563746f7273)) }

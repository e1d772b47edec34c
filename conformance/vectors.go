// Package conformance makes the vectors: cases that every implementation of a device must get right, as the core works
// them out. They stand in files beside it, for programs in any language; docs/conformance.md says how to use them.
package conformance

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"

	"homing/wire"
)

// file is one file of vectors.
type file struct {
	About    string `json:"about"`
	Protocol string `json:"protocol"`
	Cases    []any  `json:"-"`
}

// Vectors are the files by name.
func Vectors() (map[string][]byte, error) {
	all := map[string][]byte{}
	for name, make := range map[string]func() (file, error){
		"canonical.json": canonical, "stamps.json": stamps, "offsets.json": offsets, "merge.json": merges, "fingerprints.json": fingerprints,
		"schemas.json": schemas, "expressions.json": expressions, "labels.json": labels, "series.json": series,
	} {
		f, err := make()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if all[name], err = f.write(); err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}
	return all, nil
}

// write gives one case a line, so that a case that changes shows as one.
func (f file) write() ([]byte, error) {
	f.Protocol = wire.Version
	head, err := json.Marshal(f)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	out.Write(head[:len(head)-1])
	out.WriteString(",\n\"cases\":[")
	for n, one := range f.Cases {
		if n > 0 {
			out.WriteByte(',')
		}
		out.WriteByte('\n')
		// Text is written as it is: signs that only HTML minds stand for themselves.
		writer := json.NewEncoder(&out)
		writer.SetEscapeHTML(false)
		if err := writer.Encode(one); err != nil {
			return nil, err
		}
		out.Truncate(out.Len() - 1) // the line's end
	}
	out.WriteString("\n]}\n")
	return out.Bytes(), nil
}

// drawing is the chance by which cases are drawn: always the same.
func drawing(seed uint64) *rand.Rand { return rand.New(rand.NewPCG(seed, 0x766563746f7273)) }

package office

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"

	"homing/core/definition"
	"homing/rehearse"
	"homing/web"
)

// RehearseApart rehearses once for somebody who asks a running central for it, in a process of its own: the many stores
// of a rehearsal take memory that central's own process would keep, and a rehearsal that goes wrong harms nobody.
func RehearseApart(ctx context.Context, definitions []definition.Definition, seed uint64, calm bool) (got web.Rehearsal, err error) {
	program, err := os.Executable()
	if err != nil {
		return got, err
	}
	folder, err := os.MkdirTemp("", "homing-definitions-")
	if err != nil {
		return got, err
	}
	defer os.RemoveAll(folder)
	args := []string{"rehearse", "--json", "--seeds", "1", "--seed", strconv.FormatUint(seed, 10)}
	if calm {
		args = append(args, "--calm")
	}
	for _, d := range definitions {
		file := filepath.Join(folder, d.Collection+".yaml")
		if err := os.WriteFile(file, definition.WriteSource(d), 0o600); err != nil {
			return got, err
		}
		args = append(args, file)
	}
	run := exec.CommandContext(ctx, program, args...)
	var said strings.Builder
	run.Stderr = &said
	out, err := run.Output()
	if ctx.Err() != nil {
		return got, ctx.Err()
	}
	// Where something is against a promise, the command fails and tells of it all the same.
	var reports []rehearse.Report
	if wrong := json.Unmarshal(out, &reports); wrong != nil || len(reports) != 1 {
		return got, fmt.Errorf("the rehearsal did not come to an end: %w: %.500s", errors.Join(err, wrong), said.String())
	}
	r := reports[0]
	got = web.Rehearsal{Seed: seed, Devices: r.Devices, Saves: r.Saves, Exchanges: r.Exchanges, Faults: r.Faults, Answers: r.Answers,
		Refused: r.Refused, Settling: r.Settling.Seconds(), Wrong: append([]string{}, r.Wrong...), Decisions: []web.Decided{}}
	for _, d := range r.Decisions {
		got.Decisions = append(got.Decisions, web.Decided(d))
	}
	return got, nil
}

// Package proof lets a program that is driven prove that it is a device as the protocol has it: by the vectors, by one
// situation after the other, and in fleets in which some devices are its own and the others are of package device.
package proof

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"homing/conformance"
	"homing/conformance/driver"
	"homing/core/record"
	"homing/rehearse"
)

// The parts of a proof.
const (
	Vectors    = "vectors"
	Situations = "situations"
	Fleets     = "fleets"
)

// Parts are all of them, in their order.
var Parts = []string{Vectors, Situations, Fleets}

// Options say what is to be proved.
type Options struct {
	Driver driver.Command
	Parts  []string // all when there are none
	First  uint64   // seed of the first fleet
	Seeds  int      // how many fleets
	Plain  bool     // fleets in which each device has one worker, and no store is asked to erase itself
	Only   string   // one situation, or one file of vectors; empty means all
	Tell   func(Result)
}

// Result is what came of one file of vectors, one situation, or the fleets.
type Result struct {
	Part  string   `json:"part"`
	Name  string   `json:"name"`
	Cases int      `json:"cases"`
	Held  int      `json:"held"`
	Left  bool     `json:"left_out,omitempty"` // the program says that it does not do this
	Wrong []string `json:"wrong,omitempty"`    // of the first case that did not hold
	Story []string `json:"story,omitempty"`    // that led there, the shortest that was found
}

// Holds says whether all of it held.
func (r Result) Holds() bool { return r.Held == r.Cases && len(r.Wrong) == 0 }

// Run lets a program prove itself. The error says that the proof could not go on; what does not hold stands in the
// results.
func Run(ctx context.Context, o Options) (all []Result, err error) {
	if len(o.Parts) == 0 {
		o.Parts = Parts
	}
	take := func(r Result) {
		all = append(all, r)
		if o.Tell != nil {
			o.Tell(r)
		}
	}
	if slices.Contains(o.Parts, Vectors) {
		for _, name := range conformance.Names() {
			if o.Only != "" && o.Only != name {
				continue
			}
			r, err := vectors(ctx, o.Driver, name)
			if err != nil {
				return all, err
			}
			take(r)
		}
	}
	if slices.Contains(o.Parts, Situations) {
		for _, one := range rehearse.Situations {
			if o.Only != "" && o.Only != one.Name {
				continue
			}
			report, err := rehearse.Situate(ctx, one, rehearse.Options{Driver: o.Driver})
			if ctx.Err() != nil {
				return all, ctx.Err()
			}
			r := Result{Part: Situations, Name: one.Name, Cases: 1, Wrong: report.Wrong, Story: report.Story,
				Left: errors.Is(err, driver.ErrUnknown)}
			if err != nil {
				r.Wrong = append(r.Wrong, err.Error())
			}
			if len(r.Wrong) == 0 {
				r.Held, r.Story = 1, nil
			}
			take(r)
		}
	}
	if slices.Contains(o.Parts, Fleets) && o.Only == "" {
		r, err := fleets(ctx, o)
		if err != nil {
			return all, err
		}
		take(r)
	}
	return all, nil
}

// vectors asks a program for what comes out of each case of a file.
func vectors(ctx context.Context, command driver.Command, name string) (Result, error) {
	r := Result{Part: Vectors, Name: name}
	cases, err := conformance.Kept(name)
	if err != nil {
		return r, err
	}
	p, err := driver.Start(ctx, command)
	if err != nil {
		return r, err
	}
	defer p.Kill()
	for n, one := range cases {
		r.Cases++
		got, err := p.WorkOut(ctx, name, one.Given)
		switch {
		case errors.Is(err, driver.ErrUnknown):
			r.Cases, r.Left = len(cases), true
			r.Wrong = []string{"the program does not work out " + name}
			return r, nil
		case err == nil && same(got, one.Wanted):
			r.Held++
		case len(r.Wrong) > 0: // the first one tells enough
		case err != nil:
			r.Wrong = []string{fmt.Sprintf("case %d, %.300s: %v", n+1, one.Given, err)}
		default:
			r.Wrong = []string{fmt.Sprintf("case %d, %.300s: it says %.300s, and %.300s is wanted", n+1, one.Given, got, one.Wanted)}
		}
		if errors.Is(err, driver.ErrDied) {
			r.Cases = len(cases)
			return r, nil
		}
	}
	return r, nil
}

// same says whether two JSON texts have the same canonical form: the order of members and how numbers are written are free.
func same(a, b json.RawMessage) bool {
	left, err := record.Canonical(a)
	right, other := record.Canonical(b)
	if err != nil || other != nil {
		return bytes.Equal(bytes.TrimSpace(a), bytes.TrimSpace(b))
	}
	return bytes.Equal(left, right)
}

// fleets rehearses seeds in which every other device is driven.
func fleets(ctx context.Context, o Options) (Result, error) {
	r := Result{Part: Fleets, Name: fmt.Sprintf("seeds %d to %d", o.First, o.First+uint64(o.Seeds)-1)}
	one := func(seed uint64, steps int) (rehearse.Report, error) {
		return rehearse.Run(ctx, rehearse.Options{Seed: seed, Steps: steps, Plain: o.Plain, Driver: o.Driver,
			Driven: func(device int) bool { return (uint64(device)+seed)%2 == 0 }})
	}
	for seed := o.First; seed < o.First+uint64(o.Seeds); seed++ {
		r.Cases++
		report, err := one(seed, 0)
		if ctx.Err() != nil {
			return r, ctx.Err()
		}
		if err == nil && len(report.Wrong) == 0 {
			r.Held++
			continue
		}
		if len(r.Wrong) > 0 {
			continue
		}
		// The same seed with fewer steps goes the same way for as long.
		for steps := 5; steps < 40; steps += 5 {
			shorter, short := one(seed, steps)
			if ctx.Err() == nil && (short != nil || len(shorter.Wrong) > 0) {
				report, err = shorter, short
				break
			}
		}
		r.Wrong, r.Story, r.Left = report.Wrong, report.Story, errors.Is(err, driver.ErrUnknown)
		if err != nil {
			r.Wrong = append(r.Wrong, err.Error())
		}
		r.Wrong[0] = fmt.Sprintf("seed %d: %s", seed, r.Wrong[0])
		if r.Left || errors.Is(err, driver.ErrDied) {
			r.Cases = o.Seeds
			return r, nil
		}
	}
	return r, nil
}

package conformance

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/coverage"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/period"
	"homing/core/record"
	"homing/core/rights"
)

type periodAsked struct {
	Kind period.Kind `json:"kind"`
	Text string      `json:"text"`
}

// periods are texts, and the periods that they are.
var periods = kind{
	about: "The period that a text is: its first and last day, the one after it, and what kind of period each other is in which its first day lies; or wrong is true where it is none.",
	given: func() (all []any, err error) {
		for kind, texts := range map[period.Kind][]string{
			period.Day:     {"2026-10-24", "2024-02-29", "2026-02-29", "2026-13-01", "2026-00-10", "2026-1-1", "0999-01-01"},
			period.Week:    {"2026-W43", "2026-W53", "2025-W53", "2026-W54", "2026-W00", "2025-W01", "2020-W53", "2021-W01", "2027-W01", "2026-w43", "2026-W5"},
			period.Month:   {"2026-02", "2026-12", "2026-13", "2026-00", "2026-1"},
			period.Quarter: {"2026-Q1", "2026-Q4", "2026-Q5", "2026-Q0"},
			period.Year:    {"2026", "2024", "26", "0026"},
		} {
			for _, text := range texts {
				all = append(all, periodAsked{kind, text})
			}
		}
		slices.SortFunc(all, func(a, b any) int {
			one, other := a.(periodAsked), b.(periodAsked)
			return slices.Compare([]string{string(one.Kind), one.Text}, []string{string(other.Kind), other.Text})
		})
		return all, nil
	},
	work: working(func(given periodAsked) (any, error) {
		p, err := period.Parse(given.Kind, given.Text)
		if err != nil {
			return wrong{true}, nil
		}
		lies := map[period.Kind]string{}
		for _, kind := range period.Kinds {
			lies[kind] = period.Of(kind, p.First()).String()
		}
		return map[string]any{"first": p.First().Format(time.DateOnly), "last": p.Last().Format(time.DateOnly), "next": p.Plus(1).String(), "lies": lies}, nil
	}),
}

type entryGiven struct {
	ID     uuid.UUID     `json:"id"`
	Fields record.Fields `json:"fields"`
	Marks  merge.Marks   `json:"marks"`
	Author string        `json:"author"`
	Edited time.Time     `json:"edited"`
}

type placeGiven struct {
	ID     uuid.UUID     `json:"id"`
	Fields record.Fields `json:"fields"`
}

// covering is a grid that is asked for.
type covering struct {
	Definition definition.Definition `json:"definition"`
	Of         definition.Definition `json:"of"`
	Places     []placeGiven          `json:"places"`
	Entries    []entryGiven          `json:"entries"`
	From       string                `json:"from,omitempty"`
	Until      string                `json:"until,omitempty"`
	Today      string                `json:"today"`
}

// one is what coverage says of one record: the id that it has, and what is wrong with adding it, or with making of another what it is.
type oneRecord struct {
	Definition definition.Definition `json:"definition"`
	Before     record.Fields         `json:"before,omitempty"`
	Fields     record.Fields         `json:"fields"`
	Worker     rights.Person         `json:"worker"`
}

func covered(kind period.Kind, expected definition.Expected, complete string) definition.Definition {
	d := definition.Definition{Collection: "visits", Label: "{week}", Fields: []definition.Field{
		{Name: "hut", Required: true, Reference: "huts", Schema: json.RawMessage(`{"type":"string"}`)},
		{Name: "week", Required: true, Period: string(kind), Schema: json.RawMessage(fmt.Sprintf(`{"type":"string","period":%q}`, kind))},
		{Name: "water", Required: true, Schema: json.RawMessage(`{"type":"string"}`)}, {Name: "by", Schema: json.RawMessage(`{"type":"string"}`), Marks: complete != ""}},
		Coverage: &definition.Coverage{Place: "hut", Period: "week", Expected: expected, Complete: complete}}
	return d
}

// grids are places, records and what coverage makes of them.
var grids = kind{
	about: "What coverage says. Either a grid of places by periods: definition and of are those of the records and of the places, today is a date; periods gives each with its first, last and due day and its " +
		"sums, places each line with its cells, null where nothing is expected and nothing is there, and sums those of all; wrong is true where from or until is no period. at is in milliseconds since " +
		"1970. Or one record: id is the one that follows from place and period, wrong the paths of what does not fit where before becomes fields, and may whether the worker may do that, or add fields without " +
		"a before; closed says that they must open it again first.",
	given: func() (all []any, err error) {
		for n, expected := range []definition.Expected{{}, {Where: `record.shut == null || period.first < record.shut`, Due: "3 days"}, {From: "2026-W42", Until: "2026-W44", Due: "1 week"}} {
			for m, today := range []string{"2026-10-25", "2026-10-29", "2027-01-02"} {
				complete := ""
				if (n+m)%2 == 0 {
					complete = "by"
				}
				all = append(all, aGrid(uint64(10*n+m), covered(period.Week, expected, complete), today))
			}
		}
		odd := aGrid(99, covered(period.Week, definition.Expected{}, ""), "2026-10-29")
		odd.From = "2026-W54"
		all = append(all, odd)
		def := covered(period.Week, definition.Expected{}, "by")
		read := func(text string) record.Fields {
			fields, _ := record.Parse([]byte(text)) // the texts below are objects
			return fields
		}
		const at = `"hut":"0199d3a1-c2b4-7000-8000-000000000001","week":"2026-W43"`
		for _, texts := range [][2]string{{``, `{` + at + `}`}, {``, `{` + at + `,"by":"mira"}`}, {``, `{` + at + `,"by":"mira","water":"runs"}`}, {``, `{` + at + `,"by":"tobin","water":"runs"}`},
			{``, `{"hut":"x","week":"2026-W54"}`}, {``, `{"week":"2026-W43"}`}, {`{` + at + `}`, `{` + at + `,"by":"mira","water":"dry"}`}, {`{` + at + `}`, `{` + at + `,"by":"mira"}`},
			{`{` + at + `}`, `{"hut":"0199d3a1-c2b4-7000-8000-000000000001","week":"2026-W44"}`}, {`{` + at + `,"by":"tobin","water":"dry"}`, `{` + at + `,"water":"dry"}`},
			{`{` + at + `,"by":"mira","water":"dry"}`, `{` + at + `,"water":"dry"}`}, {`{` + at + `,"by":"mira","water":"dry"}`, `{` + at + `,"by":"mira","water":"runs"}`}} {
			for _, role := range []rights.Role{rights.Worker, rights.Lead} {
				one := oneRecord{Definition: def, Fields: read(texts[1]), Worker: rights.Person{Name: "mira", Role: role, Territories: []string{rights.All}}}
				if texts[0] != "" {
					one.Before = read(texts[0])
				}
				all = append(all, one)
			}
		}
		return all, nil
	},
	work: func(text json.RawMessage) (any, error) {
		var which struct{ Fields *json.RawMessage }
		if err := json.Unmarshal(text, &which); err != nil {
			return nil, err
		}
		if which.Fields != nil {
			return working(workOne)(text)
		}
		return working(workGrid)(text)
	},
}

// aGrid draws what is there of four huts.
func aGrid(seed uint64, def definition.Definition, today string) covering {
	random := drawing(2000 + seed)
	g := covering{Definition: def, Today: today, Of: definition.Definition{Collection: "huts", Label: "{name}", Fields: []definition.Field{
		{Name: "name", Schema: json.RawMessage(`{"type":"string"}`)}, {Name: "shut", Schema: json.RawMessage(`{"type":"string"}`)}}}}
	now, _ := time.Parse(time.DateOnly, today) // the dates above are dates
	for n, name := range []string{"Gale Hut", "arn Hut", "Arn Hut", "Tolle Hut"} {
		p := placeGiven{ID: drawnID(random), Fields: record.Fields{"name": json.RawMessage(fmt.Sprintf("%q", name))}}
		if n == 3 {
			p.Fields["shut"] = json.RawMessage(`"2026-10-19"`)
		}
		g.Places = append(g.Places, p)
		for back := range 6 {
			if random.IntN(3) == 0 {
				continue
			}
			p := period.Of(period.Week, now).Plus(1 - back)
			at := p.First().Add(time.Duration(random.IntN(16*24)) * time.Hour)
			source := change.Source{Incarnation: drawnID(random), Number: 1}
			e := entryGiven{ID: drawnID(random), Author: "tobin", Edited: at.Add(time.Hour), Fields: record.Fields{"hut": json.RawMessage(fmt.Sprintf("%q", g.Places[n].ID)),
				"week": json.RawMessage(fmt.Sprintf("%q", p))}, Marks: merge.Marks{Base: merge.Mark{Revision: 1, Source: source, Stamp: clock.At(at)}}}
			if random.IntN(2) == 0 {
				e.Fields["by"] = json.RawMessage(`"mira"`)
				e.Marks.Fields = map[string]merge.Mark{"by": {Revision: 2, Source: source, Stamp: clock.At(at.Add(50 * time.Hour))}}
			}
			g.Entries = append(g.Entries, e)
		}
	}
	return g
}

func workOne(given oneRecord) (any, error) {
	c, err := given.Definition.Compile()
	if err != nil {
		return nil, err
	}
	out := map[string]any{"wrong": []string{}, "may": c.MayAdd(given.Worker, given.Fields) == nil}
	reasons := c.NewlyWrong(given.Before, given.Fields)
	if given.Before != nil {
		out["may"] = c.MayEdit(given.Worker, given.Before, given.Fields) == nil
		out["closed"] = len(c.Closed(change.Edit, given.Before, given.Fields, false)) > 0
	}
	paths := []string{}
	for _, one := range reasons {
		paths = append(paths, one.Field)
	}
	slices.Sort(paths)
	out["wrong"] = paths
	if id, follows := c.OneID(given.Fields); follows {
		out["id"] = id
	}
	return out, nil
}

func workGrid(given covering) (any, error) {
	c, err := given.Definition.Compile()
	if err != nil {
		return nil, err
	}
	of, err := given.Of.Compile()
	if err != nil {
		return nil, err
	}
	today, err := time.Parse(time.DateOnly, given.Today)
	if err != nil {
		return nil, err
	}
	periods, err := coverage.Periods(c, given.From, given.Until, today)
	if wrongPeriod := new(coverage.Wrong); errors.As(err, &wrongPeriod) {
		return wrong{true}, nil
	}
	if err != nil {
		return nil, err
	}
	table := coverage.New(c, of, periods, today)
	for _, p := range given.Places {
		table.Place(p.ID, p.Fields, []string{rights.All})
	}
	for _, e := range given.Entries {
		table.Entry(coverage.Entry{ID: e.ID, Fields: e.Fields, Marks: e.Marks, Author: e.Author, Edited: e.Edited})
	}
	grid := table.Grid(coverage.Ask{Limit: 100}, nil)
	sums := func(s coverage.Sums) [6]int {
		return [6]int{s.Expected, s.Complete, s.Begun, s.Missing, s.Late, s.CompletedLate}
	}
	columns, lines := []any{}, []any{}
	for _, one := range grid.Periods {
		columns = append(columns, map[string]any{"period": one.Period, "first": one.First, "last": one.Last, "due": one.Due, "sums": sums(one.Sums)})
	}
	for _, line := range grid.Places {
		cells := []any{}
		for _, cell := range line.Cells {
			if cell == nil {
				cells = append(cells, nil)
				continue
			}
			one := map[string]any{"state": cell.State, "late": cell.Late, "expected": cell.Expected}
			if cell.Record != nil {
				one["record"], one["by"], one["at"] = cell.Record, cell.By, cell.At.UnixMilli()
			}
			cells = append(cells, one)
		}
		lines = append(lines, map[string]any{"id": line.ID, "label": line.Label, "cells": cells, "sums": sums(line.Sums)})
	}
	return map[string]any{"periods": columns, "places": lines, "sums": sums(grid.Sums)}, nil
}

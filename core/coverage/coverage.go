// Package coverage says which places have reported for which periods, against what a definition expects. Central and devices
// come to the same grid by it.
package coverage

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"homing/core/clock"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/period"
	"homing/core/record"
	"homing/core/rights"
)

// State is how far the record for a place and a period is.
type State string

// The states. A record that nobody marks complete is complete as soon as it is there.
const (
	Missing  State = "missing"
	Begun    State = "begun"
	Complete State = "complete"
)

// Bounds on a grid.
const (
	UsualPeriods = 8
	MostPeriods  = 400
	UsualPlaces  = 50
	MostPlaces   = 1000
)

// Cell is one place in one period.
type Cell struct {
	State State `json:"state" enum:"missing,begun,complete"`
	// Late tells a complete record, too: it was marked after the last day.
	Late     bool       `json:"late,omitempty" doc:"The last day has passed and the record is not complete, or was completed after it."`
	Expected bool       `json:"expected"`
	Record   *uuid.UUID `json:"record,omitempty" format:"uuid"`
	By       string     `json:"by,omitempty" doc:"Who marked the record complete; of one that is begun, who edited it last."`
	At       time.Time  `json:"at,omitzero" doc:"When they did, in central's time."`
}

// Owed says whether the record is expected and not complete.
func (c *Cell) Owed() bool { return c != nil && c.Expected && c.State != Complete }

// Sums count cells in which a record is expected.
type Sums struct {
	Expected      int `json:"expected"`
	Complete      int `json:"complete"`
	Begun         int `json:"begun"`
	Missing       int `json:"missing"`
	Late          int `json:"late" doc:"Begun or missing, and the last day has passed."`
	CompletedLate int `json:"completed_late" doc:"Complete, but only after the last day."`
}

func (s *Sums) count(c *Cell) {
	if c == nil || !c.Expected {
		return
	}
	s.Expected++
	switch {
	case c.State == Complete && c.Late:
		s.CompletedLate++
	case c.Late:
		s.Late++
	}
	switch c.State {
	case Complete:
		s.Complete++
	case Begun:
		s.Begun++
	default:
		s.Missing++
	}
}

// Column is one period of a grid.
type Column struct {
	Period string `json:"period"`
	Said   string `json:"said" doc:"What people call it, in English."`
	First  string `json:"first" format:"date"`
	Last   string `json:"last" format:"date"`
	Due    string `json:"due" format:"date" doc:"The last day on which it comes in time."`
	Sums
}

// Line is one place of a grid.
type Line struct {
	ID          uuid.UUID `json:"id" format:"uuid"`
	Label       string    `json:"label"`
	Territories []string  `json:"territories"`
	Cells       []*Cell   `json:"cells" doc:"In the order of the periods; null where nothing is expected and nothing is there."`
	Sums
}

// ByWorker is what the territories of one worker come to.
type ByWorker struct {
	Sums
	Marked int `json:"marked" doc:"Records that the worker marked complete, wherever they are."`
}

// Grid is places by periods.
type Grid struct {
	Collection  string              `json:"collection"`
	Title       string              `json:"title"`
	Of          string              `json:"of" doc:"The collection of the places."`
	Place       string              `json:"place" doc:"The field that names the place."`
	Period      string              `json:"period" doc:"The field that names the period."`
	Kind        period.Kind         `json:"kind" enum:"day,week,month,quarter,year"`
	Completes   bool                `json:"completes" doc:"Records are marked complete. Otherwise they are as soon as they are there."`
	Today       string              `json:"today" format:"date"`
	Periods     []Column            `json:"periods" doc:"The earliest first."`
	Sums        Sums                `json:"sums"`
	Territories map[string]Sums     `json:"territories" doc:"By the territory that a place falls into; * for places that fall into none."`
	Workers     map[string]ByWorker `json:"workers,omitempty" doc:"By the worker who holds a territory of the place; for who may see the others."`
	Places      []Line              `json:"places" doc:"Ordered by what they are called; a page of those that were asked for."`
	Total       int                 `json:"total" doc:"Places on all pages."`
}

// Entry is a record for a place and a period.
type Entry struct {
	ID     uuid.UUID
	Fields record.Fields // those of [Table.Reads] at least
	Marks  merge.Marks
	Author string // who edited it last
	Edited time.Time
}

// Table works a grid out, of places and records in any order. It holds what one line of a place needs, and no fields.
type Table struct {
	c, of   *definition.Collection
	periods []period.Period
	due     []time.Time
	today   time.Time
	rows    map[uuid.UUID]*Line
}

// Periods are those that a grid shows where somebody asks for those between two, as they are written; empty for the last that have begun, as far
// as a record is expected in them.
func Periods(c *definition.Collection, from, until string, today time.Time) ([]period.Period, error) {
	kind, expected := c.PeriodKind(), c.Coverage.Expected
	now := period.Of(kind, today)
	last := now
	parse := func(text string, otherwise period.Period) (period.Period, error) {
		if text == "" {
			return otherwise, nil
		}
		return period.Read(kind, text, today)
	}
	if end, err := period.Parse(kind, expected.Until); err == nil && end.Before(now) {
		last = end
	}
	end, err := parse(until, last)
	if err != nil {
		return nil, &Wrong{until, err}
	}
	first := end.Plus(1 - UsualPeriods)
	if begin, err := period.Parse(kind, expected.From); err == nil && first.Before(begin) && !end.Before(begin) {
		first = begin
	}
	if first, err = parse(from, first); err != nil {
		return nil, &Wrong{from, err}
	}
	var all []period.Period
	for p := first; !end.Before(p); p = p.Plus(1) {
		if len(all) == MostPeriods {
			return nil, ErrTooMany
		}
		all = append(all, p)
	}
	if len(all) == 0 {
		return nil, ErrNone
	}
	return all, nil
}

// New starts a table. Of is the collection of the places; today is a date, as midnight UTC.
func New(c, of *definition.Collection, periods []period.Period, today time.Time) *Table {
	t := &Table{c: c, of: of, periods: periods, today: today, rows: map[uuid.UUID]*Line{}, due: make([]time.Time, len(periods))}
	for n, p := range periods {
		t.due[n] = c.Due(p)
	}
	return t
}

// Reads are the fields of a record that a table looks at.
func Reads(c *definition.Collection) []string {
	names := []string{c.Coverage.Place, c.Coverage.Period}
	if c.Completes() {
		names = append(names, c.Coverage.Complete)
	}
	return names
}

// Place takes a place in. Fields are those of its record with what is worked out.
func (t *Table) Place(id uuid.UUID, fields record.Fields, territories []string) {
	row := &Line{ID: id, Label: t.of.LabelOf(fields), Territories: territories, Cells: make([]*Cell, len(t.periods))}
	for n, p := range t.periods {
		if !p.First().After(t.today) && t.c.Expects(t.of, fields, p) {
			row.Cells[n] = &Cell{State: Missing, Expected: true, Late: t.today.After(t.due[n])}
		}
	}
	t.rows[id] = row
}

// Entry takes the record of a place in that is in the table; others are none of its business.
func (t *Table) Entry(e Entry) {
	place, err := uuid.Parse(definition.Plain(e.Fields[t.c.Coverage.Place]))
	row := t.rows[place]
	if err != nil || row == nil {
		return
	}
	text := definition.Plain(e.Fields[t.c.Coverage.Period])
	n, there := slices.BinarySearchFunc(t.periods, text, func(p period.Period, text string) int { return strings.Compare(p.String(), text) })
	if !there {
		return
	}
	cell := &Cell{State: Begun, Expected: row.Cells[n] != nil && row.Cells[n].Expected, Record: &e.ID, By: e.Author, At: e.Edited}
	cell.Late = t.today.After(t.due[n])
	if !t.c.Completes() {
		cell.complete(e.Author, e.Marks.Base, t.due[n])
	} else if by := t.c.CompletedBy(e.Fields); by != "" {
		cell.complete(by, e.Marks.Of(t.c.Coverage.Complete), t.due[n])
	}
	row.Cells[n] = cell
}

func (c *Cell) complete(by string, mark merge.Mark, due time.Time) {
	c.State, c.By = Complete, by
	if mark.Stamp != (clock.Stamp{}) { // a record that central has not answered yet is as late as its edit
		c.At = mark.Stamp.Time()
	}
	c.Late = !c.At.Before(due.AddDate(0, 0, 1))
}

// Grid is what the table comes to, with a page of its places, of an ask that [Ask.Checked] has passed. Workers are those whose own sums are wanted.
func (t *Table) Grid(ask Ask, workers []rights.Person) Grid {
	place, when := t.c.OneFor()[0], t.c.OneFor()[1]
	g := Grid{Collection: t.c.Definition.Collection, Title: t.c.Title, Of: t.of.Definition.Collection, Place: place, Period: when, Kind: t.c.PeriodKind(),
		Completes: t.c.Completes(), Today: t.today.Format(time.DateOnly), Territories: map[string]Sums{}, Places: []Line{}}
	for n, p := range t.periods {
		g.Periods = append(g.Periods, Column{Period: p.String(), Said: p.Say(), First: p.First().Format(time.DateOnly), Last: p.Last().Format(time.DateOnly),
			Due: t.due[n].Format(time.DateOnly)})
	}
	if len(workers) > 0 {
		g.Workers = map[string]ByWorker{}
	}
	for _, one := range workers {
		g.Workers[one.Name] = ByWorker{}
	}
	var fit []*Line
	for _, row := range t.rows {
		if t.sum(&g, row, workers); row.fits(ask) {
			fit = append(fit, row)
		}
	}
	slices.SortFunc(fit, func(a, b *Line) int {
		return cmp.Or(strings.Compare(strings.ToLower(a.Label), strings.ToLower(b.Label)), slices.Compare(a.ID[:], b.ID[:]))
	})
	g.Total = len(fit)
	first := min(ask.Offset, len(fit))
	for _, row := range fit[first:min(first+ask.Limit, len(fit))] {
		g.Places = append(g.Places, *row)
	}
	return g
}

// sum counts the cells of one place wherever they count.
func (t *Table) sum(g *Grid, row *Line, workers []rights.Person) {
	row.Sums = Sums{}
	for n, cell := range row.Cells {
		row.count(cell)
		g.Sums.count(cell)
		g.Periods[n].count(cell)
		if cell != nil && cell.State == Complete {
			if one, known := g.Workers[cell.By]; known {
				one.Marked++
				g.Workers[cell.By] = one
			}
		}
	}
	add := func(sums Sums) Sums {
		return Sums{sums.Expected + row.Expected, sums.Complete + row.Complete, sums.Begun + row.Begun, sums.Missing + row.Missing, sums.Late + row.Late,
			sums.CompletedLate + row.CompletedLate}
	}
	for _, key := range row.Territories {
		if row.Expected > 0 {
			g.Territories[key] = add(g.Territories[key])
		}
	}
	for _, who := range workers {
		if slices.ContainsFunc(row.Territories, func(key string) bool { return key != rights.All && slices.Contains(who.Territories, key) }) {
			one := g.Workers[who.Name]
			one.Sums = add(one.Sums)
			g.Workers[who.Name] = one
		}
	}
}

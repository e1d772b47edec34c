package sheet

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"homing/core/propose"
)

// cells gives the rows of a file one after the other, then io.EOF, as they stand there.
type cells interface {
	next() (number int, row []propose.Value, err error)
	notes() []string
	Close() error
}

// grid makes a table of rows of cells, as people lay them out: with a title above the heading, with blank rows, with rows that end
// early and a row of totals below.
type grid struct {
	from    cells
	path    string
	heading int      // the number of its row
	names   []string // of the columns; those without a heading have one, too
	bare    []bool   // columns without a heading
	ahead   []gridRow
	over    bool  // nothing comes after what is ahead
	failed  error // what stopped the reading behind it
	totals  bool  // a row of totals is kept
	mended  []string
	short   int // rows
	first   int // the first of them
	unnamed map[int]bool
}

type gridRow struct {
	number int
	cells  []propose.Value
}

func (r gridRow) filled() (count int) {
	for _, cell := range r.cells {
		if !cell.Empty() {
			count++
		}
	}
	return count
}

// headRows is how many rows are looked at to find the heading.
const headRows = 20

var errEmpty = errors.New("it is empty; its first row names the columns")

func openGrid(path string, from cells, options Options) (*grid, error) {
	g := &grid{from: from, path: path, totals: options.Totals, unnamed: map[int]bool{}}
	if err := g.start(); err != nil {
		return nil, errors.Join(err, from.Close())
	}
	return g, nil
}

func (g *grid) start() error {
	g.fill(headRows)
	if len(g.ahead) == 0 && g.failed != nil {
		return g.failed
	}
	if len(g.ahead) == 0 {
		return fmt.Errorf("%s: %w", g.path, errEmpty)
	}
	widest, at := 0, 0
	for _, row := range g.ahead {
		widest = max(widest, row.filled())
	}
	// A title stands alone in its row.
	const table = 3
	for widest >= table && at < len(g.ahead)-1 && g.ahead[at].filled() == 1 {
		at++
	}
	if at > 0 {
		var above []string
		for _, row := range g.ahead[:at] {
			for _, cell := range row.cells {
				if !cell.Empty() {
					above = append(above, strconv.Quote(strings.TrimSpace(cell.Text)))
				}
			}
		}
		g.note("the heading is taken to stand in row %d; what stands above it is left out: %s", g.ahead[at].number, strings.Join(above, ", "))
	}
	heading := g.ahead[at].cells
	g.heading = g.ahead[at].number
	g.ahead = g.ahead[at+1:]
	for n, cell := range heading {
		name := strings.TrimSpace(cell.Text)
		g.bare = append(g.bare, name == "")
		if name == "" {
			name = "Column " + strconv.Itoa(n+1)
		}
		if slices.Contains(g.names, name) {
			base, again := name, 2
			for name = base + " 2"; slices.Contains(g.names, name); again++ {
				name = base + " " + strconv.Itoa(again+1)
			}
			g.note("the heading %q stands over several columns; column %d is called %q", base, n+1, name)
		}
		g.names = append(g.names, name)
	}
	return nil
}

// fill reads rows that are not blank until so many are ahead.
func (g *grid) fill(most int) {
	for len(g.ahead) < most && !g.over {
		number, row, err := g.from.next()
		if errors.Is(err, io.EOF) {
			g.over = true
			return
		}
		if err != nil {
			g.over, g.failed = true, err
			return
		}
		if one := (gridRow{number, slices.Clone(row)}); one.filled() > 0 {
			g.ahead = append(g.ahead, one)
		}
	}
}

func (g *grid) note(format string, args ...any) {
	g.mended = append(g.mended, fmt.Sprintf(format, args...))
}

// Headers are the headings; a column without one joins them when something stands in it.
func (g *grid) Headers() []string {
	var all []string
	for n, name := range g.names {
		if !g.bare[n] {
			all = append(all, name)
		}
	}
	return all
}

func (g *grid) Close() error { return g.from.Close() }

func (g *grid) Next() (Row, error) {
	g.fill(2) // the last row is known as such
	if len(g.ahead) == 0 && g.failed != nil {
		return Row{}, g.failed
	}
	if len(g.ahead) == 0 {
		return Row{}, io.EOF
	}
	now := g.ahead[0]
	g.ahead = g.ahead[1:]
	if len(g.ahead) == 0 && g.failed == nil && !g.totals && isTotals(now, len(g.names)) {
		g.note("row %d looks like totals and is left out; --keep-totals takes it for a record", now.number)
		return Row{}, io.EOF
	}
	for len(now.cells) > len(g.names) && now.cells[len(now.cells)-1].Empty() {
		now.cells = now.cells[:len(now.cells)-1]
	}
	if len(now.cells) > len(g.names) {
		return Row{}, fmt.Errorf("%s: line %d has %d cells, the heading has %d", g.path, now.number, len(now.cells), len(g.names))
	}
	if len(now.cells) < len(g.names) {
		if g.short++; g.short == 1 {
			g.first = now.number
		}
	}
	row := Row{Number: now.number, Cells: make(map[string]propose.Value, len(g.names))}
	for n, name := range g.names {
		value := propose.Value{}
		if n < len(now.cells) {
			value = now.cells[n]
		}
		if g.bare[n] {
			if value.Empty() {
				continue
			}
			if !g.unnamed[n] {
				g.unnamed[n] = true
				g.note("column %d has no heading; it is called %q", n+1, name)
			}
		}
		row.Cells[name] = value
	}
	return row, nil
}

// Notes is [Reader.Notes].
func (g *grid) Notes() []string {
	all := append(slices.Clone(g.mended), g.from.notes()...)
	if g.short > 0 {
		all = append(all, fmt.Sprintf("rows that are shorter than the heading count as empty at their end: %d, the first is line %d", g.short, g.first))
	}
	return all
}

var totals = regexp.MustCompile(`(?i)^((grand )?totals?|sums?|summen?|gesamt|sommes?|totaux|insgesamt)\s*:?$`)

// isTotals says whether a last row sums up the others: it begins with a word for that, and some of its cells are empty
// or, as at the end of a row of a workbook, not there.
func isTotals(row gridRow, columns int) bool {
	for _, cell := range row.cells {
		if !cell.Empty() {
			return totals.MatchString(strings.TrimSpace(cell.Text)) && row.filled() < columns && row.filled() > 1
		}
	}
	return false
}

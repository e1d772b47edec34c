package sheet

import (
	"archive/zip"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"homing/core/propose"
)

// workbookCells are the cells of a sheet: what is stored in them, and not what a program displays.
type workbookCells struct {
	book    *excelize.File
	rows    *excelize.Rows
	marks   *marks
	path    string
	sheet   string
	others  []string // sheets that nobody chose between
	number  int
	zone    *time.Location
	since   bool // days are counted from 1904
	formats map[int]format
	moments int
	noValue []string // formulas that nobody has worked out
	wrong   []string // errors of formulas
}

func openWorkbook(path string, options Options) (Reader, error) {
	if err := checkUnpacked(path); err != nil {
		return nil, fmt.Errorf("%s: not a workbook that can be read: %w", path, err)
	}
	book, err := excelize.OpenFile(path, excelize.Options{RawCellValue: true, UnzipXMLSizeLimit: 1 << 24, UnzipSizeLimit: mostUnpacked})
	if err != nil {
		return nil, fmt.Errorf("%s: not a workbook that can be read: %w", path, err)
	}
	r := &workbookCells{book: book, path: path, zone: options.Zone, formats: map[int]format{}}
	if r.zone == nil {
		r.zone = time.UTC
	}
	if err := r.start(options.Sheet); err != nil {
		return nil, errors.Join(err, book.Close())
	}
	g, err := openGrid(path, r, options)
	if errors.Is(err, errEmpty) && len(r.others) > 0 {
		return nil, fmt.Errorf("%s: the sheet %q is empty; --sheet reads another: %s", path, r.sheet, strings.Join(r.others, ", "))
	}
	if err != nil {
		return nil, err
	}
	merged, err := mergedCells(path, r.sheet, g.heading)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s: not a workbook that can be read: %w", path, err), g.Close())
	}
	if merged != "" {
		return nil, errors.Join(fmt.Errorf("%s: the cells %s are merged; a table has one value to a cell, so unmerge them", path, merged), g.Close())
	}
	return g, nil
}

func (r *workbookCells) start(sheet string) error {
	sheets := r.book.GetSheetList()
	if sheet == "" {
		sheet = sheets[0]
		r.others = sheets[1:]
	}
	if !slices.Contains(sheets, sheet) {
		return fmt.Errorf("%s: there is no sheet %q; there are: %s", r.path, sheet, strings.Join(sheets, ", "))
	}
	r.sheet = sheet
	if props, err := r.book.GetWorkbookProps(); err == nil && props.Date1904 != nil {
		r.since = *props.Date1904
	}
	var err error
	if r.marks, err = marksOf(r.path, sheet); err != nil {
		return fmt.Errorf("%s: not a workbook that can be read: %w", r.path, err)
	}
	if r.rows, err = r.book.Rows(sheet); err != nil {
		return fmt.Errorf("%s: %w", r.path, err)
	}
	return nil
}

func (r *workbookCells) Close() error {
	return errors.Join(r.rows.Close(), r.marks.Close(), r.book.Close())
}

func (r *workbookCells) next() (int, []propose.Value, error) {
	if !r.rows.Next() {
		if err := r.rows.Error(); err != nil {
			return 0, nil, fmt.Errorf("%s: %w", r.path, err)
		}
		return 0, nil, io.EOF
	}
	r.number++
	texts, err := r.rows.Columns()
	if err != nil {
		return 0, nil, fmt.Errorf("%s: row %d: %w", r.path, r.number, err)
	}
	marked, err := r.marks.row(r.number)
	if err != nil {
		return 0, nil, fmt.Errorf("%s: row %d: %w", r.path, r.number, err)
	}
	row := make([]propose.Value, len(texts))
	for n, text := range texts {
		row[n].Text = r.value(n, text, marked[n])
	}
	for n, m := range marked { // a formula without a value may stand behind the last cell that has one
		if n >= len(texts) {
			r.value(n, "", m)
		}
	}
	return r.number, row, nil
}

// value is what a cell holds, as a text that reads like one of a CSV file.
func (r *workbookCells) value(column int, text string, m mark) string {
	at := func() string {
		name, _ := excelize.CoordinatesToCellName(column+1, r.number) // both are above 0
		return name
	}
	switch {
	case m.formula && !m.valued:
		r.noValue = append(r.noValue, at())
		return ""
	case m.kind == "e":
		r.wrong = append(r.wrong, at()+" ("+text+")")
		return ""
	case m.kind == "b":
		return strconv.FormatBool(text == "1" || strings.EqualFold(text, "true"))
	case m.kind == "d":
		return text
	case m.kind != "" && m.kind != "n":
		return unguard(text)
	case text == "":
		return ""
	}
	number, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return text
	}
	switch r.format(m.style) {
	case asDate, asMoment:
		when, err := excelize.ExcelDateToTime(number, r.since)
		if err != nil {
			return text
		}
		when = when.Round(time.Second)
		if r.format(m.style) == asDate || when.Equal(when.Truncate(24*time.Hour)) && number == float64(int64(number)) && !strings.Contains(text, ".") {
			return when.Format(time.DateOnly)
		}
		r.moments++
		return time.Date(when.Year(), when.Month(), when.Day(), when.Hour(), when.Minute(), when.Second(), 0, r.zone).Format(time.RFC3339)
	case asTime:
		if number >= 0 && number < 1 {
			seconds := int(number*24*3600 + 0.5)
			if seconds%60 == 0 {
				return fmt.Sprintf("%02d:%02d", seconds/3600, seconds/60%60)
			}
			return fmt.Sprintf("%02d:%02d:%02d", seconds/3600, seconds/60%60, seconds%60)
		}
	}
	// Programs store a double with up to 17 digits; the shortest that is the same double is what was typed.
	return strconv.FormatFloat(number, 'f', -1, 64)
}

// format is what the style of a cell says that its number is.
type format int

const (
	asNumber format = iota
	asDate
	asMoment
	asTime
)

var (
	quotedFormat = regexp.MustCompile(`"[^"]*"|\\.|\[[^\]]*\]`)
	dateLetters  = regexp.MustCompile(`(?i)[yd]`)
	timeLetters  = regexp.MustCompile(`(?i)[hs]`)
)

func (r *workbookCells) format(style int) format {
	if known, is := r.formats[style]; is {
		return known
	}
	found := asNumber
	if s, err := r.book.GetStyle(style); err == nil {
		found = formatOf(s.NumFmt, s.CustomNumFmt)
	}
	r.formats[style] = found
	return found
}

// formatOf reads a number format: one of those that are built in (ECMA-376, part 1, 18.8.30), or a code.
func formatOf(id int, code *string) format {
	switch {
	case code != nil:
		plain := quotedFormat.ReplaceAllString(*code, "")
		date, clock := dateLetters.MatchString(plain), timeLetters.MatchString(plain)
		switch {
		case date && clock:
			return asMoment
		case date:
			return asDate
		case clock:
			return asTime
		}
		return asNumber
	case id >= 14 && id <= 17, id >= 27 && id <= 31, id == 36, id >= 50 && id <= 58:
		return asDate
	case id == 22:
		return asMoment
	case id >= 18 && id <= 21, id >= 32 && id <= 35, id >= 45 && id <= 47:
		return asTime
	}
	return asNumber
}

func (r *workbookCells) notes() (all []string) {
	if len(r.others) > 0 {
		all = append(all, fmt.Sprintf("the sheet %q is read; --sheet reads another: %s", r.sheet, strings.Join(r.others, ", ")))
	}
	if r.moments > 0 {
		all = append(all, fmt.Sprintf("a workbook does not say of which zone its times are: they are taken for times of %s; --zone says another", r.zone))
	}
	if len(r.noValue) > 0 {
		all = append(all, fmt.Sprintf("formulas without a value, which count as empty: %s; open the file in a spreadsheet program and save it, and "+
			"they have one", some(r.noValue)))
	}
	if len(r.wrong) > 0 {
		all = append(all, "errors of formulas, which count as empty: "+some(r.wrong))
	}
	return all
}

// some names a few of many cells.
func some(at []string) string {
	const few = 5
	if len(at) <= few {
		return strings.Join(at, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(at[:few], ", "), len(at)-few)
}

// mark is what a sheet says of a cell besides its value.
type mark struct {
	kind    string // as in the attribute t (ECMA-376, part 1, 18.18.11); empty for a number
	style   int
	formula bool
	valued  bool
}

// marks go through the cells of a sheet beside whoever reads their values.
type marks struct {
	book    *zip.ReadCloser
	part    io.Closer
	decoder *xml.Decoder
	ahead   int // the row that was read
	cells   map[int]mark
}

func marksOf(file, sheet string) (*marks, error) {
	book, err := zip.OpenReader(file)
	if err != nil {
		return nil, err
	}
	name, err := partOf(book, sheet)
	if err != nil {
		return nil, errors.Join(err, book.Close())
	}
	part, err := book.Open(name)
	if err != nil {
		return nil, errors.Join(err, book.Close())
	}
	return &marks{book: book, part: part, decoder: xml.NewDecoder(part)}, nil
}

func (m *marks) Close() error { return errors.Join(m.part.Close(), m.book.Close()) }

// row gives the marks of a row by column, from 0. Rows are asked for in order.
func (m *marks) row(number int) (map[int]mark, error) {
	for m.ahead < number {
		more, err := m.read()
		if err != nil || !more {
			return nil, err
		}
	}
	if m.ahead == number {
		return m.cells, nil
	}
	return nil, nil
}

func (m *marks) read() (more bool, err error) {
	inRow, column := false, -1
	for {
		token, err := m.decoder.RawToken()
		if errors.Is(err, io.EOF) {
			return false, nil
		}
		if err != nil {
			return false, err
		}
		switch e := token.(type) {
		case xml.StartElement:
			switch e.Name.Local {
			case "row":
				inRow, column, m.cells = true, -1, map[int]mark{}
				m.ahead++
				if n, err := strconv.Atoi(attribute(e, "r")); err == nil {
					m.ahead = n
				}
			case "c":
				column++
				if at, _, err := excelize.CellNameToCoordinates(attribute(e, "r")); err == nil {
					column = at - 1
				}
				style, _ := strconv.Atoi(attribute(e, "s")) // none is 0
				m.cells[column] = mark{kind: attribute(e, "t"), style: style}
			case "f", "v", "is":
				if one, is := m.cells[column]; is {
					one.formula, one.valued = one.formula || e.Name.Local == "f", one.valued || e.Name.Local != "f"
					m.cells[column] = one
				}
			}
		case xml.EndElement:
			if inRow && e.Name.Local == "row" {
				return true, nil
			}
		}
	}
}

package sheet

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"unicode/utf16"

	"github.com/xuri/excelize/v2"

	"homing/core/definition"
	"homing/core/record"
)

// Writer takes one record after the other.
type Writer interface {
	Write(id string, fields record.Fields) error
	Close() error
}

// Format is the format that a file's ending stands for: csv, xlsx, ndjson or geojson.
func Format(path string) (string, error) {
	switch ending := strings.ToLower(filepath.Ext(path)); ending {
	case ".csv", ".xlsx", ".ndjson", ".geojson":
		return ending[1:], nil
	case ".jsonl":
		return "ndjson", nil
	default:
		return "", fmt.Errorf("the ending %q is not known; take .csv, .xlsx, .ndjson or .geojson", ending)
	}
}

// NewWriter writes records of a collection in a format.
func NewWriter(to io.Writer, format string, d definition.Definition) (Writer, error) {
	switch format {
	case "csv":
		w := &csvWriter{csv: csv.NewWriter(to), d: d}
		return w, w.csv.Write(headings(d))
	case "ndjson":
		return &lineWriter{to: bufio.NewWriter(to)}, nil
	case "geojson":
		return newFeatureWriter(to, d)
	case "xlsx":
		return newWorkbookWriter(to, d)
	}
	return nil, fmt.Errorf("the format %q is not known; take csv, xlsx, ndjson or geojson", format)
}

// IDColumn is the column that holds the record's id. No field can have its name. An import takes a row that has it
// for that record.
const IDColumn = "homing_id"

// headings are the names of the fields, after the record's id.
func headings(d definition.Definition) []string {
	names := []string{IDColumn}
	for _, field := range d.Fields {
		names = append(names, field.Name)
	}
	return names
}

type csvWriter struct {
	csv *csv.Writer
	d   definition.Definition
}

func (w *csvWriter) Write(id string, fields record.Fields) error {
	cells := []string{id}
	for _, field := range w.d.Fields {
		cells = append(cells, plainCell(fields[field.Name]))
	}
	return w.csv.Write(cells)
}

func (w *csvWriter) Close() error {
	w.csv.Flush()
	return w.csv.Error()
}

type lineWriter struct{ to *bufio.Writer }

func (w *lineWriter) Write(id string, fields record.Fields) error {
	all := fields.Apply(record.Delta{IDColumn: {To: json.RawMessage(`"` + id + `"`)}})
	_, err := w.to.Write(append(all.JSON(), '\n'))
	return err
}

func (w *lineWriter) Close() error { return w.to.Flush() }

type featureWriter struct {
	to       *bufio.Writer
	geometry string
	count    int
}

func newFeatureWriter(to io.Writer, d definition.Definition) (Writer, error) {
	for _, field := range d.Fields {
		if ref := field.Shape().Ref; ref == definition.PointURL || ref == definition.LineURL {
			w := &featureWriter{to: bufio.NewWriter(to), geometry: field.Name}
			_, err := w.to.WriteString(`{"type":"FeatureCollection","features":[`)
			return w, err
		}
	}
	return nil, fmt.Errorf("%s has no field with a place, so there is nothing to draw; take another format", d.Collection)
}

func (w *featureWriter) Write(id string, fields record.Fields) error {
	if w.count++; w.count > 1 {
		w.to.WriteByte(',')
	}
	geometry := fields[w.geometry]
	if geometry == nil {
		geometry = json.RawMessage("null")
	}
	_, err := fmt.Fprintf(w.to, "\n"+`{"type":"Feature","id":"%s","geometry":%s,"properties":%s}`, id, geometry,
		fields.Apply(record.Delta{w.geometry: {}}).JSON())
	return err
}

func (w *featureWriter) Close() error {
	_, err := w.to.WriteString("\n]}\n")
	return errors.Join(err, w.to.Flush())
}

type workbookWriter struct {
	to   io.Writer
	book *excelize.File
	rows *excelize.StreamWriter
	d    definition.Definition
	row  int
}

func newWorkbookWriter(to io.Writer, d definition.Definition) (Writer, error) {
	book := excelize.NewFile()
	const most = 31 // characters of a sheet's name
	name := d.Title[:min(len(d.Title), most)]
	if err := book.SetSheetName("Sheet1", name); err != nil {
		name = "Sheet1" // a title that cannot name a sheet
	}
	rows, err := book.NewStreamWriter(name)
	if err != nil {
		return nil, errors.Join(err, book.Close())
	}
	w := &workbookWriter{to: to, book: book, rows: rows, d: d}
	var cells []any
	for _, heading := range headings(d) {
		cells = append(cells, heading)
	}
	return w, w.add(cells)
}

func (w *workbookWriter) add(cells []any) error {
	w.row++
	at, err := excelize.CoordinatesToCellName(1, w.row)
	if err != nil {
		return fmt.Errorf("a sheet has no room for %d rows; take another format", w.row)
	}
	return w.rows.SetRow(at, cells)
}

func (w *workbookWriter) Write(id string, fields record.Fields) error {
	cells := []any{id}
	for _, field := range w.d.Fields {
		value := cell(fields[field.Name])
		if text, is := value.(string); is {
			if err := fits(text); err != nil {
				return fmt.Errorf("%s of the record %s: %w; take csv or ndjson", field.Name, id, err)
			}
		}
		cells = append(cells, value)
	}
	return w.add(cells)
}

// mostCell is how many characters (UTF-16 units) a cell of a workbook holds.
const mostCell = 32767

// fits says why a workbook cannot hold a text as it is. XML has no form for control characters, and programs that write
// workbooks cut what is too long: an import of such a file would alter the record.
func fits(text string) error {
	units := 0
	for _, r := range text {
		if units += utf16.RuneLen(r); r < ' ' && r != '\n' && r != '\t' || r == 0xfffe || r == 0xffff {
			return fmt.Errorf("it holds the character U+%04X, which a workbook cannot hold", r)
		}
	}
	if units > mostCell {
		return fmt.Errorf("it has %d characters, and a cell of a workbook holds %d", units, mostCell)
	}
	return nil
}

// cell keeps numbers numbers where a sheet can hold all their digits.
func cell(raw json.RawMessage) any {
	const exact = 15 // digits of a double
	if len(raw) > 0 && len(raw) <= exact && (raw[0] == '-' || raw[0] >= '0' && raw[0] <= '9') {
		if number, err := json.Number(raw).Float64(); err == nil {
			return number
		}
	}
	if raw == nil {
		return nil
	}
	return plainCell(raw)
}

// plainCell is a value as a text; one that people wrote and that begins like a formula is guarded.
func plainCell(raw json.RawMessage) string {
	text := definition.Plain(raw)
	if len(raw) > 0 && raw[0] == '"' {
		return Guard(text)
	}
	return text
}

func (w *workbookWriter) Close() error {
	err := w.rows.Flush()
	if err == nil {
		err = w.book.Write(w.to)
	}
	return errors.Join(err, w.book.Close())
}

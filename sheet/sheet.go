// Package sheet reads and writes tables: CSV, XLSX, NDJSON and GeoJSON. Rows come and go one by one, so that a file
// of half a million takes no more memory than one of ten.
package sheet

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/google/uuid"
	"github.com/xuri/excelize/v2"
	"golang.org/x/text/encoding/charmap"

	"homing/core/propose"
)

// Row is one row of a table.
type Row struct {
	Number int // in the file, as people count there: the heading of a sheet is 1
	Cells  map[string]propose.Value
}

// Reader gives one row after the other, then io.EOF. Its errors say where in the file something is wrong.
type Reader interface {
	Headers() []string // as far as the format knows them before the rows
	Next() (Row, error)
	Close() error
}

// Options say how a file is to be read.
type Options struct {
	Sheet    string // of a workbook; the first one when empty
	Encoding string // of a CSV file: utf-8 or windows-1252; utf-8 when empty
}

// Open opens a file by its ending: .csv, .tsv, .xlsx, .ndjson, .jsonl or .geojson.
func Open(path string, options Options) (Reader, error) {
	switch ending := strings.ToLower(filepath.Ext(path)); ending {
	case ".csv", ".tsv", ".txt":
		return openCSV(path, options.Encoding)
	case ".xlsx":
		return openWorkbook(path, options.Sheet)
	case ".ndjson", ".jsonl":
		return openLines(path)
	case ".geojson":
		return openFeatures(path)
	default:
		return nil, fmt.Errorf("%s: the ending %q is not known; take .csv, .xlsx, .ndjson or .geojson", path, ending)
	}
}

type csvReader struct {
	file    *os.File
	bound   *bounded
	csv     *csv.Reader
	path    string
	headers []string
	line    int // of the last row
}

// mostRow is the most bytes that one row may have. A quote that never closes would otherwise take the rest of the
// file for one cell.
const mostRow = 8 << 20

var errLongRow = errors.New("the row is too long")

// bounded gives up when a single row takes too much.
type bounded struct {
	from io.Reader
	row  int // bytes read since the last row was complete
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.row > mostRow {
		return 0, errLongRow
	}
	n, err := b.from.Read(p)
	b.row += n
	return n, err
}

func openCSV(path, encoding string) (Reader, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	var from io.Reader = file
	switch strings.ToLower(encoding) {
	case "", "utf-8", "utf8":
	case "windows-1252", "latin1", "iso-8859-1":
		from = charmap.Windows1252.NewDecoder().Reader(file)
	default:
		file.Close()
		return nil, fmt.Errorf("the encoding %q is not known; take utf-8 or windows-1252", encoding)
	}
	bound := &bounded{from: from}
	buffered := bufio.NewReaderSize(bound, 1<<16)
	if mark, err := buffered.Peek(3); err == nil && bytes.Equal(mark, []byte("\xef\xbb\xbf")) {
		buffered.Discard(3)
	}
	r := &csvReader{file: file, bound: bound, path: path, csv: csv.NewReader(buffered)}
	r.csv.Comma = separator(buffered)
	r.csv.ReuseRecord = true
	if r.headers, err = r.read(); err != nil {
		file.Close()
		if errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("%s: the file is empty; its first row names the columns", path)
		}
		return nil, err
	}
	r.headers = append([]string{}, r.headers...)
	for n := range r.headers {
		r.headers[n] = strings.TrimSpace(r.headers[n])
	}
	return r, nil
}

// separator is the one of comma, semicolon and tab that comes most often in the first line.
func separator(from *bufio.Reader) rune {
	head, _ := from.Peek(1 << 15) // less is there in a short file
	if end := bytes.IndexByte(head, '\n'); end >= 0 {
		head = head[:end]
	}
	best, most := ',', bytes.Count(head, []byte(","))
	for _, candidate := range []rune{';', '\t'} {
		if n := bytes.Count(head, []byte(string(candidate))); n > most {
			best, most = candidate, n
		}
	}
	return best
}

func (r *csvReader) read() ([]string, error) {
	cells, err := r.csv.Read()
	r.bound.row = 0
	var wrong *csv.ParseError
	switch {
	case errors.Is(err, errLongRow):
		return nil, fmt.Errorf("%s: the row after line %d has more than %d MiB; probably a quote that opens there never "+
			"closes", r.path, r.line, mostRow>>20)
	case errors.As(err, &wrong) && errors.Is(wrong.Err, csv.ErrQuote):
		return nil, fmt.Errorf("%s: line %d: a quote that opens there never closes, or stands in the middle of a cell; "+
			"double it to mean a quote", r.path, wrong.StartLine)
	case errors.As(err, &wrong) && errors.Is(wrong.Err, csv.ErrFieldCount):
		return nil, fmt.Errorf("%s: line %d has %d cells, the heading has %d", r.path, wrong.StartLine, len(cells),
			len(r.headers))
	case err != nil && !errors.Is(err, io.EOF):
		return nil, fmt.Errorf("%s: %w", r.path, err)
	case err != nil:
		return nil, err
	}
	r.line, _ = r.csv.FieldPos(0)
	for _, cell := range cells {
		if !utf8.ValidString(cell) {
			line, _ := r.csv.FieldPos(0)
			return nil, fmt.Errorf("%s: line %d is not UTF-8; save the file as UTF-8, or say --encoding windows-1252", r.path,
				line)
		}
	}
	return cells, nil
}

func (r *csvReader) Headers() []string { return r.headers }
func (r *csvReader) Close() error      { return r.file.Close() }

func (r *csvReader) Next() (Row, error) {
	var cells []string
	for blank := true; blank; { // a row of nothing but separators is no record
		var err error
		if cells, err = r.read(); err != nil {
			return Row{}, err
		}
		blank = !slices.ContainsFunc(cells, func(cell string) bool { return strings.TrimSpace(cell) != "" })
	}
	line, _ := r.csv.FieldPos(0)
	row := Row{Number: line, Cells: make(map[string]propose.Value, len(cells))}
	for n, header := range r.headers {
		row.Cells[header] = propose.Value{Text: unguard(cells[n])}
	}
	return row, nil
}

type workbookReader struct {
	book    *excelize.File
	rows    *excelize.Rows
	path    string
	headers []string
	number  int
}

func openWorkbook(path, sheet string) (Reader, error) {
	if err := checkUnpacked(path); err != nil {
		return nil, fmt.Errorf("%s: not a workbook that can be read: %w", path, err)
	}
	book, err := excelize.OpenFile(path, excelize.Options{ShortDatePattern: "yyyy-mm-dd", LongDatePattern: "yyyy-mm-dd",
		UnzipXMLSizeLimit: 1 << 24, UnzipSizeLimit: mostUnpacked})
	if err != nil {
		return nil, fmt.Errorf("%s: not a workbook that can be read: %w", path, err)
	}
	r := &workbookReader{book: book, path: path}
	if err := r.start(sheet); err != nil {
		return nil, errors.Join(err, book.Close())
	}
	return r, nil
}

func (r *workbookReader) start(sheet string) error {
	sheets := r.book.GetSheetList()
	if sheet == "" {
		sheet = sheets[0]
	}
	if !slices.Contains(sheets, sheet) {
		return fmt.Errorf("%s: there is no sheet %q; there are: %s", r.path, sheet, strings.Join(sheets, ", "))
	}
	merged, err := mergedCells(r.path, sheet)
	if err != nil {
		return fmt.Errorf("%s: not a workbook that can be read: %w", r.path, err)
	}
	if merged != "" {
		return fmt.Errorf("%s: the cells %s are merged; a table has one value to a cell, so unmerge them", r.path, merged)
	}
	if r.rows, err = r.book.Rows(sheet); err != nil {
		return fmt.Errorf("%s: %w", r.path, err)
	}
	for len(r.headers) == 0 {
		if !r.rows.Next() {
			return fmt.Errorf("%s: the sheet %s is empty; its first row names the columns", r.path, sheet)
		}
		r.number++
		if r.headers, err = r.rows.Columns(); err != nil {
			return fmt.Errorf("%s: row %d: %w", r.path, r.number, err)
		}
	}
	for n := range r.headers {
		r.headers[n] = strings.TrimSpace(r.headers[n])
	}
	return nil
}

func (r *workbookReader) Headers() []string { return r.headers }
func (r *workbookReader) Close() error      { return errors.Join(r.rows.Close(), r.book.Close()) }

func (r *workbookReader) Next() (Row, error) {
	for r.rows.Next() {
		r.number++
		cells, err := r.rows.Columns()
		if err != nil {
			return Row{}, fmt.Errorf("%s: row %d: %w", r.path, r.number, err)
		}
		if len(cells) > len(r.headers) {
			return Row{}, fmt.Errorf("%s: row %d has %d cells, the heading has %d", r.path, r.number, len(cells), len(r.headers))
		}
		row := Row{Number: r.number, Cells: make(map[string]propose.Value, len(cells))}
		filled := false
		for n, header := range r.headers {
			value := propose.Value{}
			if n < len(cells) {
				value.Text = unguard(cells[n])
			}
			filled = filled || !value.Empty()
			row.Cells[header] = value
		}
		if filled {
			return row, nil
		}
	}
	if err := r.rows.Error(); err != nil {
		return Row{}, fmt.Errorf("%s: %w", r.path, err)
	}
	return Row{}, io.EOF
}

type lineReader struct {
	file   *os.File
	lines  *bufio.Reader
	path   string
	number int
}

func openLines(path string) (Reader, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	return &lineReader{file: file, lines: bufio.NewReaderSize(file, 1<<16), path: path}, nil
}

func (r *lineReader) Headers() []string { return nil }
func (r *lineReader) Close() error      { return r.file.Close() }

func (r *lineReader) Next() (Row, error) {
	for {
		line, err := r.lines.ReadBytes('\n')
		r.number++
		if len(bytes.TrimSpace(line)) == 0 {
			if err != nil {
				return Row{}, err
			}
			continue
		}
		cells, wrong := object(line)
		if wrong != nil {
			return Row{}, fmt.Errorf("%s: line %d: %v", r.path, r.number, wrong)
		}
		return Row{Number: r.number, Cells: cells}, nil
	}
}

func object(text []byte) (map[string]propose.Value, error) {
	var members map[string]json.RawMessage
	if err := json.Unmarshal(text, &members); err != nil || members == nil {
		return nil, fmt.Errorf("not a JSON object: %v", err)
	}
	cells := make(map[string]propose.Value, len(members))
	for name, value := range members {
		cells[name] = propose.Value{JSON: value}
	}
	return cells, nil
}

// GeometryField is what the geometry of a GeoJSON feature becomes.
const GeometryField = "location"

type featureReader struct {
	file    *os.File
	decoder *json.Decoder
	path    string
	number  int
}

// openFeatures reads a FeatureCollection (RFC 7946) one feature at a time.
func openFeatures(path string) (Reader, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	r := &featureReader{file: file, decoder: json.NewDecoder(bufio.NewReaderSize(file, 1<<16)), path: path}
	if token, err := r.decoder.Token(); err != nil || token != json.Delim('{') {
		file.Close()
		return nil, fmt.Errorf("%s: not GeoJSON: an object is expected", path)
	}
	for r.decoder.More() {
		name, err := r.decoder.Token()
		if err == nil && name == "features" {
			if token, err := r.decoder.Token(); err == nil && token == json.Delim('[') {
				return r, nil
			}
			break
		}
		var skipped json.RawMessage
		if err := r.decoder.Decode(&skipped); err != nil {
			break
		}
	}
	file.Close()
	return nil, fmt.Errorf("%s: not a GeoJSON FeatureCollection: it has no list of features", path)
}

func (r *featureReader) Headers() []string { return nil }
func (r *featureReader) Close() error      { return r.file.Close() }

func (r *featureReader) Next() (Row, error) {
	if !r.decoder.More() {
		if _, err := r.decoder.Token(); err != nil {
			return Row{}, fmt.Errorf("%s: broken after feature %d: %v", r.path, r.number, err)
		}
		return Row{}, io.EOF
	}
	var feature struct {
		ID         json.RawMessage            `json:"id"`
		Geometry   json.RawMessage            `json:"geometry"`
		Properties map[string]json.RawMessage `json:"properties"`
	}
	r.number++
	if err := r.decoder.Decode(&feature); err != nil {
		return Row{}, fmt.Errorf("%s: feature %d: %v", r.path, r.number, err)
	}
	row := Row{Number: r.number, Cells: map[string]propose.Value{}}
	for name, value := range feature.Properties {
		row.Cells[name] = propose.Value{JSON: value}
	}
	var id uuid.UUID
	if _, has := feature.Properties[IDColumn]; !has && json.Unmarshal(feature.ID, &id) == nil && id != uuid.Nil {
		row.Cells[IDColumn] = propose.Value{JSON: feature.ID} // as an export writes it
	}
	if len(feature.Geometry) > 0 && string(feature.Geometry) != "null" {
		row.Cells[GeometryField] = propose.Value{JSON: feature.Geometry}
	}
	return row, nil
}

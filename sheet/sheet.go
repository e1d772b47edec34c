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
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"
	"golang.org/x/text/encoding/charmap"

	"homing/core/propose"
)

// Row is one row of a table.
type Row struct {
	Number int // in the file, as people count there: the heading of a sheet is 1
	Cells  map[string]propose.Value
	Names  []string // of the cells, in their order, where only the row has one
}

// Reader gives one row after the other, then io.EOF. Its errors say where in the file something is wrong.
type Reader interface {
	Headers() []string // as far as the format knows them before the rows
	Next() (Row, error)
	// Notes say what was mended while reading, or read in one of several ways; all of them are known after the last row.
	Notes() []string
	Close() error
}

// Each gives all rows of a file that is opened for it, and what there is to note of them then.
func Each(open func() (Reader, error), take func(Row) error) (notes []string, err error) {
	reader, err := open()
	if err != nil {
		return nil, err
	}
	defer func() {
		notes = reader.Notes()
		err = errors.Join(err, reader.Close())
	}()
	for {
		row, err := reader.Next()
		if errors.Is(err, io.EOF) {
			return nil, nil
		}
		if err == nil {
			err = take(row)
		}
		if err != nil {
			return nil, err
		}
	}
}

// Options say how a file is to be read.
type Options struct {
	Sheet    string // of a workbook; the first one when empty
	Encoding string // of a CSV file: utf-8 or windows-1252; utf-8 when empty
	// Zone is where the times of a workbook are of, which say none themselves; nil means UTC.
	Zone *time.Location
	// Totals keeps a last row that looks like totals.
	Totals bool
}

// Open opens a file by its ending: .csv, .tsv, .xlsx, .ndjson, .jsonl or .geojson.
func Open(path string, options Options) (Reader, error) {
	switch ending := strings.ToLower(filepath.Ext(path)); ending {
	case ".csv", ".tsv", ".txt":
		return openCSV(path, options)
	case ".xlsx":
		return openWorkbook(path, options)
	case ".ndjson", ".jsonl":
		return openLines(path)
	case ".geojson":
		return openFeatures(path)
	default:
		return nil, fmt.Errorf("%s: the ending %q is not known; take .csv, .xlsx, .ndjson or .geojson", path, ending)
	}
}

// csvCells are the cells of a CSV file.
type csvCells struct {
	file  *os.File
	bound *bounded
	csv   *csv.Reader
	path  string
	line  int // of the last row
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

func openCSV(path string, options Options) (Reader, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	var from io.Reader = file
	switch strings.ToLower(options.Encoding) {
	case "", "utf-8", "utf8":
	case "windows-1252", "latin1", "iso-8859-1":
		from = charmap.Windows1252.NewDecoder().Reader(file)
	default:
		file.Close()
		return nil, fmt.Errorf("the encoding %q is not known; take utf-8 or windows-1252", options.Encoding)
	}
	bound := &bounded{from: from}
	buffered := bufio.NewReaderSize(bound, 1<<16)
	if mark, err := buffered.Peek(3); err == nil && bytes.Equal(mark, []byte("\xef\xbb\xbf")) {
		buffered.Discard(3)
	}
	cells := &csvCells{file: file, bound: bound, path: path, csv: csv.NewReader(buffered)}
	cells.csv.Comma = separator(buffered)
	cells.csv.ReuseRecord, cells.csv.FieldsPerRecord = true, -1
	g, err := openGrid(path, cells, options)
	if err != nil {
		return nil, err
	}
	return g, nil
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

func (r *csvCells) read() ([]string, error) {
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

func (r *csvCells) next() (int, []propose.Value, error) {
	texts, err := r.read()
	if err != nil {
		return 0, nil, err
	}
	row := make([]propose.Value, len(texts))
	for n, text := range texts {
		row[n].Text = unguard(text)
	}
	return r.line, row, nil
}

func (r *csvCells) notes() []string { return nil }
func (r *csvCells) Close() error    { return r.file.Close() }

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
func (r *lineReader) Notes() []string   { return nil }
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
		cells, names, wrong := object(line)
		if wrong != nil {
			return Row{}, fmt.Errorf("%s: line %d: %v", r.path, r.number, wrong)
		}
		return Row{Number: r.number, Cells: cells, Names: names}, nil
	}
}

func object(text []byte) (cells map[string]propose.Value, names []string, err error) {
	decoder := json.NewDecoder(bytes.NewReader(text))
	if open, err := decoder.Token(); err != nil || open != json.Delim('{') {
		return nil, nil, errors.New("not a JSON object")
	}
	cells = map[string]propose.Value{}
	for decoder.More() {
		token, err := decoder.Token()
		name, is := token.(string)
		var value json.RawMessage
		if err == nil && is {
			err = decoder.Decode(&value)
		}
		if err != nil || !is {
			return nil, nil, fmt.Errorf("not a JSON object: %v", err)
		}
		if _, twice := cells[name]; twice {
			return nil, nil, fmt.Errorf("the key %q stands there twice", name)
		}
		cells[name], names = propose.Value{JSON: value}, append(names, name)
	}
	if _, err := decoder.Token(); err != nil {
		return nil, nil, fmt.Errorf("not a JSON object: %v", err)
	}
	if decoder.More() {
		return nil, nil, errors.New("there is more behind the JSON object")
	}
	return cells, names, nil
}

// GeometryField is what the geometry of a GeoJSON feature becomes.
const GeometryField = propose.GeometryField

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
func (r *featureReader) Notes() []string   { return nil }
func (r *featureReader) Close() error      { return r.file.Close() }

func (r *featureReader) Next() (Row, error) {
	if !r.decoder.More() {
		if _, err := r.decoder.Token(); err != nil {
			return Row{}, fmt.Errorf("%s: broken after feature %d: %v", r.path, r.number, err)
		}
		return Row{}, io.EOF
	}
	var feature struct {
		ID         json.RawMessage `json:"id"`
		Geometry   json.RawMessage `json:"geometry"`
		Properties json.RawMessage `json:"properties"`
	}
	r.number++
	if err := r.decoder.Decode(&feature); err != nil {
		return Row{}, fmt.Errorf("%s: feature %d: %v", r.path, r.number, err)
	}
	row := Row{Number: r.number, Cells: map[string]propose.Value{}}
	if len(feature.Properties) > 0 && string(feature.Properties) != "null" {
		var err error
		if row.Cells, row.Names, err = object(feature.Properties); err != nil {
			return Row{}, fmt.Errorf("%s: feature %d: properties: %v", r.path, r.number, err)
		}
	}
	var id uuid.UUID
	if _, has := row.Cells[IDColumn]; !has && json.Unmarshal(feature.ID, &id) == nil && id != uuid.Nil {
		row.Cells[IDColumn] = propose.Value{JSON: feature.ID} // as an export writes it
	}
	if len(feature.Geometry) > 0 && string(feature.Geometry) != "null" {
		row.Cells[GeometryField] = propose.Value{JSON: feature.Geometry}
	}
	return row, nil
}

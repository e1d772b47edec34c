package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/core/definition"
	"homing/core/propose"
	"homing/core/rights"
	"homing/sheet"
)

// Bounds on a table that is brought in through the browser. Larger ones are for the command line, which reads them row
// by row.
const (
	mostTableRows  = 50_000
	mostWrongTold  = 200
	mostTableBytes = 16 << 20
)

// readTable is what a file holds, as records of a collection.
type readTable struct {
	Collection string                       `json:"collection"`
	Fresh      bool                         `json:"fresh" doc:"The collection is still to be defined."`
	Definition *definition.Definition       `json:"definition"`
	Text       string                       `json:"text" doc:"The definition as a file: the one that there is, or a proposal."`
	About      string                       `json:"about,omitempty" doc:"Why the proposal has the key that it has."`
	Notes      []string                     `json:"notes,omitempty" doc:"What was mended while reading, or read in one of several ways."`
	Columns    []tableColumn                `json:"columns"`
	Total      int                          `json:"total"`
	Rows       []map[string]json.RawMessage `json:"rows" doc:"The rows as PUT /v1/rows takes them; those that are wrong are left out."`
	WrongRows  int                          `json:"wrong_rows"`
	Wrong      []tableWrong                 `json:"wrong,omitempty" doc:"What is wrong with which row; the first 200."`
}

type tableColumn struct {
	Header string `json:"header"`
	Field  string `json:"field"`
}

type tableWrong struct {
	Row    int               `json:"row" doc:"As people count in the file: the heading of a sheet is 1."`
	Field  string            `json:"field,omitempty"`
	Reason string            `json:"reason"`
	Cells  map[string]string `json:"cells" doc:"The row as it stands in the file, by heading."`
}

// TableForm is a file with how it is to be read. It is exported since the API description only looks into exported
// parts of a request.
type TableForm struct {
	File       huma.FormFile `form:"file" required:"true" doc:"A table: .csv, .tsv, .xlsx, .ndjson, .jsonl or .geojson."`
	Collection string        `form:"collection" required:"false" doc:"The collection that its rows go into; by the file's name when left out."`
	Definition string        `form:"definition" required:"false" doc:"The collection's definition as a file, where it is still to be defined; proposed from the rows when left out."`
	Decimal    string        `form:"decimal" required:"false" enum:",point,comma" doc:"What stands before decimals in texts; told by the file when left out."`
	Dates      string        `form:"dates" required:"false" enum:",dmy,mdy" doc:"The order of dates such as 1/2/2025; told by the file when left out."`
	Sheet      string        `form:"sheet" required:"false" doc:"Of a workbook: the sheet; the first when left out."`
}

func (s *Server) registerTables() {
	type tableIn struct {
		RawBody huma.MultipartFormFiles[TableForm]
	}
	op := s.operation(http.MethodPost, "/v1/tables", "read-table",
		"Read a table, and say what its rows would be as records; nothing is changed", editors)
	op.MaxBodyBytes = mostTableBytes + 1<<20
	op.Errors = append(op.Errors, http.StatusRequestEntityTooLarge)
	add(s, op, func(ctx context.Context, in *tableIn) (*answer[readTable], error) {
		got, err := s.readTable(ctx, who(ctx).Person, in.RawBody.Data())
		return &answer[readTable]{got}, err
	})
}

func (s *Server) readTable(ctx context.Context, asker fleet.Person, form *TableForm) (got readTable, err error) {
	name := filepath.Base(form.File.Filename)
	folder, err := os.MkdirTemp("", "homing-table-")
	if err != nil {
		return got, err
	}
	defer os.RemoveAll(folder)
	path := filepath.Join(folder, "table"+strings.ToLower(filepath.Ext(name)))
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return got, err
	}
	_, err = io.Copy(file, form.File)
	if err := errors.Join(err, file.Close()); err != nil {
		return got, err
	}
	t := &tableReading{path: path, sheet: form.Sheet, figures: propose.Figures{Decimal: form.Decimal, Dates: form.Dates}}
	if err := t.look(); err != nil {
		return got, fault.Fail(fault.Invalid, "%s", strings.ReplaceAll(err.Error(), path, name))
	}
	got.Collection = form.Collection
	if got.Collection == "" {
		got.Collection = propose.FieldName(strings.TrimSuffix(name, filepath.Ext(name)))
	}
	if !definition.Name.MatchString(got.Collection) {
		return got, fault.Fail(fault.Invalid, "%.80q cannot name a collection; say another", got.Collection)
	}
	target, err := s.target(ctx, asker, form.Definition, t, &got)
	if err != nil {
		return got, err
	}
	fit, err := t.table.Fit(target.Definition, t.figures)
	if err != nil {
		return got, fault.Fail(fault.Invalid, "%v", err)
	}
	if target.Key != "" && !t.named && !fit.Has(target.Key) {
		return got, fault.Fail(fault.Invalid, "there is no column for the key %s of %s: nothing would tell which record a row is of",
			target.Key, got.Collection)
	}
	for _, column := range t.table.Columns {
		if field, goes := fit.Fields[column.Header]; goes {
			got.Columns = append(got.Columns, tableColumn{column.Header, field.Name})
		}
	}
	if fit.Place != "" {
		got.Columns = append(got.Columns, tableColumn{fit.Latitude + ", " + fit.Longitude, fit.Place})
	}
	got.Total, got.Rows = t.total, []map[string]json.RawMessage{}
	err = t.each(func(row sheet.Row) error {
		values := fit.Values(row.Cells)
		if _, wrong := propose.Wrong(target, values); len(wrong) > 0 {
			got.WrongRows++
			for _, one := range wrong {
				if len(got.Wrong) < mostWrongTold {
					got.Wrong = append(got.Wrong, tableWrong{row.Number, one.Field, one.Message, plainCells(row)})
				}
			}
			return nil
		}
		if id := row.Cells[sheet.IDColumn]; !id.Empty() {
			values[sheet.IDColumn] = t.figures.Convert(definition.Field{Schema: json.RawMessage(`{"type":"string"}`)}, id)
		}
		got.Rows = append(got.Rows, values)
		return nil
	})
	for _, note := range append(t.notes, t.said...) {
		got.Notes = append(got.Notes, strings.NewReplacer("--decimal ", "decimals: ", "--dates ", "dates: ").Replace(note))
	}
	return got, err
}

// target is the collection that the rows go into: the one that there is, the one that somebody has written, or a
// proposal.
func (s *Server) target(ctx context.Context, asker fleet.Person, written string, t *tableReading,
	got *readTable) (*definition.Collection, error) {
	known, err := s.central.Collection(ctx, got.Collection)
	if err == nil {
		t.settle(&known.Definition)
		d := known.Definition
		got.Definition, got.Text = &d, string(definition.WriteSource(d))
		return known, nil
	}
	var missing *fault.Error
	if !errors.As(err, &missing) {
		return nil, err
	}
	if !asker.Role.May(rights.Define) {
		return nil, fault.Fail(fault.NotAllowed, "there is no collection %s, and your role may not define one", got.Collection)
	}
	t.settle(nil)
	d, err := t.table.Definition(got.Collection)
	if err != nil {
		return nil, fault.Fail(fault.Invalid, "%v", err)
	}
	if _, why := t.table.Key(); d.Key != "" {
		got.About = fmt.Sprintf("The key is %s: %s. A row of the next file with the same %[1]s changes that record.", d.Key, why)
	} else {
		got.About = "No column looks like a key, so each row adds a record, and the next file adds its rows to those that are there."
	}
	if written != "" {
		if d, err = definition.ReadSource("definition", []byte(written)); err != nil {
			return nil, fault.Fail(fault.Invalid, "%v", err)
		}
		if d.Collection != got.Collection {
			return nil, fault.Fail(fault.Invalid, "the definition is of %s, and not of %s", d.Collection, got.Collection)
		}
	}
	compiled, err := d.Compile()
	if err != nil {
		return nil, fault.Fail(fault.Invalid, "%v", err)
	}
	got.Fresh, got.Definition, got.Text = true, &d, string(definition.WriteSource(d))
	return compiled, nil
}

func plainCells(row sheet.Row) map[string]string {
	cells := map[string]string{}
	for header, value := range row.Cells {
		text := value.Text
		if value.JSON != nil {
			text = definition.Plain(value.JSON)
		}
		const most = 200
		if runes := []rune(text); len(runes) > most {
			text = string(runes[:most])
		}
		cells[header] = text
	}
	return cells
}

// tableReading is a file that is read twice: for what its columns hold, and for its rows.
type tableReading struct {
	path, sheet string
	table       *propose.Table
	figures     propose.Figures
	named       bool // a column holds the records' ids, as an export has it
	total       int
	notes       []string // of whoever reads the file
	said        []string // of how texts are read
}

func (t *tableReading) open() (sheet.Reader, error) {
	return sheet.Open(t.path, sheet.Options{Sheet: t.sheet})
}

func (t *tableReading) each(take func(sheet.Row) error) (err error) {
	t.notes, err = sheet.Each(t.open, take)
	return err
}

// look reads the file once, to know its columns and what they hold.
func (t *tableReading) look() error {
	reader, err := t.open()
	if err != nil {
		return err
	}
	headers := reader.Headers()
	if err := reader.Close(); err != nil {
		return err
	}
	own := func(name string) bool { return name == sheet.IDColumn }
	t.table = propose.NewTable(slices.DeleteFunc(slices.Clone(headers), own))
	err = t.each(func(row sheet.Row) error {
		if t.total++; t.total > mostTableRows {
			return fmt.Errorf("there are more than %d rows; take homing import on the command line, which reads them one by one", mostTableRows)
		}
		_, named := row.Cells[sheet.IDColumn]
		t.named = t.named || named
		maps.DeleteFunc(row.Cells, func(name string, _ propose.Value) bool { return own(name) })
		t.table.Add(row.Cells, slices.DeleteFunc(row.Names, own)...)
		return nil
	})
	if err == nil && t.total == 0 {
		err = errors.New("there are no rows below the heading")
	}
	return err
}

// settle decides how texts are to be read. What was exported is read as it was written.
func (t *tableReading) settle(known *definition.Definition) {
	if t.named {
		return
	}
	var matters func(string) bool
	if known != nil {
		matters = propose.Matters(*known)
	}
	t.figures, t.said = t.table.Settle(t.figures, matters)
}

package sheet_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"homing/core/definition"
	"homing/core/record"
	"homing/sheet"
)

// What a text from the field says is never worked out by a spreadsheet, and comes in again as it went out.
func TestNoCellIsAFormula(t *testing.T) {
	d, err := definition.ReadSource("t.yaml", []byte("collection: notes\nfields:\n  text: {type: string}\n  number: {type: number}\n"))
	if err != nil {
		t.Fatal(err)
	}
	texts := []string{"=1+1", "+49 123", "-2", "@SUM(A1)", "\t=1", "'=1", "''@x", "'plain", "plain", "=HYPERLINK(\"http://x\")", "5-4", "'"}
	for _, format := range []string{"csv", "xlsx"} {
		var out bytes.Buffer
		w, err := sheet.NewWriter(&out, format, d)
		if err != nil {
			t.Fatal(err)
		}
		for _, text := range texts {
			raw, _ := json.Marshal(text) // always marshals
			if err := w.Write("0199d3a1-c2b4-7000-8000-000000000001", record.Fields{"text": raw, "number": json.RawMessage("-5")}); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(t.TempDir(), "notes."+format)
		if err := os.WriteFile(path, out.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		if format == "csv" {
			for _, line := range strings.Split(out.String(), "\n")[1:] {
				if _, cell, _ := strings.Cut(line, ","); strings.HasPrefix(strings.Trim(cell, `"`), "=") || strings.HasPrefix(cell, "+") ||
					strings.HasPrefix(cell, "@") || strings.HasPrefix(cell, "-2") {
					t.Errorf("a cell begins like a formula: %s", line)
				}
			}
		}
		r, err := sheet.Open(path, sheet.Options{})
		if err != nil {
			t.Fatal(err)
		}
		for _, want := range texts {
			row, err := r.Next()
			if err != nil || row.Cells["text"].Text != want || row.Cells["number"].Text != "-5" {
				t.Errorf("%s: %q came back as %q, %q, %v", format, want, row.Cells["text"].Text, row.Cells["number"].Text, err)
			}
		}
		if _, err := r.Next(); !errors.Is(err, io.EOF) {
			t.Errorf("%s: there is more: %v", format, err)
		}
		if err := r.Close(); err != nil {
			t.Error(err)
		}
	}
}

// A small file that unpacks to a great deal is refused before it is unpacked.
func TestABombIsNotUnpacked(t *testing.T) {
	path := filepath.Join(t.TempDir(), "bomb.xlsx")
	file, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	archive := zip.NewWriter(file)
	for _, name := range []string{"[Content_Types].xml", "xl/workbook.xml", "xl/worksheets/sheet1.xml"} {
		part, err := archive.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		blank := bytes.Repeat([]byte(" "), 1<<20)
		for range 100 {
			if _, err := part.Write(blank); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := errors.Join(archive.Close(), file.Close()); err != nil {
		t.Fatal(err)
	}
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err = sheet.Open(path, sheet.Options{})
	runtime.ReadMemStats(&after)
	if err == nil || !strings.Contains(err.Error(), "unpacks to 300 MiB") {
		t.Errorf("it is opened: %v", err)
	}
	if took := (after.TotalAlloc - before.TotalAlloc) >> 20; took > 5 {
		t.Errorf("refusing it took %d MiB", took)
	}
}

// A row of nothing but separators is no record, and rows behind it keep their numbers.
func TestBlankRowsAreLeftOut(t *testing.T) {
	path := filepath.Join(t.TempDir(), "huts.csv")
	if err := os.WriteFile(path, []byte("name;beds;note\n;;\nGale;12;\n ; ;\t\n;;\nFosk;7;x\n;;\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	r, err := sheet.Open(path, sheet.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	for _, want := range []struct {
		name string
		line int
	}{{"Gale", 3}, {"Fosk", 6}} {
		row, err := r.Next()
		if err != nil || row.Cells["name"].Text != want.name || row.Number != want.line {
			t.Errorf("%+v, %v, want %+v", row, err, want)
		}
	}
	if row, err := r.Next(); !errors.Is(err, io.EOF) {
		t.Errorf("%+v, %v", row, err)
	}
}

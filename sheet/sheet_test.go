package sheet_test

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"homing/sheet"
)

func write(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// rows reads all of a file; the first error ends it.
func rows(path string, options sheet.Options) (all []sheet.Row, err error) {
	reader, err := sheet.Open(path, options)
	if err != nil {
		return nil, err
	}
	defer reader.Close()
	for {
		row, err := reader.Next()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return all, err
		}
		all = append(all, row)
	}
}

func TestReads(t *testing.T) {
	for name, text := range map[string]string{
		"commas.csv":         "name,beds\nGale,12\n\"Fosk, old\",7\n",
		"semicolons.csv":     "name;beds\r\nGale;12\r\nFosk, old;7\r\n",
		"tabs.tsv":           "name\tbeds\nGale\t12\nFosk, old\t7\n",
		"mark.csv":           "\xef\xbb\xbfname,beds\nGale,12\n\"Fosk, old\",7",
		"lines.ndjson":       "{\"name\":\"Gale\",\"beds\":12}\n\n{\"name\":\"Fosk, old\",\"beds\":7}",
		"collection.geojson": `{"type":"FeatureCollection","name":"x","features":[{"type":"Feature","geometry":null,"properties":{"name":"Gale","beds":12}},{"type":"Feature","properties":{"name":"Fosk, old","beds":7}}]}`,
	} {
		all, err := rows(write(t, name, text), sheet.Options{})
		if err != nil || len(all) != 2 {
			t.Errorf("%s: %v, %v", name, all, err)
			continue
		}
		cell := all[1].Cells["name"]
		if got := cell.Text + string(cell.JSON); got != "Fosk, old" && got != `"Fosk, old"` {
			t.Errorf("%s: read %q", name, got)
		}
	}
}

func TestEncodings(t *testing.T) {
	path := write(t, "old.csv", "name\nM\xfchle\n")
	if _, err := rows(path, sheet.Options{}); err == nil || !strings.Contains(err.Error(), "line 2 is not UTF-8") {
		t.Errorf("an old encoding: %v", err)
	}
	all, err := rows(path, sheet.Options{Encoding: "windows-1252"})
	if err != nil || all[0].Cells["name"].Text != "Mühle" {
		t.Errorf("read %v, %v", all, err)
	}
}

func TestSaysWhereAndWhat(t *testing.T) {
	for name, test := range map[string]struct{ text, says string }{
		"empty.csv":     {"", "it is empty"},
		"quote.csv":     {"name,beds\n\"Gale,12\nFosk,7\n", "line 2: a quote that opens there never closes"},
		"long.csv":      {"name,beds\nGale,1,2\n", "line 2 has 3 cells, the heading has 2"},
		"broken.ndjson": {"{\"a\":1}\n{\"a\":\n", "line 2: not a JSON object"},
		"list.ndjson":   {"[1]\n", "line 1: not a JSON object"},
		"other.geojson": {`{"type":"Point","coordinates":[1,2]}`, "not a GeoJSON FeatureCollection"},
		"cut.geojson":   {`{"type":"FeatureCollection","features":[{"type":"Feature","properties":{}},{"type`, "feature 2"},
		"cut2.geojson": {`{"type":"FeatureCollection","features":[{"type":"Feature","properties":{}}`,
			"broken after feature 1"},
		"letter.xlsx": {"Dear Runa", "not a workbook"},
		"drawing.dwg": {"x", `the ending ".dwg" is not known`},
	} {
		if _, err := rows(write(t, name, test.text), sheet.Options{}); err == nil ||
			!strings.Contains(err.Error(), test.says) {
			t.Errorf("%s: %v, want %q", name, err, test.says)
		}
	}
	if _, err := rows(write(t, "a.csv", "x\n"), sheet.Options{Encoding: "morse"}); err == nil ||
		!strings.Contains(err.Error(), "morse") {
		t.Errorf("an unknown encoding: %v", err)
	}
}

func TestWorkbooks(t *testing.T) {
	book := excelize.NewFile()
	for cell, value := range map[string]any{"A1": "name", "B1": "beds", "C1": "double", "A2": "Gale", "B2": 12,
		"A4": "Fosk", "B4": 7.5} {
		if err := book.SetCellValue("Sheet1", cell, value); err != nil {
			t.Fatal(err)
		}
	}
	if err := book.SetCellFormula("Sheet1", "C2", "B2*2"); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "huts.xlsx")
	if err := book.SaveAs(path); err != nil {
		t.Fatal(err)
	}
	all, err := rows(path, sheet.Options{})
	if err != nil || len(all) != 2 || all[1].Number != 4 || all[1].Cells["beds"].Text != "7.5" ||
		all[0].Cells["name"].Text != "Gale" || all[0].Cells["double"].Text != "" {
		t.Errorf("read %v, %v", all, err)
	}
	if _, err := rows(path, sheet.Options{Sheet: "Nowhere"}); err == nil ||
		!strings.Contains(err.Error(), `no sheet "Nowhere"; there are: Sheet1`) {
		t.Errorf("a sheet that is not there: %v", err)
	}
	if err := book.MergeCell("Sheet1", "A2", "A3"); err != nil {
		t.Fatal(err)
	}
	if err := book.SaveAs(path); err != nil {
		t.Fatal(err)
	}
	if _, err := rows(path, sheet.Options{}); err == nil || !strings.Contains(err.Error(), "A2:A3 are merged") {
		t.Errorf("merged cells: %v", err)
	}
}

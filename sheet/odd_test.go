package sheet_test

import (
	"errors"
	"flag"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"homing/core/definition"
	"homing/core/propose"
	"homing/sheet"
)

var update = flag.Bool("update", false, "write what becomes of the odd files anew")

// becomes says what becomes of a file: what is noted, what is proposed, and its rows as records.
func becomes(path string, options sheet.Options) string {
	var out strings.Builder
	reader, err := sheet.Open(path, options)
	if err != nil {
		return "refused: " + strings.ReplaceAll(err.Error(), filepath.Dir(path)+"/", "") + "\n"
	}
	table := propose.NewTable(reader.Headers())
	var rows []sheet.Row
	for {
		row, err := reader.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return "refused: " + strings.ReplaceAll(err.Error(), filepath.Dir(path)+"/", "") + "\n"
		}
		table.Add(row.Cells, row.Names...)
		rows = append(rows, row)
	}
	figures, notes := table.Settle(propose.Figures{}, nil)
	for _, note := range append(reader.Notes(), notes...) {
		fmt.Fprintln(&out, "note:", note)
	}
	if err := reader.Close(); err != nil {
		return err.Error()
	}
	d, err := table.Definition("huts")
	if err != nil {
		return err.Error()
	}
	if key, why := table.Key(); key != "" {
		fmt.Fprintf(&out, "key: %s, since %s\n", key, why)
	}
	out.Write(definition.WriteSource(d))
	latitude, longitude := table.PlaceColumns()
	for _, row := range rows {
		fmt.Fprintf(&out, "%d:", row.Number)
		for _, column := range table.Columns {
			if field, is := d.Field(column.Field); is {
				if value := figures.Convert(field, row.Cells[column.Header]); value != nil {
					fmt.Fprintf(&out, " %s=%s", field.Name, value)
				}
			}
		}
		if latitude != "" {
			fmt.Fprintf(&out, " %s=%s", propose.PlaceField, propose.Place(row.Cells[latitude].Text, row.Cells[longitude].Text))
		}
		fmt.Fprintln(&out)
	}
	return out.String()
}

// Files as people really have them: beside each lies what becomes of it.
func TestOddFiles(t *testing.T) {
	files, err := filepath.Glob("testdata/*")
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, path := range files {
		if strings.HasSuffix(path, ".txt") {
			continue
		}
		seen[path] = true
		options := sheet.Options{}
		if strings.Contains(path, "windows") {
			options.Encoding = "windows-1252"
		}
		got := becomes(path, options)
		if *update {
			if err := os.WriteFile(path+".txt", []byte(got), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		want, err := os.ReadFile(path + ".txt")
		if err != nil || got != string(want) {
			t.Errorf("%s became\n%s\nand not\n%s", path, got, want)
		}
	}
	if len(seen) < 15 {
		t.Errorf("only %d odd files were tried: %v", len(seen), slices.Sorted(maps.Keys(seen)))
	}
}

// What is stored in a workbook is read, and not what a program would display.
func TestStoredValues(t *testing.T) {
	book := excelize.NewFile()
	style := func(format string) int {
		id, err := book.NewStyle(&excelize.Style{CustomNumFmt: &format})
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	for n, one := range []struct {
		heading, format string
		value           any
		want            string
	}{
		{"grouped", "#,##0.00", 12345.678, "12345.678"}, {"percent", "0.00%", 0.125, "0.125"},
		{"typed", "0.0", 1.1, "1.1"}, {"date", "dd.mm.yyyy", 45689.0, "2025-02-01"}, {"moment", "yyyy-mm-dd hh:mm", 45689.427083333336, "2025-02-01T10:15:00Z"},
		{"time", "hh:mm", 0.4270833333333333, "10:15"}, {"yes", "General", true, "true"}, {"text", "@", "007", "007"}, {"figure as text", "General", "1,5", "1,5"},
		{"money", `"CHF" #,##0.00;[Red]-#,##0.00`, -5.5, "-5.5"}, {"small", "0.00E+00", 0.0000012, "0.0000012"},
	} {
		at, _ := excelize.CoordinatesToCellName(n+1, 1)
		below, _ := excelize.CoordinatesToCellName(n+1, 2)
		err := errors.Join(book.SetCellValue("Sheet1", at, one.heading), book.SetCellValue("Sheet1", below, one.value),
			book.SetCellStyle("Sheet1", below, below, style(one.format)))
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(t.TempDir(), "stored.xlsx")
		if err := book.SaveAs(path); err != nil {
			t.Fatal(err)
		}
		all, err := rows(path, sheet.Options{})
		if err != nil || len(all) != 1 || all[0].Cells[one.heading].Text != one.want {
			t.Errorf("%s: %+v, %v, want %s", one.heading, all, err, one.want)
		}
	}
}

// A formula that nobody has worked out is said, and its cell is empty.
func TestWorkbooksSayWhatIsMissing(t *testing.T) {
	book := excelize.NewFile()
	err := errors.Join(book.SetSheetRow("Sheet1", "A1", &[]any{"name", "beds", "ratio", "seen"}), book.SetSheetRow("Sheet1", "A2", &[]any{"Gale", 12, nil, nil}),
		book.SetCellFormula("Sheet1", "C2", "B2*2"))
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "missing.xlsx")
	if err := book.SaveAs(path); err != nil {
		t.Fatal(err)
	}
	reader, err := sheet.Open(path, sheet.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer reader.Close()
	if row, err := reader.Next(); err != nil || row.Cells["ratio"].Text != "" {
		t.Errorf("%+v, %v", row, err)
	}
	if _, err := reader.Next(); !errors.Is(err, io.EOF) {
		t.Error(err)
	}
	if notes := strings.Join(reader.Notes(), "; "); !strings.Contains(notes, "formulas without a value, which count as empty: C2") {
		t.Errorf("the notes say %s", notes)
	}
}

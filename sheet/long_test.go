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

// A quote that never closes does not take the rest of a large file for one cell: the row is given up, and the error
// names the line before it.
func TestAQuoteThatNeverClosesInALargeFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "large.csv")
	file, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	line := strings.Repeat("x", 100) + ",1\n"
	for _, text := range []string{"name,n\n", "a,1\nb,2\n", "\"never closed,3\n", strings.Repeat(line, 200_000)} {
		if _, err := file.WriteString(text); err != nil {
			t.Fatal(err)
		}
	}
	if err := file.Close(); err != nil {
		t.Fatal(err)
	}
	reader, err := sheet.Open(path, sheet.Options{})
	if err != nil {
		t.Fatal(err)
	}
	defer reader.Close()
	rows := 0
	for err == nil {
		if _, err = reader.Next(); err == nil {
			rows++
		}
	}
	if rows != 2 || errors.Is(err, io.EOF) || !strings.Contains(err.Error(),
		"the row after line 3 has more than 8 MiB; probably a quote that opens there never closes") {
		t.Errorf("after %d rows: %v", rows, err)
	}
}

// Merged cells are found without holding the sheet in memory, whichever sheet it is.
func TestMergedCellsOfAnySheet(t *testing.T) {
	book := excelize.NewFile()
	path := filepath.Join(t.TempDir(), "book.xlsx")
	_, err := book.NewSheet("Merged")
	err = errors.Join(err, book.SetSheetName("Sheet1", "Plain"))
	for _, name := range []string{"Plain", "Merged"} {
		err = errors.Join(err, book.SetSheetRow(name, "A1", &[]string{"name", "n"}),
			book.SetSheetRow(name, "A2", &[]string{"Gale", "1"}))
	}
	if err = errors.Join(err, book.MergeCell("Merged", "A2", "B2"), book.SaveAs(path), book.Close()); err != nil {
		t.Fatal(err)
	}
	if _, err := sheet.Open(path, sheet.Options{Sheet: "Merged"}); err == nil ||
		!strings.Contains(err.Error(), "A2:B2 are merged") {
		t.Errorf("merged cells: %v", err)
	}
	reader, err := sheet.Open(path, sheet.Options{Sheet: "Plain"})
	if err != nil {
		t.Fatal(err)
	}
	defer reader.Close()
	if row, err := reader.Next(); err != nil || row.Cells["name"].Text != "Gale" {
		t.Errorf("%+v, %v", row, err)
	}
	if _, err := sheet.Open(path, sheet.Options{Sheet: "Nowhere"}); err == nil ||
		!strings.Contains(err.Error(), "there are: Plain, Merged") {
		t.Errorf("a sheet that is not there: %v", err)
	}
}

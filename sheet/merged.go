package sheet

import (
	"archive/zip"
	"encoding/xml"
	"errors"
	"io"
	"path"
	"strings"

	"github.com/xuri/excelize/v2"
)

// mergedCells gives the first range of merged cells of a sheet that reaches into a row or stands below it, or nothing: a title above
// the table may be merged. It reads the workbook's parts as a stream, since the library would hold the whole sheet in memory for it
// (ECMA-376, part 1, 18.3.1.55).
func mergedCells(file, sheet string, from int) (string, error) {
	book, err := zip.OpenReader(file)
	if err != nil {
		return "", err
	}
	defer book.Close()
	part, err := partOf(book, sheet)
	if err != nil {
		return "", err
	}
	merged := ""
	err = elements(book, part, func(e xml.StartElement) bool {
		if e.Name.Local == "mergeCell" {
			ref := attribute(e, "ref")
			_, last, found := strings.Cut(ref, ":")
			if _, row, err := excelize.CellNameToCoordinates(last); !found || err != nil || row >= from {
				merged = ref
			}
		}
		return merged == ""
	})
	return merged, err
}

// partOf is the name of the part that holds a sheet.
func partOf(book *zip.ReadCloser, sheet string) (string, error) {
	relation, target := "", ""
	err := elements(book, "xl/workbook.xml", func(e xml.StartElement) bool {
		if e.Name.Local == "sheet" && attribute(e, "name") == sheet {
			relation = attribute(e, "id")
		}
		return relation == ""
	})
	if err != nil {
		return "", err
	}
	err = elements(book, "xl/_rels/workbook.xml.rels", func(e xml.StartElement) bool {
		if e.Name.Local == "Relationship" && attribute(e, "Id") == relation {
			target = attribute(e, "Target")
		}
		return target == ""
	})
	if err != nil {
		return "", err
	}
	if !strings.HasPrefix(target, "/") {
		target = path.Join("xl", target)
	}
	return strings.TrimPrefix(target, "/"), nil
}

func attribute(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// elements goes through a part of the workbook until more says that it is enough.
func elements(book *zip.ReadCloser, name string, more func(xml.StartElement) bool) error {
	part, err := book.Open(name)
	if err != nil {
		return err
	}
	defer part.Close()
	decoder := xml.NewDecoder(part)
	for {
		token, err := decoder.RawToken()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if start, is := token.(xml.StartElement); is && !more(start) {
			return nil
		}
	}
}

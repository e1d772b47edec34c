package sheet

import (
	"archive/zip"
	"fmt"
	"regexp"
)

// Spreadsheets take a cell that begins like a formula for one, and work it out when the file is opened: a text from
// the field could make them fetch or send something. An export puts an apostrophe before such a text, and an import
// takes it away again, so that the same values come back.
var (
	likeFormula = regexp.MustCompile(`^'*[=+\-@\t\r]`)
	guarded     = regexp.MustCompile(`^'+[=+\-@\t\r]`)
)

// Guard gives a text as a cell may hold it.
func Guard(text string) string {
	if likeFormula.MatchString(text) {
		return "'" + text
	}
	return text
}

func unguard(cell string) string {
	if guarded.MatchString(cell) {
		return cell[1:]
	}
	return cell
}

// Bounds on what a workbook unpacks to, in bytes. A table unpacks to some twenty times its size; far more than that is
// made to fill a disk.
const (
	mostUnpacked  = 1 << 30
	surelyFine    = 64 << 20
	mostExpansion = 100
)

// checkUnpacked refuses a workbook before it is unpacked. What an archive says of its sizes is held to when it is read.
func checkUnpacked(path string) error {
	archive, err := zip.OpenReader(path)
	if err != nil {
		return err
	}
	defer archive.Close()
	var packed, unpacked uint64
	for _, file := range archive.File {
		packed, unpacked = packed+file.CompressedSize64, unpacked+file.UncompressedSize64
		if file.UncompressedSize64 > mostUnpacked || unpacked > mostUnpacked {
			return fmt.Errorf("it unpacks to more than %d MiB; split the table", mostUnpacked>>20)
		}
	}
	if unpacked > surelyFine && unpacked > packed*mostExpansion {
		return fmt.Errorf("it unpacks to %d MiB from %d kB, as no table does", unpacked>>20, packed>>10)
	}
	return nil
}

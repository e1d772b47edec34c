package office

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"homing/central/finding"
	"homing/core/record"
	"homing/internal/cli/terminal"
	"homing/sheet"
)

// ExportCommand is homing export.
func ExportCommand() *cli.Command {
	return &cli.Command{
		Name:      "export",
		Usage:     "write records to CSV, XLSX, NDJSON or GeoJSON",
		ArgsUsage: "COLLECTION",
		Description: `Importing an exported file again changes nothing.

EXAMPLES
   homing export trails --to trails.xlsx
   homing export structures --where state=damaged --format geojson > damaged.geojson`,
		Flags: CentralFlags(
			&cli.StringFlag{Name: "to", Usage: "`FILE` to write; its ending says the format; standard output when left out"},
			&cli.StringFlag{Name: "format", Usage: "csv, xlsx, ndjson or geojson; csv when nothing says it"},
			&cli.StringSliceFlag{Name: "where", Usage: "`CONDITION` such as state=open; all must hold, but of several with = for one field any"},
			&cli.StringFlag{Name: "search", Usage: "`WORDS` that the record contains"},
			&cli.StringFlag{Name: "sort", Usage: "`FIELDS`, comma-separated; a leading dash reverses"}),
		Action: exportRecords,
	}
}

func exportRecords(ctx context.Context, c *cli.Command) (err error) {
	args, err := terminal.Arguments(c, "COLLECTION")
	if err != nil {
		return err
	}
	format := c.String("format")
	if format == "" {
		format = "csv"
		if c.String("to") != "" {
			if format, err = sheet.Format(c.String("to")); err != nil {
				return terminal.Usage(err)
			}
		}
	}
	call, err := NewCaller(c)
	if err != nil {
		return err
	}
	d, err := call.definitionAt(ctx, args[0])
	if err != nil {
		return err
	}
	to := terminal.Exact(c.Root().Writer)
	if path := c.String("to"); path != "" {
		// A file that is there is replaced only when the new one is whole.
		file, err := os.CreateTemp(filepath.Dir(path), ".homing-export-")
		if err != nil {
			return err
		}
		defer func() {
			if err = errors.Join(err, file.Close()); err == nil { // readable by its owner alone, as it was made
				err = os.Rename(file.Name(), path)
			} else {
				os.Remove(file.Name())
			}
		}()
		to = file
	} else if format == "xlsx" && terminal.OnTerminal(to) {
		return terminal.Usage(errors.New("a workbook is not for the terminal; name a file with --to"))
	}
	w, err := sheet.NewWriter(to, format, d.Definition)
	if err != nil {
		return terminal.Usage(err)
	}
	written, err := exportPages(ctx, c, call, d.Definition.Collection, w)
	if err := errors.Join(err, w.Close()); err != nil {
		return err
	}
	if c.String("to") != "" {
		fmt.Fprintf(c.Root().Writer, "Wrote %s to %s.\n", terminal.Count(written, "record"), c.String("to"))
	}
	return nil
}

// exportPages reads page after page. They are ordered by id unless told otherwise, so that a record that is added
// meanwhile, whose id is later, shifts no page.
func exportPages(ctx context.Context, c *cli.Command, call Caller, collection string,
	w sheet.Writer) (written int, err error) {
	const page = 1000
	line := terminal.NewProgressLine(c.Root().ErrWriter)
	defer line.Done()
	after := ""
	for offset := 0; ; offset += page {
		ask := queryOf(c, page, offset)
		if c.String("sort") == "" { // each page is as quick as the first
			ask.Del("offset")
			ask.Set("after", after)
		}
		var listing finding.Listing
		if err := call.Get(ctx, RecordsPath(collection)+"?"+ask.Encode(), &listing); err != nil {
			return written, err
		}
		for _, r := range listing.Records {
			fields, err := record.Parse(r.Fields)
			if err != nil {
				return written, err
			}
			if err := w.Write(r.ID.String(), fields); err != nil {
				return written, err
			}
			written++
			after = r.ID.String()
		}
		if len(listing.Records) < page {
			return written, nil
		}
		line.Show(fmt.Sprintf("writing %s: %d", collection, written))
	}
}

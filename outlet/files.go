package outlet

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"homing/core/definition"
	"homing/feed"
)

// files writes a file for each batch. It is written under a name that begins with a point, brought down to the disk and given its name then, so
// that nobody sees half of it.
type files struct {
	folder string
	form   string
	parts  map[string]*feed.Shaped // by what the collections are called
}

func openFiles(to feed.Files, options Options) (*files, error) {
	if options.Folder == "" {
		return nil, setUp("central has no folder for feeds; start it with --feed-folder")
	}
	folder := filepath.Join(options.Folder, to.Folder)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	return &files{folder: folder, form: to.Form}, nil
}

func (f *files) Ready(_ context.Context, parts map[string]*feed.Shaped) error {
	f.parts = map[string]*feed.Shaped{}
	for _, part := range parts {
		f.parts[part.Called] = part
	}
	return nil
}

// Deliver is [Outlet.Deliver]: all of it or nothing. The name says which positions the file is of: should it be written once more, after a kill,
// it takes the place of the first, and what is in it no more has changed since and stands in a later one.
func (f *files) Deliver(_ context.Context, batch Batch) (done int, refused []Refusal, err error) {
	name := fmt.Sprintf("%s-%d-%012d-%012d.%s", batch.Collection, batch.Round, batch.From, batch.To, f.form)
	part := filepath.Join(f.folder, "."+name+".part")
	defer os.Remove(part) // it is not there any more where all went well
	if err := f.write(part, batch); err != nil {
		return 0, nil, err
	}
	if err := os.Rename(part, filepath.Join(f.folder, name)); err != nil {
		return 0, nil, err
	}
	return len(batch.Items), nil, syncFolder(f.folder)
}

func syncFolder(path string) error {
	folder, err := os.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(folder.Sync(), folder.Close())
}

func (f *files) write(path string, batch Batch) error {
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(file)
	switch f.form {
	case "csv":
		err = f.csv(w, batch)
	case "geojson":
		err = f.geojson(w, batch)
	default:
		for _, item := range batch.Items {
			err = errors.Join(err, json.NewEncoder(w).Encode(f.row(item)))
		}
	}
	return errors.Join(err, w.Flush(), file.Sync(), file.Close())
}

// row is an item as one object: what it says, and who it is.
func (f *files) row(item feed.Item) map[string]any {
	row := map[string]any{"homing_id": item.Record, "homing_revision": item.Revision, "homing_gone": item.Gone,
		"homing_edited_at": item.EditedAt.UTC().Format(time.RFC3339Nano), "homing_author": item.Author}
	for name, value := range item.Values {
		row[name] = value
	}
	return row
}

var about = []string{"homing_id", "homing_revision", "homing_gone", "homing_edited_at", "homing_author"}

func (f *files) csv(to io.Writer, batch Batch) error {
	w := csv.NewWriter(to)
	columns := f.parts[batch.Collection].Columns
	head := append([]string{}, about...)
	for _, column := range columns {
		head = append(head, column.Name)
	}
	err := w.Write(head)
	for _, item := range batch.Items {
		cells := []string{item.Record.String(), strconv.FormatInt(item.Revision, 10), strconv.FormatBool(item.Gone),
			item.EditedAt.UTC().Format(time.RFC3339Nano), item.Author}
		for _, column := range columns {
			cells = append(cells, plain(item.Values[column.Name]))
		}
		err = errors.Join(err, w.Write(cells))
	}
	w.Flush()
	return errors.Join(err, w.Error())
}

// plain is a value as it stands in a cell: a text without its quotes, nothing for none.
func plain(value json.RawMessage) string {
	if value == nil {
		return ""
	}
	return definition.Plain(value)
}

func (f *files) geojson(to io.Writer, batch Batch) error {
	place := ""
	for _, column := range f.parts[batch.Collection].Columns {
		if ref := column.Field.Shape().Ref; place == "" && (ref == definition.PointURL || ref == definition.LineURL) {
			place = column.Name
		}
	}
	io.WriteString(to, `{"type":"FeatureCollection","features":[`) // a bufio.Writer keeps its error for the end
	for n, item := range batch.Items {
		properties := f.row(item)
		delete(properties, place)
		geometry := item.Values[place]
		if geometry == nil {
			geometry = json.RawMessage("null")
		}
		text, err := json.Marshal(map[string]any{"type": "Feature", "id": item.Record, "geometry": geometry, "properties": properties})
		if err != nil {
			return err
		}
		fmt.Fprint(to, strings.Repeat(",", min(n, 1)), "\n", string(text))
	}
	_, err := io.WriteString(to, "\n]}\n")
	return err
}

func (f *files) Close() error { return nil }

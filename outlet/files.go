package outlet

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"homing/core/definition"
	"homing/core/record"
	"homing/feed"
	"homing/sheet"
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
		if _, err := sheet.NewWriter(io.Discard, f.form, columnsOf(part)); err != nil {
			return setUp("%v", err)
		}
	}
	return nil
}

// Deliver is [Outlet.Deliver]: all of it or nothing. The name says which positions the file is of: should it be written once more, after a kill,
// it takes the place of the first, and what is in it no more has changed since and stands in a later one.
func (f *files) Deliver(_ context.Context, batch Batch) (done int, refused []Refusal, err error) {
	name := fmt.Sprintf("%s-%013d-%012d-%012d", batch.Collection, batch.Round, batch.From, batch.To)
	if batch.From == batch.To { // what is gone since no page of the round has met it; there may be more than one file of that
		name += "-" + batch.Items[0].Record.String()
	}
	name += "." + f.form
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
	out, err := sheet.NewWriter(file, f.form, columnsOf(f.parts[batch.Collection]))
	for n := 0; n < len(batch.Items) && err == nil; n++ {
		err = out.Write(batch.Items[n].Record.String(), row(batch.Items[n]))
	}
	if err == nil {
		err = out.Close()
	}
	return errors.Join(err, file.Sync(), file.Close())
}

// about are the columns that stand before those of the fields, behind the record's id.
var about = []definition.Field{{Name: "homing_revision"}, {Name: "homing_gone"}, {Name: "homing_edited_at"}, {Name: "homing_author"}}

// columnsOf are the columns of a part, as the writers of tables know them.
func columnsOf(part *feed.Shaped) definition.Definition {
	d := definition.Definition{Collection: part.Called, Fields: slices.Clone(about)}
	for _, column := range part.Columns {
		d.Fields = append(d.Fields, definition.Field{Name: column.Name, Schema: column.Field.Schema})
	}
	return d
}

// row is an item as a record of these columns: what it says, and of which change it is.
func row(item feed.Item) record.Fields {
	text := func(said string) json.RawMessage {
		raw, err := json.Marshal(said)
		if err != nil {
			panic(err) // a text is always JSON
		}
		return raw
	}
	fields := record.Fields{"homing_revision": strconv.AppendInt(nil, item.Revision, 10), "homing_gone": strconv.AppendBool(nil, item.Gone),
		"homing_edited_at": text(item.EditedAt.UTC().Format(time.RFC3339Nano)), "homing_author": text(item.Author)}
	maps.Copy(fields, item.Values)
	return fields
}

func (f *files) Close() error { return nil }

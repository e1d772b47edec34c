package wire_test

import (
	"encoding/json"
	"reflect"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/wire"
)

// What stands before the records is read on its own, wherever a writer puts it; else the page is read whole.
func TestReadPageStart(t *testing.T) {
	for text, wanted := range map[string]struct {
		cursor   int64
		more, ok bool
	}{
		`{"collection":"trails","cursor":7,"head":9,"more":true,"records":[{"id":`: {7, true, true},
		`{"more":false,"new":{"cursor":1},"cursor":12,"records":[]}`:               {12, false, true},
		`{"records":[],"cursor":7,"more":true}`:                                    {},
		`{"collection":"trails","cursor":"7","more":true}`:                         {},
		`{"cursor":7}`: {},
		`[1]`:          {},
		``:             {},
		`{"cursor":7,`: {},
	} {
		if cursor, more, ok := wire.ReadPageStart([]byte(text)); ok != wanted.ok || ok &&
			(cursor != wanted.cursor || more != wanted.more) {
			t.Errorf("%s: %d, %v, %v", text, cursor, more, ok)
		}
	}
}

// The quick way of reading a page takes from what the quick way writes just what the usual way takes, whatever a page
// may hold.
func FuzzReadPage(f *testing.F) {
	at := time.Date(2026, 11, 23, 10, 0, 0, 123456000, time.UTC)
	f.Add(wire.Page{Collection: "trails", Cursor: 7, Head: 9, More: true, Records: []wire.Record{
		{ID: uuid.Max, Revision: 3, Position: 7, Fields: json.RawMessage(`{"a":"ä\"","b":[1,2.5]}`),
			Marks: json.RawMessage(`{"base":{}}`), EditedAt: at, ReceivedAt: at, Author: "x", Device: "y"},
		{ID: uuid.Max, Revision: 5, Withdrawn: true}}}.AppendJSON(nil))
	for _, text := range []string{`{"records":[{"id":null,"new":[{}],"fields":{"__proto__":{"\u0000":1e400}}}],"cursor":1,"cursor":2}`, `{"records":null}`, `{"records":[{"edited_at":"yesterday"}]}`, `{"cursor":1e3}`, `null`} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		page, err := wire.ReadPage(text)
		if err != nil {
			return
		}
		written := page.AppendJSON(nil)
		quick, err := wire.ReadPage(written)
		if err != nil {
			t.Fatalf("%q is not read again: %v", written, err)
		}
		var usual wire.Page
		if err := json.Unmarshal(written, &usual); err != nil || !reflect.DeepEqual(quick, usual) {
			t.Fatalf("%q: the quick way reads %+v, the usual way %+v, %v", written, quick, usual, err)
		}
	})
}

package wire_test

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/wire"
)

// The quick way of writing a page gives what the usual way gives.
func TestPageAsJSONMarshal(t *testing.T) {
	at := time.Date(2026, 11, 23, 10, 0, 0, 123456000, time.UTC)
	for _, page := range []wire.Page{
		{Collection: "trails", Records: []wire.Record{}},
		{Collection: "trails", Cursor: 7, Head: 9, More: true, Total: 12, Records: []wire.Record{
			{ID: uuid.New(), Revision: 3, Position: 7, Fields: json.RawMessage(`{"a":"ä\"","b":[1,2.5]}`),
				Marks: json.RawMessage(`{"base":{}}`), EditedAt: at, ReceivedAt: at, Author: `o"dd <name>`, Device: "Täblet"},
			{ID: uuid.New(), Revision: 5, Withdrawn: true, EditedAt: at, ReceivedAt: at},
			{ID: uuid.New(), Revision: 4, Removed: true, EditedAt: at.Truncate(time.Second), ReceivedAt: at},
		}},
	} {
		want, err := json.Marshal(page)
		if err != nil {
			t.Fatal(err)
		}
		if got := page.AppendJSON(nil); string(got) != string(want) {
			t.Errorf("got  %s\nwant %s", got, want)
		}
	}
}

package promises_test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/device"
	"homing/internal/testbed"
	"homing/service"
)

// rowsOf are the rows of a table with one to a change, as lines: revision, kind, what was changed, what the record was after it.
func rowsOf(t *testing.T, db *sqlx.DB, table string, id uuid.UUID) string {
	t.Helper()
	var rows []string
	testbed.Must(t, db.Select(&rows, `SELECT concat_ws(' ', homing_revision, homing_kind, CASE WHEN homing_gone THEN 'gone' END, nullif(array_to_string(homing_changed, '+'), ''), name, places)
		FROM `+table+` WHERE homing_id = $1 ORDER BY homing_revision`, id))
	return strings.Join(rows, "\n")
}

// A table with a row to a change has all of them, also those of before the feed was there: of the records that it carries, and no others.
func TestEachChangeIsFed(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(strings.Replace(fedHuts, "sync: {", "sync: {steps: every, ", 1))
	address := testbed.Database(t)
	db := testbed.SQL(t, address)
	testbed.Must(t, bed.Central.SetSecret(ctx, "admin", "warehouse", address))
	testbed.Must(t, bed.Central.HoldTerritories(ctx, "reader", []string{"north"}))
	store := bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, store)
	edit := func(id uuid.UUID, fields ...device.Fields) {
		t.Helper()
		for _, one := range fields {
			_, err := store.Edit(ctx, "huts", id, one)
			testbed.Must(t, err)
		}
	}
	comes := func(id uuid.UUID, want string) {
		t.Helper()
		testbed.Exchange(t, store)
		got := ""
		for range 200 {
			if got = rowsOf(t, db, "huts", id); got == want {
				return
			}
			waitFeed(t, bed, "history", "up to date")
		}
		t.Fatalf("the rows are\n%s\nwant\n%s", got, want)
	}
	gale, gone, south := hut(t, store, "Gale", "north", 4), hut(t, store, "Gone", "north", 2), hut(t, store, "Fosk", "south", 9)
	edit(gale, device.Fields{"name": "Gale Hut"}, device.Fields{"beds": 1, "open": true}, device.Fields{"open": false}, device.Fields{"beds": 3})
	testbed.Must(t, store.Remove(ctx, "huts", gone))
	testbed.Exchange(t, store)
	const text = "feed: history\nsees: reader\ncollections:\n  huts: {when: record.beds >= 2.0, fields: {name: name, beds: places}}\nto: {tables: {database: warehouse, rows: %s}}\n"
	defineFeed(t, bed, fmt.Sprintf(text, "change"))
	waitFeed(t, bed, "history", "up to date")
	const galesRows = "1 add name+places Gale 4\n2 edit name Gale Hut 4\n3 edit gone\n5 edit places Gale Hut 3"
	comes(gale, galesRows)
	comes(gone, "1 add name+places Gone 2\n2 remove gone")
	comes(south, "")
	edit(gale, device.Fields{"open": true})
	comes(gale, galesRows+"\n6 edit Gale Hut 3")
	edit(gale, device.Fields{"zone": "south"}) // out of the worker's sight
	comes(gale, "")
	edit(gale, device.Fields{"zone": "north"})
	edit(south, device.Fields{"zone": "north"})
	comes(gale, galesRows+"\n6 edit Gale Hut 3\n7 edit Gale Hut 3\n8 edit Gale Hut 3")
	comes(south, "1 add name+places Fosk 9\n2 edit Fosk 9")
	var says string
	testbed.Must(t, db.Get(&says, `SELECT concat_ws(' ', homing_author, homing_device, homing_received_at > homing_edited_at - interval '1 minute') FROM huts WHERE homing_id = $1 AND homing_revision = 1`, gale))
	if says != "lead office t" {
		t.Errorf("the row says %q", says)
	}

	// A row that the database refuses is set aside and stops no other, also none of the same record; it is sent again as it was.
	_, err := db.Exec(`ALTER TABLE huts ADD CHECK (name <> 'Refused')`)
	testbed.Must(t, err)
	edit(south, device.Fields{"name": "Refused"}, device.Fields{"name": "Fosk Hut"})
	comes(south, "1 add name+places Fosk 9\n2 edit Fosk 9\n4 edit name Fosk Hut 9")
	if aside, err := bed.Central.AsideOf(ctx, "history", 10); err != nil || len(aside) != 1 || aside[0].Revision != 3 {
		t.Errorf("aside are %+v, %v", aside, err)
	}
	_, err = db.Exec(`ALTER TABLE huts DROP CONSTRAINT huts_name_check`)
	testbed.Must(t, err)
	_, err = bed.Central.Resend(ctx, "history", 0)
	testbed.Must(t, err)
	testbed.Wait(t, "the list to be empty", func() bool { return statusOf(t, bed, "history").Aside == 0 })
	comes(south, "1 add name+places Fosk 9\n2 edit Fosk 9\n3 edit name Refused 9\n4 edit name Fosk Hut 9")

	// Turned back, it brings once more what the database has lost; and a record with very many changes comes whole.
	_, err = db.Exec(`TRUNCATE huts`)
	testbed.Must(t, err)
	testbed.Must(t, bed.Central.TurnFeedBack(ctx, "history", time.Now().AddDate(0, 0, -1)))
	testbed.Wait(t, "the rows to be back", func() bool { return strings.Count(rowsOf(t, db, "huts", south), "\n") == 3 })
	testbed.Must(t, bed.Central.PauseFeed(ctx, "history", true))
	for n := range 2100 {
		edit(south, device.Fields{"beds": 10 + n})
		if n%100 == 99 {
			testbed.Exchange(t, store)
		}
	}
	testbed.Must(t, bed.Central.PauseFeed(ctx, "history", false))
	last := func() bool {
		return strings.HasSuffix(rowsOf(t, db, "huts", south), "\n2104 edit places Fosk Hut 2109")
	}
	testbed.Wait(t, "all rows to come", last)
	if rows := strings.Count(rowsOf(t, db, "huts", south), "\n") + 1; rows != 2104 {
		t.Errorf("of 2104 changes %d came", rows)
	}

	defineFeed(t, bed, fmt.Sprintf(text, "record"))
	waitFeed(t, bed, "history", "waits")
	if status := statusOf(t, bed, "history"); !strings.Contains(status.Error, "its rows are something else") {
		t.Errorf("a table of changes is to take records: %+v", status)
	}
}

// A worker who sees other things than before, and many of them: the files say of all that they are gone.
func TestFilesSayWhatIsGone(t *testing.T) {
	folder := t.TempDir()
	bed := testbed.Start(t, func(o *service.Options) { o.FeedFolder = folder })
	bed.Define(fedHuts)
	testbed.Must(t, bed.Central.HoldTerritories(ctx, "reader", []string{"north"}))
	store := bed.Device("lead", "office", device.Options{})
	testbed.Exchange(t, store)
	rows := make([]device.Fields, 1203)
	for n := range rows {
		rows[n] = device.Fields{"name": fmt.Sprint("Hut ", n), "zone": "north"}
	}
	_, wrong, err := store.AddMany(ctx, "huts", rows)
	if err != nil || len(wrong) > 0 {
		t.Fatal(err, wrong)
	}
	south := hut(t, store, "South", "south", 4)
	testbed.Exchange(t, store)
	defineFeed(t, bed, "feed: files\nsees: reader\ncollections: {huts: {}}\nto: {files: {folder: to, form: ndjson, every: 1s}}\n")
	waitFeed(t, bed, "files", "up to date")
	if has, _ := readFiles(t, filepath.Join(folder, "to")); len(has) != 1203 {
		t.Errorf("the files hold %d", len(has))
	}
	testbed.Must(t, bed.Central.HoldTerritories(ctx, "reader", []string{"south"}))
	testbed.Wait(t, "the rest to go", func() bool {
		has, _ := readFiles(t, filepath.Join(folder, "to"))
		return len(has) == 1 && has[south.String()] == "South"
	})
}

// A central that is put back begins every destination anew, as often as it is put back: nothing that it has lost stays there, and nothing that it says
// now is taken for old.
func TestFeedsAfterRestores(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(fedHuts)
	address := testbed.Database(t)
	db := testbed.SQL(t, address)
	to := newReceiver(t)
	testbed.Must(t, bed.Central.SetSecret(ctx, "admin", "warehouse", address))
	testbed.Must(t, bed.Central.SetSecret(ctx, "admin", "office", hookSecret))
	office := bed.SignIn("lead")
	add := func(name string) string {
		t.Helper()
		id := uuid.NewString()
		if status, text := bed.Call("POST", "/v1/records/huts", office, map[string]any{"id": id, "fields": map[string]any{"name": name}}); status != 201 {
			t.Fatalf("%d %s", status, text)
		}
		return id
	}
	gale := add("Gale")
	for name, way := range map[string]string{"hook": `hook: {url: "` + to.URL + `", secret: office}`, "tables": "tables: {database: warehouse, schema: now}",
		"changes": "tables: {database: warehouse, schema: each, rows: change}"} {
		defineFeed(t, bed, "feed: "+name+"\nsees: all\ncollections: {huts: {}}\nto: {"+way+"}\n")
		waitFeed(t, bed, name, "up to date")
	}
	backup := backUp(t, bed)
	for round := range 3 {
		for n := range 3 - round { // each time there are fewer changes than the time before
			if status, text := bed.Call("PATCH", "/v1/records/huts/"+gale, office, map[string]any{"fields": map[string]any{"name": fmt.Sprintf("Gale %d %d", round, n)}}); status >= 300 {
				t.Fatalf("%d %s", status, text)
			}
		}
		other := add(fmt.Sprint("Other ", round))
		want := map[string]string{gale: fmt.Sprintf("Gale %d %d", round, 2-round), other: fmt.Sprint("Other ", round)}
		for what, has := range map[string]func() map[string]string{"the receiver": func() map[string]string { return to.has(t) },
			"the table": func() map[string]string { return tableOf(t, db, "now.huts", "true") },
			"the table of changes": func() map[string]string {
				return lastChanges(t, db, "each.huts")
			}} {
			testbed.Wait(t, what+" to have what central has", func() bool { return same(has(), want) })
		}
		var rows int
		testbed.Must(t, db.Get(&rows, `SELECT count(*) FROM each.huts`))
		if want := 1 + 3 - round + 1; rows != want {
			t.Errorf("after %d restores there are %d rows of changes, want %d", round, rows, want)
		}
		bed = putBack(t, bed, backup)
		office = bed.SignIn("lead")
	}
}

package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"homing/internal/testbed"
	"homing/service"
)

const huts = `collection: huts
label: "{name}"
required: [name]
fields:
  name: {type: string}
  beds: {type: integer}
  state: {enum: [open, closed]}
  valley: {type: string}
sync:
  territory: record.valley
  rules: {state: ask, beds: sum}
`

const stays = `collection: stays
label: "{guest}"
required: [hut, guest]
fields:
  hut: {type: string, format: uuid, reference: huts}
  guest: {type: string, maxLength: 8}
parent: {collection: huts, field: hut, removal: remove}
sync:
  keep: on demand
`

// written puts a text into a file and gives its path.
func written(t *testing.T, name, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	testbed.Must(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

// code is a one-time code for a device of a worker.
func code(t *testing.T, worker string) string {
	t.Helper()
	var got struct{ Code string }
	testbed.Must(t, json.Unmarshal([]byte(fine(t, "devices", "code", "--worker", worker, "--json")), &got))
	return got.Code
}

// Two workers share a device; who they are is central's, who is at the screen is the device's.
func TestPeopleByCommand(t *testing.T) {
	hour(t)
	pin, other, wrong := written(t, "pin", "4711\n"), written(t, "other", "8989\n"), written(t, "wrong", "1\n")
	play(t, []step{
		{"define " + written(t, "huts.yaml", huts), 0, nil},
		{"workers add mira --no-password --territory kell", 0, []string{"Added mira (worker)"}},
		{"workers add mira --no-password", 7, []string{"there is a worker mira already"}},
		{"workers add tobin --no-password --role boss", 4, []string{"reader, worker, lead, admin"}},
		{"workers add tobin --no-password --role lead --territory ostra", 0, nil},
		{"workers role nobody lead", 3, []string{"no worker nobody"}},
		{"workers role tobin worker", 0, []string{"tobin is worker now"}},
		{"workers list", 0, []string{"tobin   worker  ostra"}},
		{"records add huts --set name=Gale --set valley=kell", 0, nil},
		{"records add huts --set name=Fosk --set valley=ostra", 0, nil},
		{"territories list", 0, []string{"kell       1 huts   mira", "ostra      1 huts   tobin"}},
		{"territories hold mira", 2, []string{"takes WORKER and KEY"}},
		{"territories hold nobody kell", 3, []string{"no worker nobody"}},
	})
	play(t, []step{
		{"local enrol --name tablet --code " + code(t, "mira"), 0, nil},
		{"local exchange", 0, nil},
		{"local list huts", 0, []string{"Gale", "1 record"}},
		{"local sign-out", 1, []string{"set one first"}},
		{"local secret --secret-file " + pin, 0, []string{"It opens this device for you"}},
		{"local people", 0, []string{"mira", "signed in"}},
		{"local join --code nonsense --secret-file " + other, 6, []string{"is not known"}},
		{"local join --secret-file " + other + " --code " + code(t, "tobin"), 0, []string{"tobin has joined this device and is signed in"}},
		{"local people", 0, []string{"mira", "tobin"}},
		{"local exchange", 0, nil},
		{"local list huts", 0, []string{"Gale", "Fosk", "2 records"}},
		{"local sign-out", 0, []string{"Nothing of yours is unsent"}},
		{"local list huts", 6, []string{"nobody is signed in"}},
		{"local sign-in mira --secret-file " + wrong, 6, []string{"not the PIN or password"}},
		{"local sign-in nobody --secret-file " + pin, 6, []string{"not a worker of this device: nobody"}},
		{"local sign-in mira --secret-file " + pin, 0, []string{"Signed in as mira"}},
		{"local list huts", 0, nil},
		{"local secret --old-secret-file " + wrong + " --secret-file " + other, 6, []string{"not the PIN or password"}},
		{"local secret --old-secret-file " + pin + " --secret-file " + other, 0, nil},
		{"territories hold mira --none", 0, []string{"mira holds none"}},
		{"local exchange", 0, []string{"Dropped 1 record"}},
		{"local list huts", 0, []string{"Fosk", "1 record"}},
	})
}

// What was refused goes again, what is disputed is settled, and what was is brought back, each by its command.
func TestMendingByCommand(t *testing.T) {
	bed := hour(t)
	play(t, []step{
		{"define " + written(t, "huts.yaml", huts) + " " + written(t, "stays.yaml", stays), 0, nil},
		{"local enrol --name tablet", 0, nil},
		{"local exchange", 0, nil},
		{"local add huts --set name=Gale --set state=open --set beds=4", 0, nil},
		{"local exchange", 0, nil},
		{"local edit huts Gale --set name=A-longer-name", 0, nil},
	})
	bed.Define(strings.Replace(huts, "name: {type: string}", "name: {type: string, maxLength: 5}", 1))
	play(t, []step{
		{"local exchange", 4, []string{"1 change refused"}},
		{"local send-again x", 2, []string{"not the number of a change"}},
		{"local send-again 99", 3, []string{"no such change of yours on this device: 99"}},
	})
	bed.Define(huts)
	play(t, []step{
		{"local send-again 2", 0, []string{"To be sent again: A-longer-name"}},
		{"local exchange", 0, nil},
		{"records edit huts A-longer-name --set state=closed", 0, nil},
		{"local edit huts A-longer-name --set valley=kell", 0, nil},
		{"local exchange", 0, nil},
		{"records history huts A-longer-name", 0, nil},
		{"records bring-back huts A-longer-name 99", 3, []string{"has no such state"}},
		{"records bring-back huts A-longer-name 1", 0, nil},
		{"records show huts Gale", 0, nil},
		{"local exchange", 0, nil},
		{"local settle huts Gale state open", 3, []string{"nobody disputes this field"}},
		{"local settle huts Gale colour red", 4, []string{`no field "colour"`}},
		{"conflicts settle huts Gale state --take 1", 3, []string{"is not in dispute"}},
	})
}

// Records that are looked up, the children of one, and the room that they take.
func TestLookingUpByCommand(t *testing.T) {
	hour(t)
	play(t, []step{
		{"define " + written(t, "huts.yaml", huts) + " " + written(t, "stays.yaml", stays), 0, nil},
		{"local enrol --name tablet", 0, nil},
		{"local exchange", 0, nil},
		{"records add huts --set name=Gale", 0, nil},
		{"local exchange", 0, nil},
	})
	hut := fine(t, "local", "list", "huts", "--json")
	at := strings.Index(hut, `"id": "`)
	if at < 0 {
		t.Fatal(hut)
	}
	id := hut[at+7 : at+7+36]
	play(t, []step{
		{"records add stays --set guest=Brand --set hut=" + id, 0, nil},
		{"local exchange", 0, nil},
		{"local list stays", 0, []string{"No records"}},
		{"local children huts Gale", 0, []string{"Stays of Gale", "No records"}},
		{"local look-up stays --where guest=Nobody", 0, []string{"No records"}},
		{"local look-up stays --where colour=red", 4, []string{`no field "colour"`}},
		{"local look-up nothing", 3, []string{"no such collection"}},
		{"local look-up stays --search brand", 0, []string{"Brand", "1 record"}},
		{"local list stays", 0, []string{"Brand"}},
		{"local children huts Gale", 0, []string{"Brand", "1 record"}},
		{"local children huts Nowhere", 3, []string{"no such record"}},
		{"local budget 5MB", 0, []string{"those used least lately go first"}},
		{"local budget much", 2, []string{"is not a size"}},
		{"local status", 0, []string{"Looked up"}},
		{"local budget 0", 0, []string{"No bound"}},
		{"local metered on", 0, []string{"counts as metered"}},
		{"local metered perhaps", 2, []string{"say on or off"}},
		{"local status", 0, []string{"Link      metered"}},
		{"local metered off", 0, []string{"not metered"}},
		{"local exchange --load-anew", 0, []string{"Received 1"}},
		{"verify", 0, []string{"holds what central says it should"}},
	})
}

// A store is backed up, restored in another place, and erased; what is unsent is never gone without a copy.
func TestBackupAndEraseByCommand(t *testing.T) {
	hour(t)
	folder := t.TempDir()
	backup, restored, kept := filepath.Join(folder, "b.db"), filepath.Join(folder, "r.db"), filepath.Join(folder, "k.db")
	play(t, []step{
		{"define " + written(t, "huts.yaml", huts), 0, nil},
		{"local enrol --name tablet", 0, nil},
		{"local exchange", 0, nil},
		{"local add huts --set name=Gale", 0, nil},
		{"local backup " + backup, 0, []string{"Wrote"}},
		{"local backup " + backup, 7, []string{"is there already"}},
		{"local restore " + backup, 7, []string{"is there already"}},
		{"local restore " + filepath.Join(folder, "none.db") + " --store " + restored, 3, []string{"there is no such backup"}},
		{"local restore " + backup + " --store " + restored, 0, []string{"Restored to " + restored}},
		{"local exchange --store " + restored, 0, []string{"1 applied"}},
		{"local exchange", 0, []string{"1 applied"}},
		{"records list huts", 0, []string{"Gale", "1 record"}}, // both sent it, and it counts once
		{"local add huts --set name=Fosk", 0, nil},
		{"local erase", 7, []string{"1 change would be lost"}},
		{"local erase --yes", 7, []string{"1 change would be lost"}},
		{"local erase --yes --discard --backup " + kept, 0, []string{"What was unsent is in " + kept}},
		{"local status", 3, []string{"there is no local store"}},
		{"local restore " + kept, 0, nil},
		{"local review", 0, []string{"Fosk", "1 to send"}},
		{"local exchange", 0, []string{"1 applied"}},
		{"records list huts", 0, []string{"Fosk", "2 records"}},
	})
}

// What needs neither central nor a store.
func TestWithoutCentralByCommand(t *testing.T) {
	definition := written(t, "huts.yaml", huts)
	base := written(t, "base.json", `{"name": "Gale", "beds": 4, "state": "open"}`)
	one := written(t, "one.json", `{"name": "Gale", "beds": 6, "state": "closed"}`)
	other := written(t, "other.json", `{"name": "Gale Hut", "beds": 5, "state": "open"}`)
	bad := written(t, "bad.json", `{"name": 5}`)
	play(t, []step{
		{"try-merge " + strings.Join([]string{definition, base, one, other}, " "), 0, []string{"both came together"}},
		{"try-merge --other-first " + strings.Join([]string{definition, base, one, other}, " "), 0, []string{"both came together"}},
		{"try-merge " + strings.Join([]string{definition, base, one}, " "), 2, []string{"DEFINITION and BASE and ONE and OTHER"}},
		{"try-merge " + strings.Join([]string{definition, base, one, bad}, " "), 4, []string{"name: must be string, is number"}},
	})
	var page struct {
		OpenAPI string `json:"openapi"`
		Paths   map[string]any
	}
	testbed.Must(t, json.Unmarshal([]byte(fine(t, "openapi")), &page))
	if page.OpenAPI == "" || page.Paths["/v1/batches"] == nil {
		t.Errorf("%s describes %d paths", page.OpenAPI, len(page.Paths))
	}
}

// Feeds, as somebody who has never had one goes about it.
func TestFeedsByCommand(t *testing.T) {
	folder := t.TempDir()
	bed := testbed.Start(t, func(o *service.Options) { o.Open, o.FeedFolder = true, folder })
	t.Setenv("HOMING_CENTRAL", bed.URL())
	bed.Define(huts)
	office := written(t, "office.yaml", "feed: office\nsees: all\ncollections: {huts: {fields: {name: called}}}\nto: {files: {folder: out, form: csv, every: 1s}}\n")
	wrong := written(t, "wrong.yaml", "feed: wrong\nsees: nobody\ncollections: {huts: {}}\nto: {files: {folder: out, form: csv}}\n")
	none := written(t, "none.yaml", "feed: none\nsees: all\ncollections: {nowhere: {}}\nto: {files: {folder: out, form: csv}}\n")
	hook := written(t, "hook.yaml", "feed: hook\nsees: all\ncollections: {huts: {}}\nto: {hook: {url: \"http://127.0.0.1:1/\", secret: missing}}\n")
	play(t, []step{
		{"feeds", 0, []string{"FEED"}},
		{"feeds define " + wrong, 4, []string{"nobody is no worker who may sign in"}},
		{"feeds define " + none, 4, []string{"there is no collection nowhere"}},
		{"feeds define " + office, 0, []string{"csv in out"}},
		{"records add huts --set name=Gale", 0, []string{"Added"}},
	})
	testbed.Wait(t, "a file", func() bool {
		files, _ := filepath.Glob(folder + "/out/*.csv")                           // the pattern is in order
		return len(files) == 1 && strings.Contains(fine(t, "feeds"), "up to date") // the file is there a moment sooner
	})
	play(t, []step{
		{"feeds", 0, []string{"up to date", "1"}},
		{"feeds pause office", 0, []string{"paused"}},
		{"feeds go-on office", 0, []string{"office"}},
		{"feeds turn-back office yesterday", 2, []string{"2026-05-01T12:00:00Z"}},
		{"feeds turn-back office 2026-05-01T12:00:00Z", 0, []string{"office"}},
		{"feeds start-anew office --json", 0, []string{`"feed": "office"`}},
		{"feeds aside office", 0, []string{"PLACE"}},
		{"feeds resend office", 0, []string{"0 records sent again"}},
		{"feeds resend office --place 7", 3, []string{"nothing aside under 7"}},
		{"feeds pause nothing", 3, []string{`there is no feed "nothing"`}},
		{"feeds define " + hook, 0, []string{"hook"}},
		{"feeds remove office", 2, []string{"--yes"}},
		{"feeds remove office --yes", 0, []string{"stays where it is"}},
		{"feeds secret", 0, []string{"SECRET"}},
		{"feeds nonsense", 2, []string{"no command"}},
	})
	testbed.Wait(t, "the missing secret to be said", func() bool {
		all, err := bed.Central.FeedList(t.Context(), "hook")
		return err == nil && strings.Contains(all[0].Error, "there is no secret missing; set it with homing feeds secret missing")
	})
}

package web_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/central"
	"homing/core/change"
	"homing/internal/testbed"
	"homing/wire"
)

// Odd changes are answered one by one, each with what is wrong with it, and what stands between them goes in.
func TestOddChangesHarmNobody(t *testing.T) {
	bed := testbed.Start(t)
	device, incarnation := enrol(t, bed)
	number := 0
	line := func(record, kind string, base int64, rest string) string {
		number++
		return fmt.Sprintf(`{"number":%d,"collection":"trails","record":%q,"kind":%q,"base":%d,"stamp":"0199d3a1c2b4-%04x","edited_at":%q%s}`,
			number, record, kind, base, number, time.Now().UTC().Format(time.RFC3339), rest)
	}
	name := func(text string) string { return `,"fields":{"name":{"to":"` + text + `"}}` }
	id := func() string { return uuid.Must(uuid.NewV7()).String() }
	known := id()
	group := id()
	tests := []struct {
		what    string
		text    string
		verdict change.Verdict
		says    string
	}{
		{"a good one", line(known, "add", 0, name("Good")), change.Applied, ""},
		{"a base that is still to come", line(known, "edit", 9_000_000_000_000, name("x")), change.Refused,
			"central's record is at 1"},
		{"a negative base", line(known, "edit", -3, name("x")), change.Refused, "0 or more"},
		{"a base beyond all numbers", strings.Replace(line(known, "edit", 1, name("x")), `"base":1`, `"base":1e30`, 1),
			change.Refused, "cannot be read"},
		{"the year 9999", strings.Replace(line(known, "edit", 1, name("From the future")), time.Now().UTC().Format("2006"),
			"9999", 1), change.Applied, ""},
		{"a stamp of the far future", strings.Replace(line(known, "edit", 1, `,"fields":{"note":{"to":"n"}}`),
			"0199d3a1c2b4", "ffffffffffff", 1), change.Applied, ""},
		{"a group that never ends", line(id(), "add", 0, name("x")+`,"group":{"id":"`+group+`","of":900}`), change.Waiting,
			"send the group whole"},
		{"a group of too many", line(id(), "add", 0, name("x")+`,"group":{"id":"`+id()+`","of":900000000}`), change.Refused,
			"1 to 1000"},
		{"a group of none", line(id(), "add", 0, name("x")+`,"group":{"id":"`+id()+`","of":0}`), change.Refused, "1 to 1000"},
		{"a fold of what is to come", line(id(), "add", 0, name("x")+`,"folds":[999999]`), change.Refused, "lower numbers"},
		{"a clock turned by ages", line(id(), "add", 0, name("x")+`,"turned_ms":9000000000000000`), change.Refused,
			"century"},
		{"__proto__", line(id(), "add", 0, `,"fields":{"name":{"to":"x"},"__proto__":{"to":{"polluted":true}}}`),
			change.Refused, "no such field"},
		{"constructor", line(id(), "add", 0, `,"fields":{"name":{"to":"x"},"constructor":{"to":1}}`), change.Refused,
			"no such field"},
		{"no UTF-8", line(id(), "add", 0, `,"fields":{"name":{"to":"`+"\xff\xfe"+`"}}`), change.Refused, ""},
		{"a lone surrogate", line(id(), "add", 0, `,"fields":{"name":{"to":"\ud800"}}`), change.Refused,
			"half of a character"},
		{"a null character", line(id(), "add", 0, `,"fields":{"name":{"to":"a\u0000b"}}`), change.Refused, ""},
		{"beyond 2^53", line(id(), "add", 0, `,"fields":{"name":{"to":"Long"},"length_km":{"to":9007199254740993}}`),
			change.Applied, ""},
		{"a number of a thousand digits", line(id(), "add", 0,
			`,"fields":{"name":{"to":"Long"},"length_km":{"to":1`+strings.Repeat("0", 1000)+`}}`), change.Refused, ""},
		{"deep nesting", line(id(), "add", 0, `,"fields":{"name":{"to":`+strings.Repeat("[", 200)+strings.Repeat("]",
			200)+`}}`), change.Refused, ""},
		{"the same key twice", line(id(), "add", 0, `,"fields":{"name":{"to":"a","to":"b"}}`), change.Applied, ""},
		{"a large field", line(id(), "add", 0, `,"fields":{"name":{"to":"Large"},"note":{"to":"`+strings.Repeat("n",
			1<<20-100)+`"}}`), change.Applied, ""},
		{"an add of what is there", line(known, "add", 0, name("Again")), change.Applied, ""},
		{"a removal with fields", line(known, "remove", 1, name("x")), change.Refused, "no fields"},
		{"an edit of nothing", line(known, "edit", 1, ""), change.Applied, ""},
		{"an edit of what was never added", line(id(), "edit", 0, name("x")), change.Waiting, "has not come"},
		{"the last", line(id(), "add", 0, name("Last")), change.Applied, ""},
	}
	texts := make([]string, len(tests))
	for n, test := range tests {
		texts[n] = test.text
	}
	status, text := bed.Call("POST", "/v1/batches", device, batchText(incarnation, texts...))
	var answers wire.Answers
	if err := json.Unmarshal(text, &answers); err != nil || status != http.StatusOK {
		t.Fatalf("%d %.300s", status, text)
	}
	for n, test := range tests {
		got := answers.Answers[n]
		says := ""
		for _, reason := range got.Reasons {
			says += reason.Message + " "
		}
		if got.Answer != test.verdict || !strings.Contains(says, test.says) || test.verdict == change.Refused && says == "" {
			t.Errorf("%s: %s: %s", test.what, got.Answer, says)
		}
	}
	history, err := bed.Central.History(t.Context(), central.Everything("admin"), "trails", uuid.MustParse(known))
	testbed.Must(t, err)
	for _, h := range history {
		if h.EditedAt.After(h.ReceivedAt) {
			t.Errorf("revision %d counts as of %s, though it was received at %s", h.Revision, h.EditedAt, h.ReceivedAt)
		}
	}
	if again, second := bed.Call("POST", "/v1/batches", device,
		batchText(incarnation, texts...)); again != http.StatusOK || len(second) == 0 {
		t.Errorf("sent again: %d %.200s", again, second)
	}
}

// A field of 5 MB is over the bound of a request, and the answer says so; ten thousand edits of one record go through.
func TestLargeAndMany(t *testing.T) {
	bed := testbed.Start(t)
	device, incarnation := enrol(t, bed)
	now := time.Now().UTC().Format(time.RFC3339)
	id := uuid.Must(uuid.NewV7())
	large := fmt.Sprintf(`{"number":1,"collection":"trails","record":%q,"kind":"add","base":0,"stamp":"0199d3a1c2b4-0001","edited_at":%q,"fields":{"name":{"to":"%s"}}}`, id, now, strings.Repeat("n", 5<<20))
	if status, text := bed.Call("POST", "/v1/batches", device,
		batchText(incarnation, large)); status != http.StatusRequestEntityTooLarge ||
		!strings.Contains(string(text), "4194304") {
		t.Errorf("5 MB: %d %.300s", status, text)
	}
	const edits, each = 10_000, 1000
	for first := 0; first < edits; first += each {
		var all []string
		for n := first; n < first+each; n++ {
			kind := "edit"
			if n == 0 {
				kind = "add"
			}
			all = append(all, fmt.Sprintf(`{"number":%d,"collection":"trails","record":%q,"kind":%q,"base":%d,"stamp":"0199d3a1c2b4-%04x","edited_at":%q,"fields":{"name":{"to":"%d"}}}`,
				n+1, id, kind, min(first, n), n, now, n))
		}
		status, text := bed.Call("POST", "/v1/batches", device, batchText(incarnation, all...))
		if status != http.StatusOK || strings.Contains(string(text), "refused") {
			t.Fatalf("from %d: %d %.300s", first, status, text)
		}
	}
	r, err := bed.Central.Record(t.Context(), central.Everything("admin"), "trails", id)
	testbed.Must(t, err)
	if r.Revision != edits || !strings.Contains(string(r.Fields), `"9999"`) {
		t.Errorf("after %d edits: revision %d, %s", edits, r.Revision, r.Fields)
	}
}

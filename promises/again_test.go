package promises_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"testing"

	"homing/central"
	"homing/device"
	"homing/internal/testbed"
)

// P2: a change made at central under a key is made once, however often and however fast it is asked for, and the same is
// answered each time.
func TestP2AskedAgainUnderAKey(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(asking)
	lead, worker := bed.SignIn("lead"), bed.SignIn("worker")
	id := newID()
	ask := func(token, key, method, path, body string) (status int, said struct {
		Answer   string
		Revision int64
		Record   *struct{ Fields map[string]any }
		Detail   string
	}) {
		t.Helper()
		var sent any
		if body != "" {
			sent = json.RawMessage(body)
		}
		status, text := bed.Call(method, path, token, sent, "Idempotency-Key", key)
		testbed.Must(t, json.Unmarshal(text, &said))
		return status, said
	}
	trail := "/v1/records/trails/" + id.String()
	adds := fmt.Sprintf(`{"id":%q,"fields":{"name":"Ridge","seen":5}}`, id)
	for range 2 {
		if status, said := ask(lead, "add", "POST", "/v1/records/trails", adds); status != http.StatusCreated || said.Revision != 1 || said.Record == nil {
			t.Errorf("added: %d %+v", status, said)
		}
	}
	const edits = `{"base":1,"fields":{"seen":8}}`
	var all sync.WaitGroup
	for range 12 {
		all.Go(func() {
			if status, said := ask(lead, "edit", "PATCH", trail, edits); status != http.StatusOK || said.Revision != 2 {
				t.Errorf("edited: %d %+v", status, said)
			}
		})
	}
	all.Wait()
	if got := valueAt(t, bed, "trails", id, "seen"); got != "8" {
		t.Errorf("central counts %s", got)
	}
	if status, said := ask(lead, "edit", "PATCH", trail, `{"base":1,"fields":{"seen":9}}`); status != http.StatusConflict {
		t.Errorf("another change under the same key: %d %+v", status, said)
	}
	if status, said := ask(worker, "edit", "PATCH", trail, `{"base":2,"fields":{"note":"by another"}}`); status != http.StatusOK || said.Revision != 3 {
		t.Errorf("somebody else's key of the same name: %d %+v", status, said)
	}
	if status, said := ask(lead, "bad", "PATCH", trail, `{"fields":{"seen":"many"}}`); status != http.StatusUnprocessableEntity {
		t.Errorf("what is refused: %d %+v", status, said)
	}
	if status, said := ask(lead, "bad", "PATCH", trail, `{"fields":{"seen":10}}`); status != http.StatusOK {
		t.Errorf("what was refused leaves its key free: %d %+v", status, said)
	}
	for range 2 {
		if status, said := ask(lead, "remove", "DELETE", trail+"?base=4", ""); status != http.StatusOK || said.Revision != 5 {
			t.Errorf("removed: %d %+v", status, said)
		}
	}
	history, err := bed.Central.History(ctx, central.Everything("admin"), "trails", id)
	if err != nil || len(history) != 5 {
		t.Errorf("the history has %d entries, %v", len(history), err)
	}
}

// P2: a conflict is settled once under a key, and who asks again is not told that somebody else has settled it.
func TestP2SettledAgainUnderAKey(t *testing.T) {
	bed, a, b, id := disputed(t)
	open := conflicts(t, bed)
	body := map[string]any{"collection": "trails", "record": id, "field": "state", "base": open[0].Revision, "value": "closed"}
	lead := bed.SignIn("lead")
	for range 3 {
		if status, text := bed.Call("POST", "/v1/conflicts/settlements", lead, body, "Idempotency-Key", "settle"); status != http.StatusOK {
			t.Errorf("%d %s", status, text)
		}
	}
	if status, text := bed.Call("POST", "/v1/conflicts/settlements", lead, body); status != http.StatusConflict {
		t.Errorf("without a key: %d %s", status, text)
	}
	for _, store := range []*device.Store{a, b} {
		testbed.Exchange(t, store)
	}
	bed.Same(a, b)
}

package web_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"

	"github.com/google/uuid"

	"homing/internal/testbed"
	"homing/wire"
)

// stalled is a link that takes nothing until it is let go.
type stalled struct {
	header  http.Header
	reached *sync.WaitGroup
	once    sync.Once
	letGo   chan struct{}
}

func (s *stalled) Header() http.Header { return s.header }
func (s *stalled) WriteHeader(int)     {}
func (s *stalled) Write(text []byte) (int, error) {
	s.once.Do(s.reached.Done)
	<-s.letGo
	return len(text), nil
}

// Links that stall hold only so many pages: further devices are told to come again, what loads no page goes on, and
// once the links go on so does everybody.
func TestStalledLinksHoldABoundedNumberOfPages(t *testing.T) {
	bed := testbed.Start(t)
	if status, text := bed.Call("POST", "/v1/records/trails", bed.SignIn("lead"), map[string]any{"fields": map[string]any{"name": "Ridge"}}); status != http.StatusCreated {
		t.Fatalf("%d %s", status, text)
	}
	const most, each = 64, 4
	letGo := make(chan struct{})
	var reached, done sync.WaitGroup
	reached.Add(most)
	var greedy string
	for range most / each {
		greedy = enrolByHand(t, bed)
		for range each {
			ask := httptest.NewRequest("GET", "/v1/changes/trails?cursor=0", nil)
			ask.Header.Set("Authorization", "Bearer "+greedy)
			done.Go(func() {
				bed.Server().ServeHTTP(&stalled{header: http.Header{}, reached: &reached, letGo: letGo}, ask)
			})
		}
	}
	reached.Wait()
	if status, text := bed.Call("GET", "/v1/changes/trails?cursor=0", greedy, nil); status != http.StatusTooManyRequests {
		t.Errorf("one page more of a device than it may have under way is answered %d %s", status, text)
	}
	hand := enrolByHand(t, bed)
	if status, text := bed.Call("GET", "/v1/changes/trails?cursor=0", hand, nil); status != http.StatusServiceUnavailable {
		t.Errorf("with all pages on stalled links, another one is answered %d %s", status, text)
	}
	if status, _ := bed.Call("GET", "/v1/definitions", hand, nil); status != http.StatusOK {
		t.Errorf("what loads no page is answered %d", status)
	}
	var told wire.Definitions
	_, text := bed.Call("GET", "/v1/definitions", hand, nil)
	testbed.Must(t, json.Unmarshal(text, &told))
	trip := wire.Trip{Generation: bed.Central.Generation(), Definitions: told.Digest, Cursors: map[string]int64{"structures": 0, "trails": 0}}
	made := func() (met wire.Met) {
		status, text := bed.Call("POST", "/v1/trips", hand, trip)
		if status != http.StatusOK {
			t.Errorf("a trip is answered %d %s", status, text)
		}
		testbed.Must(t, json.Unmarshal(text, &met))
		return met
	}
	if met := made(); len(met.Pages) != 0 || len(met.Left) != 1 || met.Left[0] != "trails" || met.Seal == "" {
		t.Errorf("without room a trip brings %+v", met)
	}
	close(letGo)
	done.Wait()
	if met := made(); len(met.Pages) != 1 || len(met.Left) != 0 || met.Seal == "" {
		t.Errorf("with room a trip brings %+v", met)
	}
	if status, text := bed.Call("GET", "/v1/changes/trails?cursor=0", hand, nil); status != http.StatusOK {
		t.Errorf("when the links go on, it is answered %d %s", status, text)
	}
}

func enrolByHand(t *testing.T, bed *testbed.Bed) (token string) {
	t.Helper()
	var enrolled wire.Enrolled
	_, text := bed.Call("POST", "/v1/enrolments", "", wire.Enrolment{Code: bed.Code("lead"), Device: "by hand",
		Incarnation: uuid.Must(uuid.NewV7())})
	testbed.Must(t, json.Unmarshal(text, &enrolled))
	return enrolled.Token
}

package web_test

import (
	"encoding/json"
	"testing"

	"github.com/google/uuid"

	"homing/internal/testbed"
	"homing/wire"
)

// P11: covers= says that a device has loaded no territory; leaving it out stands for all that its workers hold.
func TestP11CoversOfNone(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(testbed.Trails + "  district: {type: string}\nsync: {territory: record.district}\n")
	token := bed.SignIn("admin")
	status, text := bed.Call("POST", "/v1/records/trails", token,
		map[string]any{"fields": map[string]any{"name": "Ridge", "district": "kell"}})
	if status != 201 && status != 200 {
		t.Fatalf("%d %s", status, text)
	}
	var enrolled wire.Enrolled
	_, text = bed.Call("POST", "/v1/enrolments", "", wire.Enrolment{Code: bed.Code("lead"), Device: "by hand",
		Incarnation: uuid.Must(uuid.NewV7())})
	testbed.Must(t, json.Unmarshal(text, &enrolled))
	for query, count := range map[string]int{"cursor=0": 1, "cursor=0&covers=kell": 1, "cursor=0&covers=": 0,
		"cursor=0&load=true&covers=": 0} {
		var page wire.Page
		status, text := bed.Call("GET", "/v1/changes/trails?"+query, enrolled.Token, nil)
		testbed.Must(t, json.Unmarshal(text, &page))
		if status != 200 || len(page.Records) != count || int(page.Total) != count {
			t.Errorf("%s: %d, %s", query, status, text)
		}
		var prints wire.Fingerprints
		_, text = bed.Call("GET", "/v1/fingerprints/trails?"+query, enrolled.Token, nil)
		testbed.Must(t, json.Unmarshal(text, &prints))
		if len(prints.Buckets) != count {
			t.Errorf("%s: %s", query, text)
		}
	}
}

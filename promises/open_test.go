package promises_test

import (
	"net/http"
	"testing"

	"github.com/jmoiron/sqlx"

	"homing/device"
	"homing/internal/testbed"
)

// open opens the file of a store beside it.
func open(t *testing.T, store *device.Store) *sqlx.DB {
	t.Helper()
	db, err := sqlx.Open("sqlite3", "file:"+store.Path()+"?_pragma=busy_timeout(5000)")
	testbed.Must(t, err)
	t.Cleanup(func() { db.Close() })
	return db
}

// batches lets a fault befall the next batch, once.
func batches(fault *testbed.Fault) func(*http.Request) testbed.Fault {
	return func(r *http.Request) testbed.Fault {
		if !testbed.CarriesBatch(r) {
			return testbed.Pass
		}
		now := *fault
		*fault = testbed.Pass
		return now
	}
}

// Package finding is what people see at central of what is there now: records and lists of them, collections with
// their numbers, open conflicts, and the fingerprints by which a device is compared with central.
package finding

import (
	"encoding/json"

	"homing/central/postgres"
	"homing/core/definition"
	"homing/core/record"
	"homing/core/rights"
	"homing/core/sight"
)

// Finding finds. It is safe for use by several goroutines.
type Finding struct{ db *postgres.DB }

// New makes a Finding on a database.
func New(db *postgres.DB) *Finding { return &Finding{db} }

// sees says whether askers may see a record as the database has it.
func sees(who sight.Askers, collection *definition.Collection, territories []string, fields []byte) (bool, error) {
	if who.ReadsAll(collection) {
		return rights.Covers(who.Territories(), territories), nil
	}
	var parsed record.Fields
	if err := json.Unmarshal(fields, &parsed); err != nil {
		return false, err
	}
	return who.See(collection, territories, parsed), nil
}

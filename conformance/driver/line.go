package driver

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/device"
	"homing/wire"
)

// ClockHeader is the header of answers from the network that says what the device's clocks show by then, as a JSON
// [Clock].
const ClockHeader = "Homing-Driven-Clock"

// Clock is what the clocks of the driven device show.
type Clock struct {
	Now   time.Time     `json:"now"`      // of the clock that people set; it may be wrong, and be turned
	Boot  string        `json:"boot"`     // names the run of the machine
	Since time.Duration `json:"since_ns"` // how long this run has lasted, by a clock that nobody turns
}

// Ask is one line to the program.
type Ask struct {
	Ask   int    `json:"ask"`
	Do    string `json:"do"`
	Clock Clock  `json:"clock"`
	With  With   `json:"with"`
}

// What a program is asked to do. What each takes and gives stands in the table of docs/conformance.md.
const (
	DoOpen        = "open"
	DoClose       = "close"
	DoEnrol       = "enrol"
	DoExchange    = "exchange"
	DoPush        = "push"
	DoPull        = "pull"
	DoAdd         = "add"
	DoEdit        = "edit"
	DoRemove      = "remove"
	DoTogether    = "together"
	DoComplete    = "complete"
	DoReopen      = "reopen"
	DoSettle      = "settle"
	DoReview      = "review"
	DoSendAgain   = "send-again"
	DoDiscard     = "discard"
	DoGet         = "get"
	DoFind        = "find"
	DoLookUp      = "look-up"
	DoVerify      = "verify"
	DoCollections = "collections"
	DoDefinition  = "definition"
	DoFingerprint = "fingerprint"
	DoPeople      = "people"
	DoSetSecret   = "set-secret"
	DoSignIn      = "sign-in"
	DoSignOut     = "sign-out"
	DoJoin        = "join"
	DoLost        = "lost"
	DoOfferLost   = "offer-lost"
	DoDropLost    = "drop-lost"
	DoBackUp      = "back-up"
	DoBackups     = "backups"
	DoRestore     = "restore"
	DoWorkOut     = "work-out"
)

// With is what comes with an ask; of each kind of ask, some.
type With struct {
	Path       string          `json:"path,omitempty"` // of a store, a backup, or the file to which is written what is given up
	Backup     string          `json:"backup,omitempty"`
	Network    string          `json:"network,omitempty"` // where requests to central go
	IDs        string          `json:"ids,omitempty"`     // hexadecimal digits in which all ids end that are made from now on, before a count
	Central    string          `json:"central,omitempty"`
	Code       string          `json:"code,omitempty"`
	Name       string          `json:"name,omitempty"`
	Mend       bool            `json:"mend,omitempty"`
	Secret     string          `json:"secret,omitempty"`
	Old        string          `json:"old,omitempty"`
	Collection string          `json:"collection,omitempty"`
	ID         uuid.UUID       `json:"id,omitzero"`
	Fields     device.Fields   `json:"fields,omitempty"` // null clears a field
	Saw        *device.Record  `json:"saw,omitempty"`    // what the author had before them, as it was given
	Steps      []Step          `json:"steps,omitempty"`
	Field      string          `json:"field,omitempty"`
	Value      json.RawMessage `json:"value,omitempty"`
	Number     int64           `json:"number,omitempty"`
	Find       *Find           `json:"find,omitempty"`
	Of         string          `json:"of,omitempty"`   // the file of vectors that a case is from
	Case       json.RawMessage `json:"case,omitempty"` // without what comes out of it
}

// Step is one add of those that stand or fall together.
type Step struct {
	Collection string         `json:"collection"`
	Fields     device.Fields  `json:"fields"`
	Refers     map[string]int `json:"refers,omitempty"` // fields that hold the id of the record of an earlier step, by its number from 0
}

// Find is a question for records.
type Find struct {
	Where  []string `json:"where,omitempty"`
	Search string   `json:"search,omitempty"`
	Sort   string   `json:"sort,omitempty"`
	Limit  int      `json:"limit,omitempty"`
	Offset int      `json:"offset,omitempty"`
}

// Said is one line from the program: what came of an ask, or a change that the device tells its apps of.
type Said struct {
	Ask     int             `json:"ask,omitempty"`
	Done    json.RawMessage `json:"done,omitempty"`
	Failed  *Failure        `json:"failed,omitempty"`
	Changed *device.Changed `json:"changed,omitempty"`
}

// Failure is an error with a name that all languages share.
type Failure struct {
	Name    string               `json:"name"`
	Message string               `json:"message"`
	Reasons []change.Reason      `json:"reasons,omitempty"` // of what is invalid
	Problem *wire.ProblemDetails `json:"problem,omitempty"` // as central said it
}

// Held says how many records of a collection a device shows, and their fingerprint.
type Held = wire.Bucket

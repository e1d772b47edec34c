package change

import "homing/core/clock"

// Verdict is central's word on one change.
type Verdict string

// The verdicts.
const (
	Applied Verdict = "applied" // as sent: the device's view and central's are the same
	Merged  Verdict = "merged"  // accepted, and central's record now differs from what the device has
	Held    Verdict = "held"    // accepted, but some fields wait for a person; the others went in
	Refused Verdict = "refused" // not accepted; the reasons say why
	Waiting Verdict = "waiting" // hangs on a change that was refused or has not come
)

// Accepted says whether central has taken the change into its history.
func (v Verdict) Accepted() bool { return v == Applied || v == Merged || v == Held }

// Reason says why a change, or one field of it, was refused.
type Reason struct {
	Field   string `json:"field,omitempty" doc:"Path of the field within the record, such as location/coordinates; empty when the whole change is meant."`
	Code    string `json:"code" doc:"A word for programs."`
	Message string `json:"message" doc:"A sentence for people: what is wrong and what to do."`
}

// The codes of reasons.
const (
	CodeUnknownCollection = "unknown-collection"
	CodeUnknownAuthor     = "unknown-author"
	CodeUnknownRecord     = "unknown-record"
	CodeUnknownBase       = "unknown-base"
	CodeUnknownField      = "unknown-field"
	CodeInvalidValue      = "invalid-value"
	CodeMissing           = "missing"
	CodeNotAsked          = "not-asked"
	CodeTooDeep           = "too-deep"
	CodeMalformed         = "malformed"
	CodeNotAllowed        = "not-allowed"
	CodeNumberReused      = "number-reused"
	CodeSealedElse        = "sealed-elsewhere"
	CodeKeyTaken          = "key-taken"
	CodeAmbiguous         = "ambiguous-key"
	CodeRemoved           = "record-removed"
	CodeHangsOnRefused    = "hangs-on-refused"
	CodeHangsOnParent     = "hangs-on-parent"
	CodeHasChildren       = "has-children"
	CodeReadOnly          = "read-only"
	CodeHangsOnEarlier    = "hangs-on-earlier"
	CodeGroupIncomplete   = "group-incomplete"
	CodeHangsOnGroup      = "hangs-on-group"
	CodeComplete          = "complete"
)

// Decision is how one contested field, or the removal, was decided.
type Decision struct {
	Field string `json:"field,omitempty" doc:"The contested field; empty for the removal of the record."`
	Rule  string `json:"rule" doc:"The rule that decided."`
	Kept  string `json:"kept" enum:"central,change,both" doc:"Which side was kept: what central had, what the change brought, or something of both."`
	Other Side   `json:"other" doc:"The edit that the change met at central."`
}

// What a decision keeps.
const (
	KeptCentral = "central"
	KeptChange  = "change"
	KeptBoth    = "both"
)

// Side is one of two edits that met.
type Side struct {
	Revision int64       `json:"revision"`
	Source   Source      `json:"source"`
	Stamp    clock.Stamp `json:"stamp" doc:"In central's time."`
}

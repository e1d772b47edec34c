package desk

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
)

// Answer is central's word on one change.
type Answer struct {
	Number   int64           `json:"number" doc:"The change's number; 0 when it could not be read."`
	Answer   change.Verdict  `json:"answer" enum:"applied,merged,held,refused,waiting"`
	Revision int64           `json:"revision,omitempty" doc:"The record's revision after the change."`
	Stamp    clock.Stamp     `json:"stamp,omitzero" doc:"The change's stamp in central's time."`
	Record   *Record         `json:"record,omitempty" doc:"The record after the change, when it is not as the device has it; with an answer that comes again, the record as it is now."`
	Reasons  []change.Reason `json:"reasons,omitempty"`
	// Collection is said to who does not know it.
	Collection string `json:"collection,omitempty" doc:"Only with the answer to a sealed change that was accepted: the collection of the record."`
}

// Record is a record as central has it.
type Record struct {
	ID         uuid.UUID       `json:"id" format:"uuid"`
	Revision   int64           `json:"revision"`
	Position   int64           `json:"position,omitempty" doc:"Position of the record's last change in its collection."`
	Removed    bool            `json:"removed,omitempty"`
	Withdrawn  bool            `json:"withdrawn,omitempty" doc:"The worker no longer covers the record: the device drops it. Nothing else is said of it."`
	Fields     json.RawMessage `json:"fields,omitempty" doc:"The values by field; left out when the record is removed."`
	Marks      json.RawMessage `json:"marks,omitempty" doc:"When each field last got its value, for the merge; left out when the record is removed."`
	EditedAt   time.Time       `json:"edited_at,omitzero" doc:"When the last change was made, in central's time; left out of a withdrawal."`
	ReceivedAt time.Time       `json:"received_at,omitzero" doc:"When central received the last change; left out of a withdrawal."`
	Author     string          `json:"author,omitempty"`
	Device     string          `json:"device,omitempty" doc:"Name of the device the last change came from; empty when it was made at central."`
	Since      int64           `json:"since,omitempty" doc:"Given where this is a part: fields and marks hold what came after this revision, and null stands for a value that is gone."`
	Digest     string          `json:"digest,omitempty" doc:"Of a part: tells whether the record is right once the part is laid over what the device has."`
	Wants      *Wanted         `json:"attention,omitempty" doc:"What the record wants attention for today, where people look at it."`
}

// Wanted is what a record wants attention for, by a condition of its definition.
type Wanted struct {
	Say   string           `json:"say"`
	Grade definition.Grade `json:"grade" enum:"urgent,soon,note"`
}

// Withdrawal is all that somebody hears of a record that they may not see: that it is not theirs to keep.
func Withdrawal(id uuid.UUID, revision, position int64) Record {
	return Record{ID: id, Revision: revision, Position: position, Withdrawn: true}
}

// Kept is an answer that was given for good, so that a change that comes again gets the same one.
type Kept struct {
	Number int64  `db:"number"`
	Digest []byte `db:"digest"` // of the change; empty for one that was folded into another: nobody knows what it said
	Answer []byte `db:"answer"` // JSON
	Waits  bool   `db:"waits"`  // no answer yet: only what the change says is known
}

func refusal(number int64, code, format string, args ...any) Answer {
	return Answer{Number: number, Answer: change.Refused, Reasons: reason(code, format, args...)}
}

// Refusal answers a change that cannot be taken as it is.
func Refusal(number int64, code, format string, args ...any) Answer {
	return refusal(number, code, format, args...)
}

func reason(code, format string, args ...any) []change.Reason {
	return []change.Reason{{Code: code, Message: fmt.Sprintf(format, args...)}}
}

// marshal writes what is known to be writable.
func marshal(value any) json.RawMessage {
	text, err := json.Marshal(value)
	if err != nil {
		panic(fmt.Sprintf("%T does not marshal: %v", value, err))
	}
	return text
}

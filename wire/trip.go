package wire

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/settings"
)

// Trip is all that a device has to say in an exchange, as far as it fits into one request.
type Trip struct {
	Generation  uuid.UUID         `json:"generation" format:"uuid" doc:"That of the central which the device knows."`
	Definitions string            `json:"definitions,omitempty" doc:"The digest of the definitions that the device has."`
	Cursors     map[string]int64  `json:"cursors,omitempty" doc:"How far the device has pulled, by collection. It asks for what came after, within all territories that its workers hold."`
	Parts       bool              `json:"parts,omitempty" doc:"The device takes records in parts, against what it has as of the cursors."`
	Answered    int64             `json:"answered,omitempty" minimum:"0" doc:"A number up to which all changes of the store have an answer that is stored, or are in the batch; these do not come back as news."`
	Seal        string            `json:"seal,omitempty" doc:"Central's word on all cursors at once, as it came with the last trip."`
	Sealed      map[string]int64  `json:"sealed,omitempty" doc:"The cursors that the seal is of, where they are others than cursors."`
	Seals       []string          `json:"seals,omitempty" maxItems:"50" doc:"Those of single cursors that say more."`
	Batch       *Batch            `json:"batch,omitempty" doc:"The first changes of the outbox."`
	Clock       *Clock            `json:"clock,omitempty" doc:"What the device knows of its clock by what it has measured before."`
	Unsent      int               `json:"unsent,omitempty" minimum:"0" doc:"Changes in the outbox without an answer that are not in the batch."`
	Refused     int               `json:"refused,omitempty" minimum:"0"`
	Waiting     int               `json:"waiting,omitempty" minimum:"0"`
	Stored      int64             `json:"stored,omitempty" minimum:"0" doc:"Bytes that the store takes on the device's disk."`
	Settings    *settings.Applied `json:"settings,omitempty" doc:"The settings that the device goes by, where central has not heard of it."`
}

// Left counts the changes that stay in the outbox.
func (a Answers) Left() (refused, waiting int) {
	for _, answer := range a.Answers {
		switch answer.Answer {
		case change.Refused:
			refused++
		case change.Waiting:
			waiting++
		}
	}
	return refused, waiting
}

// Met is all that central has to say to a [Trip].
type Met struct {
	Generation  uuid.UUID         `json:"generation,omitzero" format:"uuid" doc:"Central's generation, where it is not the one that was named. Nothing else was looked at then."`
	Earlier     []uuid.UUID       `json:"earlier,omitempty" doc:"What the database was called before each time that it was restored, the latest last; with generation."`
	ReceivedAt  time.Time         `json:"received_at" doc:"Central's clock when the request came."`
	AnsweredAt  time.Time         `json:"answered_at" doc:"Central's clock when the answer left."`
	Open        bool              `json:"open,omitempty" doc:"Nobody needs to sign in: a developer's first hour."`
	MaxChanges  int               `json:"max_changes" doc:"Most changes in a batch."`
	MaxBytes    int               `json:"max_bytes" doc:"Most bytes of a batch, before compression."`
	Revoked     bool              `json:"revoked,omitempty" doc:"The device was revoked: it gets answers and nothing else."`
	Errands     []Errand          `json:"errands,omitempty" doc:"What the device is asked to do once all else is done. What became of it comes with the report."`
	Definitions *Definitions      `json:"definitions,omitempty" doc:"Where the device has others. There are no pages then: what it covers may be another."`
	Answers     *Answers          `json:"answers,omitempty" doc:"To the batch."`
	Pages       []json.RawMessage `json:"pages,omitempty" doc:"The first page of each collection that has something new, as far as there is room, each as the schema Page describes. Take none when the answers are torn."`
	Heads       map[string]int64  `json:"heads,omitempty" doc:"By collection, where each cursor goes that has no page: nothing up to there concerns the device. What is not named stands where it stood, unless it is left."`
	Left        []string          `json:"left,omitempty" doc:"Collections for whose page there was no room; ask for it."`
	Seal        string            `json:"seal,omitempty" doc:"Central's word on the cursors as they are when all of this is stored; not given where the seal that was shown still says so."`
}

// Package wire holds the messages between devices and central, as docs/protocol.md describes them. Readers ignore
// keys that they do not know; writers leave out what is empty.
package wire

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/merge"
	"homing/core/rights"
	"homing/core/settings"
)

// Version is the protocol's version, as it stands in paths and in the header [HeaderVersion].
const Version = "1"

// Headers of the protocol.
const (
	HeaderVersion     = "Homing-Protocol"    // what the device speaks
	HeaderExchange    = "Homing-Exchange"    // id of the exchange that a request belongs to
	HeaderIncarnation = "Homing-Incarnation" // identity of the local store
	HeaderSeals       = "Homing-Seals"       // the seals of the cursors that the store has, separated by commas
)

// Media types.
const (
	JSON    = "application/json"
	Problem = "application/problem+json" // RFC 9457
)

// MostSeals bounds how many a device shows at once.
const MostSeals = 50

// Bounds that central puts on one batch, unless told otherwise.
const (
	MaxBatchChanges = 1000
	MaxBatchBytes   = 4 << 20
)

// Hello is what central says of itself to anybody.
type Hello struct {
	Product    string      `json:"product" enum:"homing"`
	Build      string      `json:"build" doc:"Version of the program."`
	Protocols  []string    `json:"protocols" doc:"The protocol versions that central speaks."`
	Generation uuid.UUID   `json:"generation" format:"uuid" doc:"Identity of central's database; a new one after a restore."`
	Earlier    []uuid.UUID `json:"earlier,omitempty" doc:"What the database was called before each time that it was restored, the latest last."`
	ReceivedAt time.Time   `json:"received_at" doc:"Central's clock when the question came."`
	AnsweredAt time.Time   `json:"answered_at" doc:"Central's clock when the answer left."`
	Open       bool        `json:"open" doc:"Nobody needs to sign in: a developer's first hour."`
	MaxChanges int         `json:"max_changes" doc:"Most changes in a batch."`
	MaxBytes   int         `json:"max_bytes" doc:"Most bytes of a batch, before compression."`
}

// Enrolment asks for a device to be enrolled.
type Enrolment struct {
	Code        string    `json:"code,omitempty" doc:"The one-time code; not needed when central is open."`
	Device      string    `json:"device" minLength:"1" maxLength:"80" doc:"How people call the device."`
	Incarnation uuid.UUID `json:"incarnation" format:"uuid" doc:"Identity of the local store."`
	Agent       string    `json:"agent,omitempty" maxLength:"200" doc:"Program and system of the device."`
	Former      string    `json:"former,omitempty" maxLength:"200" doc:"The token of the device that the local store was before it was detached: what it was goes over to the new one."`
}

// Enrolled is what a newly enrolled device gets.
type Enrolled struct {
	Device     uuid.UUID `json:"device" format:"uuid"`
	Token      string    `json:"token" doc:"The device's own token. Central keeps only its hash."`
	Worker     string    `json:"worker" doc:"Name of the worker who enrolled it."`
	Role       string    `json:"role"`
	Generation uuid.UUID `json:"generation" format:"uuid"`
	SealTo     []byte    `json:"seal_to,omitempty" contentEncoding:"base64" doc:"Central's public key (X25519), for which changes are sealed that only central may read; see Sealed."`
}

// Batch is the part of an outbox that one push carries.
type Batch struct {
	ID          uuid.UUID         `json:"batch" format:"uuid" doc:"Made by the device; the same when the batch is sent again."`
	Exchange    uuid.UUID         `json:"exchange" format:"uuid"`
	Incarnation uuid.UUID         `json:"incarnation" format:"uuid"`
	Generation  uuid.UUID         `json:"generation,omitzero" format:"uuid" doc:"The generation of central that the bases of the changes are meant in; the present one when left out."`
	Clock       Clock             `json:"clock"`
	Changes     []json.RawMessage `json:"changes" doc:"Changes in the order of the outbox, each as the schema Change describes, or Sealed."`
}

// Clock is what a device knows of its own clock.
type Clock struct {
	SentAt   time.Time `json:"sent_at" doc:"The device's clock when the batch left."`
	OffsetMS int64     `json:"offset_ms" doc:"Milliseconds to add to the device's clock to get central's, measured in this exchange."`
	ErrorMS  int64     `json:"error_ms" minimum:"0" doc:"How far the offset may be off, in milliseconds."`
}

// Offset is the clock's offset as the core takes it.
func (c Clock) Offset() clock.Offset {
	return clock.Offset{By: time.Duration(c.OffsetMS) * time.Millisecond,
		Error: time.Duration(c.ErrorMS) * time.Millisecond}
}

// Answers are central's words on a batch, one for each change in its order.
type Answers struct {
	Batch   uuid.UUID `json:"batch" format:"uuid"`
	Answers []Answer  `json:"answers"`
	Seals   []string  `json:"seals,omitempty" doc:"Central's word on where it was after the batch, one for each collection that it changed; each takes the place of the seal that the device has of its collection."`
	Torn    bool      `json:"torn,omitempty" doc:"Two stores have used the numbers of the batch's incarnation: one is a copy of the other. The store takes a new incarnation, and sends under it what was refused as number-reused."`
}

// Answer is central's word on one change.
type Answer = desk.Answer

// Record is a record as central has it.
type Record = desk.Record

// Page is a part of what changed in one collection after a cursor.
type Page struct {
	Collection string   `json:"collection"`
	Cursor     int64    `json:"cursor" doc:"Pull from here next time; everything up to here has been delivered, for ever."`
	Head       int64    `json:"head" doc:"Position of the last accepted change."`
	More       bool     `json:"more" doc:"There is more after the cursor now."`
	Total      int64    `json:"total,omitempty" doc:"Only with the first page from cursor 0: how many records there are to load."`
	Seal       string   `json:"seal,omitempty" doc:"Central's word that it delivered up to the cursor, to be kept with it and shown with the header Homing-Seals of the next exchange's question for the definitions."`
	Records    []Record `json:"records" doc:"Each record once, in its latest state, ordered by position."`
}

// Report is what a device says of itself at the end of an exchange, so that people can see what it holds and owes.
type Report struct {
	Clock   *Clock           `json:"clock,omitempty"`
	Cursors map[string]int64 `json:"cursors" doc:"How far the device has pulled each collection, as stored on the device."`
	Unsent  int              `json:"unsent" minimum:"0" doc:"Changes in the outbox without an answer."`
	Refused int              `json:"refused" minimum:"0"`
	Waiting int              `json:"waiting" minimum:"0"`
	Stored  int64            `json:"stored,omitempty" minimum:"0" doc:"Bytes that the store takes on the device's disk."`
	// Settings are said where central does not know it yet.
	Settings *settings.Applied `json:"settings,omitempty" doc:"The settings that the device goes by, where central has not heard of it."`
	Errands  []ErrandDone      `json:"errands,omitempty" maxItems:"20" doc:"What became of what central asked for."`
}

// Definitions are the collections that the asker may see.
type Definitions struct {
	Definitions []definition.Definition `json:"definitions"`
	// Rules are those that hold, the defaults among them.
	Rules       map[string]map[string]merge.Rule `json:"rules,omitempty" doc:"By collection and path of a field or of a part of one: the merge rule that holds there, also where the definition says none. What is not named has the rule of what it is part of."`
	Territories []string                         `json:"territories,omitempty" doc:"Those that the asker holds; * stands for all."`
	Sight       string                           `json:"sight,omitempty" doc:"Stands for who the workers of the device that asks are and what they may. When it changes, the device loads anew the collections that have a reading rule."`
	People      []rights.Person                  `json:"people,omitempty" doc:"The workers who may use the device that asks, whoever enrolled it first."`
	Digest      string                           `json:"digest,omitempty" doc:"Stands for all of this, for a device. It shows it in a trip, and is told the definitions when they are others."`
	Settings    *settings.Told                   `json:"settings,omitempty" doc:"For a device: how it is to behave, where anything is said of that."`
	SealTo      []byte                           `json:"seal_to,omitempty" contentEncoding:"base64" doc:"For a device: central's public key (X25519), for which changes are sealed that only central may read; see Sealed."`
}

// Held are records that a device has looked up, as it has them.
type Held struct {
	Records []HeldRecord `json:"records" maxItems:"1000"`
}

// HeldRecord is one of them.
type HeldRecord struct {
	ID       uuid.UUID `json:"id" format:"uuid"`
	Revision int64     `json:"revision"`
}

// Refreshed are those of the held records that are other than the device has them: changed, removed or withdrawn.
type Refreshed struct {
	Records []Record `json:"records"`
}

// ProblemRevoked is the type of the problem that a revoked device meets.
const ProblemRevoked = ProblemPrefix + "revoked"

// ProblemMoved is the type of the problem that a device meets when what it shows tells central that its database was
// put back to an earlier state: central has a new generation then, and the device begins its exchange anew.
const ProblemMoved = ProblemPrefix + "generation-changed"

// ProblemCoverage is the type of the problem that a device meets when it asks for territories its worker does not
// hold now.
const ProblemCoverage = ProblemPrefix + "coverage-changed"

// Version of a record in its history.
type HistoryEntry struct {
	Revision      int64             `json:"revision"`
	Position      int64             `json:"position"`
	Kind          change.Kind       `json:"kind" enum:"add,edit,remove"`
	Base          int64             `json:"base" doc:"The revision that the author saw."`
	Fields        json.RawMessage   `json:"fields" doc:"What really changed, field by field, from what to what."`
	Sent          json.RawMessage   `json:"sent,omitempty" doc:"What the change asked for, when that is not what came out."`
	Decisions     []change.Decision `json:"decisions,omitempty" doc:"How contested fields were decided."`
	Author        string            `json:"author"`
	Device        string            `json:"device,omitempty"`
	Source        change.Source     `json:"source"`
	Batch         *uuid.UUID        `json:"batch,omitempty" format:"uuid"`
	EditedDevice  time.Time         `json:"edited_device" doc:"By the device's clock."`
	EditedAt      time.Time         `json:"edited_at" doc:"In central's time."`
	UncertaintyMS int64             `json:"uncertainty_ms" doc:"How far edited_at may be off."`
	ReceivedAt    time.Time         `json:"received_at"`
}

// ProblemDetails are an RFC 9457 problem detail, the form of all errors.
type ProblemDetails struct {
	Type    string          `json:"type" doc:"A URN for programs, such as urn:homing:problem:invalid."`
	Title   string          `json:"title" doc:"The sort of problem."`
	Status  int             `json:"status"`
	Detail  string          `json:"detail" doc:"What is wrong and what to do."`
	Request string          `json:"request,omitempty" doc:"Id of the request; central's log has more under it."`
	Reasons []change.Reason `json:"reasons,omitempty" doc:"Field by field, where fields are meant."`
}

// ProblemPrefix is what the type of every problem starts with.
const ProblemPrefix = "urn:homing:problem:"

// Kinds of live events.
const (
	EventHeads   = "heads"   // heads of collections have moved
	EventDevices = "devices" // a device did something
)

// Fingerprints are what a device should hold of a collection, without the records themselves.
type Fingerprints struct {
	Collection string            `json:"collection"`
	Head       int64             `json:"head" doc:"Position of the last accepted change."`
	Buckets    map[string]Bucket `json:"buckets" doc:"By the last two hexadecimal digits of the ids; those without records are left out."`
	Records    []Fingerprint     `json:"records,omitempty" doc:"Each record of the bucket that was asked for."`
}

// Bucket is the fingerprint of a part of the records.
type Bucket struct {
	Count       int    `json:"count"`
	Fingerprint string `json:"fingerprint" doc:"The first 6 bytes, in hexadecimal, of the exclusive or over the records of the SHA-256 of the id's 16 bytes and the fields as canonical JSON."`
}

// Fingerprint is that of one record.
type Fingerprint struct {
	ID          uuid.UUID `json:"id" format:"uuid"`
	Revision    int64     `json:"revision"`
	Fingerprint string    `json:"fingerprint"`
}

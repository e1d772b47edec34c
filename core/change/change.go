// Package change describes one saved add, edit or removal of one record, and central's answer to it. A change is never
// altered after it is saved.
package change

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"io"
	"strconv"
	"time"

	"github.com/google/uuid"

	"homing/core/clock"
	"homing/core/record"
)

// Kind is what a change does to its record.
type Kind string

// The kinds of change.
const (
	Add    Kind = "add"
	Edit   Kind = "edit"
	Remove Kind = "remove"
)

// Change is one saved change as the device keeps it and as a batch carries it. Its identity is the incarnation of the
// local store, which the batch names, and Number.
type Change struct {
	Number      int64        `json:"number" minimum:"1" doc:"Position in the device's outbox: 1, 2, 3 … never used twice by one incarnation."`
	Collection  string       `json:"collection" doc:"The collection of the record."`
	Record      uuid.UUID    `json:"record" format:"uuid" doc:"The record's id, a UUIDv7 made on the device."`
	Kind        Kind         `json:"kind" enum:"add,edit,remove"`
	Base        int64        `json:"base" minimum:"0" doc:"The revision of central's that the worker saw; 0 when central had none yet."`
	Fields      record.Delta `json:"fields,omitempty" doc:"Only the fields that changed, from what to what. A side that is left out means no value."`
	Stamp       clock.Stamp  `json:"stamp" doc:"The device's hybrid logical clock when the change was saved."`
	EditedAt    time.Time    `json:"edited_at" doc:"The device's clock when the change was saved."`
	Author      string       `json:"author,omitempty" doc:"The name of the worker who made the change."`
	Group       *Group       `json:"group,omitempty" doc:"The changes that this one stands or falls with."`
	Seen        []Source     `json:"seen,omitempty" doc:"Earlier changes of the record that the author saw though central had not answered them, where another incarnation of the store numbered them. They count as what the author knew."`
	Folds       []int64      `json:"folds,omitempty" doc:"Numbers of earlier unsent changes of the record that this one says as well. They are never sent."`
	FoldDigests []string     `json:"fold_digests,omitempty" doc:"The digests of the changes that this one folds, in hexadecimal and in the order of folds: should another store have used one of the numbers for something else, it shows. No part of what the change says."`
	TurnedMS    int64        `json:"turned_ms,omitempty" doc:"Milliseconds by which the device's clock was turned forward since the change was stamped, as far as the device can tell; negative when it was turned back. Measured anew each time the change is sent, and no part of what it says."`
	UnsureMS    int64        `json:"unsure_ms,omitempty" minimum:"0" doc:"Milliseconds by which the change may be dated wrong beyond what was measured of the clock, such as when the machine was started anew since and nobody can tell whether its clock was turned. No part of what the change says."`
}

// Bounds on what one change can be part of, or stand for.
const (
	MaxGroup = 1000   // changes of a group: it travels in one batch
	MaxFolds = 10_000 // unsent changes that one says as well
	MaxSeen  = 1000   // unsent changes that the author saw
)

// Group names changes that central accepts all or none. They travel in one batch.
type Group struct {
	ID uuid.UUID `json:"id" format:"uuid"`
	Of int       `json:"of" minimum:"1" doc:"How many changes the group has."`
}

// digestSize is how many bytes a digest has.
const digestSize = 16

// Digest tells two changes with the same number apart. It covers all that the change says, whatever the order in
// which it was written; its values are canonical. How the clock was turned since is not said by the change, but
// measured when it is sent.
func (c Change) Digest() []byte {
	hash := sha256.New()
	text := func(part string) {
		var length [8]byte // so that no part can pass for the end of another
		binary.BigEndian.PutUint64(length[:], uint64(len(part)))
		hash.Write(length[:])
		io.WriteString(hash, part)
	}
	for _, number := range []int64{c.Number, c.Base, c.Stamp.Millis, int64(c.Stamp.Counter), c.EditedAt.UnixNano()} {
		text(strconv.FormatInt(number, 10))
	}
	text(c.Collection)
	hash.Write(c.Record[:])
	text(string(c.Kind))
	text(c.Author)
	if c.Group != nil {
		text("group " + strconv.Itoa(c.Group.Of))
		hash.Write(c.Group.ID[:])
	}
	for _, one := range c.Seen {
		text("seen " + one.Incarnation.String() + " " + strconv.FormatInt(one.Number, 10))
	}
	for _, number := range c.Folds {
		text("folds " + strconv.FormatInt(number, 10))
	}
	for _, name := range c.Fields.Names() {
		text(name)
		text(string(c.Fields[name].From))
		text(string(c.Fields[name].To))
	}
	return hash.Sum(nil)[:digestSize]
}

// FoldDigest is the digest of the change that stands at a place among those that this one folds; nil where it is not known.
func (c Change) FoldDigest(at int) []byte {
	if len(c.FoldDigests) != len(c.Folds) {
		return nil
	}
	digest, err := hex.DecodeString(c.FoldDigests[at])
	if err != nil || len(digest) != digestSize {
		return nil
	}
	return digest
}

// Source names a change for good: the incarnation of the local store that numbered it, and its number there.
type Source struct {
	Incarnation uuid.UUID `json:"incarnation" format:"uuid"`
	Number      int64     `json:"number"`
}

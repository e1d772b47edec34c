package central

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"maps"
	"time"

	"github.com/google/uuid"

	"homing/central/pulls"
	"homing/wire"
)

// TripBytes bounds the pages of one trip together, before compression: what a slow link carries in some seconds.
const TripBytes = 256 << 10

// Rooms are what a trip passes through.
type Rooms interface {
	Now() time.Time
	// Names are the generation of the database, and those before it was restored, the latest last.
	Names() (now uuid.UUID, earlier []uuid.UUID)
	// Told is what a device is told of definitions and of who its workers are.
	Told(ctx context.Context, from Device) (wire.Definitions, error)
	Recognise(ctx context.Context, shown pulls.Shown) error
	Push(ctx context.Context, from Device, batch wire.Batch, bytes int) (wire.Answers, error)
	PullAll(ctx context.Context, from Device, ask pulls.Request, cursors map[string]int64, room int) (pulls.Many, error)
	TakeReport(ctx context.Context, from Device, exchange uuid.UUID, report wire.Report) error
}

// Asker is whose trip it is, and the exchange that it belongs to.
type Asker struct {
	Device   Device
	Store    uuid.UUID // the incarnation of the local store
	Exchange uuid.UUID
	Bytes    int                       // of the request
	Shown    func(marks []byte) []byte // as in [pulls.Request]
	Room     int                       // for pages, in bytes before compression
}

// Digest stands for what a device is told of definitions.
func Digest(told wire.Definitions) (string, error) {
	told.Digest = ""
	text, err := json.Marshal(told)
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:8]), err
}

// Trip does all that there is to do in an exchange, as far as it fits into one answer: the batch first, so that the
// pages are from after it. A device of another generation, or one whose definitions are others, gets no pages.
func Trip(ctx context.Context, rooms Rooms, who Asker, trip wire.Trip) (wire.Met, pulls.Many, error) {
	met, many := wire.Met{ReceivedAt: rooms.Now()}, pulls.Many{}
	now, earlier := rooms.Names()
	if now != trip.Generation {
		met.Generation, met.Earlier, met.AnsweredAt = now, earlier, rooms.Now()
		return met, many, nil
	}
	shown := pulls.Shown{Seals: trip.Seals, All: trip.Seal, Cursors: trip.Cursors}
	if trip.Sealed != nil {
		shown.Cursors = trip.Sealed
	}
	if !shown.Nothing() {
		if err := rooms.Recognise(ctx, shown); err != nil {
			return met, many, err
		}
	}
	met.Revoked, met.Errands = who.Device.RevokedAt != nil, who.Device.Errands.Open()
	var told wire.Definitions
	if !met.Revoked {
		var err error
		if told, err = rooms.Told(ctx, who.Device); err != nil {
			return met, many, err
		}
		if told.Digest != trip.Definitions {
			met.Definitions = &told
		}
	}
	report := wire.Report{Cursors: maps.Clone(trip.Cursors), Unsent: trip.Unsent, Refused: trip.Refused, Waiting: trip.Waiting, Stored: trip.Stored, Settings: trip.Settings}
	if trip.Batch != nil {
		answers, err := rooms.Push(ctx, who.Device, *trip.Batch, who.Bytes)
		if err != nil {
			return met, many, err
		}
		met.Answers = &answers
		refused, waiting := answers.Left()
		report.Refused, report.Waiting = report.Refused+refused, report.Waiting+waiting
	}
	if met.Definitions == nil && !met.Revoked {
		var err error
		ask := pulls.Request{Exchange: who.Exchange, Store: who.Store, Answered: trip.Answered, InParts: trip.Parts, Shown: who.Shown}
		if many, err = rooms.PullAll(ctx, who.Device, ask, trip.Cursors, who.Room); err != nil {
			return met, many, err
		}
		if met.Heads, met.Left, met.Seal = many.Heads, many.Left, many.Seal; trip.Seal != "" && trip.Sealed == nil &&
			len(many.Heads)+len(many.Pages) == 0 {
			met.Seal = "" // what it has still says so
		}
		for name, cursor := range many.Heads {
			report.Cursors[name] = cursor // nothing that could get lost on the way
		}
	}
	report.Clock = trip.Clock
	met.AnsweredAt = rooms.Now()
	return met, many, rooms.TakeReport(ctx, who.Device, who.Exchange, report)
}

package changes

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/pulls"
	"homing/core/change"
	"homing/core/desk"
	"homing/wire"
)

// BelieveWithin is how long a batch may be under way before central sets the device's own measurement of its clock
// aside.
const BelieveWithin = 2 * time.Minute

// maxFolds is how many others the changes of a batch may fold, all together. Each is looked up.
const maxFolds = 2 * change.MaxFolds

// read makes an item of one change as it came. A change that cannot be read harms no other.
func (c *Changes) read(raw []byte) desk.Item {
	if s, is := wire.ReadSealed(raw); is {
		return c.unseal(s)
	}
	return readOpen(raw, func(*change.Change) {})
}

// SealTo is the public key that goes with central's secret.
func SealTo(secret []byte) []byte {
	key, err := wire.SealingKey(secret)
	if err != nil {
		return nil // devices seal nothing then, and deliver only what is open
	}
	return key.PublicKey().Bytes()
}

// unseal reads a change that was sealed for central. One that was sealed for another key waits on the device, until
// whoever made it is there and seals it anew.
func (c *Changes) unseal(s wire.Sealed) desk.Item {
	key, err := wire.SealingKey(c.ground.Secret())
	if err != nil {
		return desk.Unreadable(s.Number, "", fmt.Sprintf("the sealed change cannot be read: %v", err))
	}
	text, err := wire.OpenChange(key, s)
	if err != nil {
		return desk.Item{Unreadable: &desk.Answer{Number: s.Number, Answer: change.Waiting, Reasons: []change.Reason{{
			Code: change.CodeSealedElse, Message: "the change was not sealed for this central, or was damaged; it waits until " +
				"whoever made it signs in on the device again"}}}}
	}
	it := readOpen(text, func(ch *change.Change) { ch.TurnedMS, ch.UnsureMS = s.TurnedMS, s.UnsureMS })
	if it.Unreadable != nil {
		it.Unreadable.Number = s.Number
	} else if it.Change.Number != s.Number {
		return desk.Unreadable(s.Number, "", fmt.Sprintf("what is sealed in it is change %d", it.Change.Number))
	}
	it.Sealed = true
	return it
}

func readOpen(raw []byte, measured func(*change.Change)) desk.Item {
	var ch change.Change
	if err := wire.Read(raw, &ch); err != nil {
		// The number is read on its own, so that the answer can name it if it can be read at all.
		var numbered struct {
			Number int64 `json:"number"`
		}
		_ = json.Unmarshal(raw, &numbered) // an unreadable number stays 0
		return desk.Unreadable(numbered.Number, "", fmt.Sprintf("the change cannot be read: %v", err))
	}
	measured(&ch)
	return desk.Read(ch)
}

// Push works through a batch and answers each change. A batch sent again, whole or in part, has no further effect and
// gets the same answers, whether the first answer arrived or not. Bytes is how much of it came over the wire.
func (c *Changes) Push(ctx context.Context, from fleet.Device, batch wire.Batch, bytes int) (wire.Answers, error) {
	source, err := c.originOf(from, batch)
	if err != nil {
		return wire.Answers{}, err
	}
	items := make([]desk.Item, len(batch.Changes))
	folds := 0
	for n, raw := range batch.Changes {
		items[n] = c.read(raw)
		if folds += len(items[n].Change.Folds); folds > maxFolds {
			return wire.Answers{}, fault.Fail(fault.TooLarge, "the changes of the batch fold more than %d others; send fewer at once", maxFolds)
		}
	}
	work := pushing{device: from.ID, exchange: batch.Exchange, source: source, bytes: bytes}
	done, err := c.acceptPush(ctx, &work, items)
	if strange(ctx, err) {
		// Something in the batch upsets the database, or the program. Alone, each change shows whether it is the one.
		c.log.Error("batch not stored at once; trying its changes one by one", "batch", batch.ID, "error", err)
		return c.pushEach(ctx, &work, batch.ID, items)
	}
	if err != nil {
		return wire.Answers{}, err
	}
	return wire.Answers{Batch: batch.ID, Answers: done.Answers, Torn: done.Torn, Seals: work.seals}, nil
}

// originOf says where a batch comes from, if it may.
func (c *Changes) originOf(from fleet.Device, batch wire.Batch) (desk.Origin, error) {
	if batch.ID == uuid.Nil || batch.Exchange == uuid.Nil {
		return desk.Origin{}, fault.Fail(fault.Invalid, "a batch has an id and names its exchange")
	}
	if !slices.Contains(from.Past, batch.Incarnation) || batch.Incarnation == c.ground.Source() {
		return desk.Origin{}, fault.Fail(fault.Clash, "the batch comes from the local store %s, but this device was "+
			"enrolled with %s; enrol the store anew",
			batch.Incarnation, from.Incarnation)
	}
	if len(batch.Changes) > c.most {
		return desk.Origin{}, fault.Fail(fault.TooLarge, "the batch has %d changes; send at most %d at once",
			len(batch.Changes), c.most)
	}
	now, earlier := c.ground.Generations()
	restores, err := restoresSince(batch.Generation, now, earlier)
	if err != nil {
		return desk.Origin{}, err
	}
	received := c.ground.Now()
	return desk.Origin{Incarnation: batch.Incarnation, Stores: from.Past, ID: from.ID,
		Since: from.Since, Device: from.Name, Batch: &batch.ID, People: from.People, Deliverers: from.Deliverers,

		Blind: from.RevokedAt != nil, Restores: restores, Received: received,
		Offset: batch.Clock.Offset().Believe(batch.Clock.SentAt, received, BelieveWithin)}, nil
}

// restoresSince says how often the database was restored since it had a generation.
func restoresSince(generation, now uuid.UUID, earlier []uuid.UUID) (int, error) {
	if generation == uuid.Nil || generation == now {
		return 0, nil
	}
	at := slices.Index(earlier, generation)
	if at < 0 {
		return 0, fault.Fail(fault.Clash, "the changes are based on the generation %s, which this database never was; "+
			"attach the local store to this central first", generation)
	}
	return len(earlier) - at, nil
}

// strange says whether an error is neither the sender's nor the database's passing trouble.
func strange(ctx context.Context, err error) bool {
	return err != nil && ctx.Err() == nil && (errors.Is(err, errUpset) || fault.Explain(err) == nil)
}

// pushing is one batch on its way in.
type pushing struct {
	device, exchange uuid.UUID
	source           desk.Origin
	bytes            int
	seals            []string // where central was afterwards
}

func (c *Changes) pushEach(ctx context.Context, work *pushing, batch uuid.UUID,
	items []desk.Item) (wire.Answers, error) {
	answers := wire.Answers{Batch: batch, Answers: make([]wire.Answer, len(items))}
	for _, u := range desk.Units(items) {
		alone := make([]desk.Item, len(u.Members))
		for n, at := range u.Members {
			alone[n] = items[at]
		}
		done, err := c.acceptPush(ctx, work, alone)
		work.bytes = 0
		if err != nil && !strange(ctx, err) {
			return wire.Answers{}, err
		}
		for n, at := range u.Members {
			if err == nil {
				answers.Answers[at], answers.Torn = done.Answers[n], answers.Torn || done.Torn
				continue
			}
			c.log.Error("change not stored", "batch", batch, "number", alone[n].Change.Number, "error", err)
			answers.Answers[at] = desk.Refusal(alone[n].Change.Number, change.CodeMalformed,
				"central could not store this change; its log says more under batch %s", batch)
		}
	}
	return answers, nil
}

func (c *Changes) acceptPush(ctx context.Context, work *pushing, items []desk.Item) (*desk.Decided, error) {
	var done *desk.Decided
	err := c.ground.Change(ctx, func(t Tables) error {
		if err := t.Meet(ctx, work.device, work.source.Received, work.source.Offset); err != nil {
			return err
		}
		var err error
		if done, err = c.accept(ctx, t, work.source, items, nil); err != nil {
			return err
		}
		if err := t.NotePush(ctx, work.device, work.exchange, done, work.bytes); err != nil {
			return err
		}
		work.seals, err = c.seal(ctx, t, done)
		return err
	})
	if err != nil {
		return nil, err
	}
	event := eventOf(done)
	event.Devices = true
	c.ground.Announce(ctx, event)
	return done, nil
}

// seal gives central's word on where the collections are of which it has accepted something, now or before.
func (c *Changes) seal(ctx context.Context, t Tables, done *desk.Decided) (seals []string, err error) {
	heads := done.Heads()
	for n, it := range done.Items {
		name := it.Change.Collection
		if _, moved := heads[name]; done.Answers[n].Answer.Accepted() && !moved {
			if heads[name], err = t.Head(ctx, name); err != nil {
				return nil, err
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(heads)) {
		seals = append(seals, pulls.Seal(c.ground.Secret(), name, heads[name], c.ground.Now()))
	}
	return seals, nil
}

func eventOf(decided *desk.Decided) fleet.Event { return fleet.Event{Heads: decided.Heads()} }

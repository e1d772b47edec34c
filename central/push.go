package central

import (
	"context"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/wire"
)

// believeWithin is how long a batch may be under way before central sets the device's own measurement of its clock aside.
const believeWithin = 2 * time.Minute

// Push works through a batch and answers each change. A batch sent again, whole or in part, has no further effect and gets
// the same answers, whether the first answer arrived or not.
func (c *Central) Push(ctx context.Context, from Device, batch wire.Batch, bytes int) (wire.Answers, error) {
	if batch.ID == uuid.Nil || batch.Exchange == uuid.Nil {
		return wire.Answers{}, fail(Invalid, "a batch has an id and names its exchange")
	}
	if !slices.Contains(from.Past, batch.Incarnation) {
		return wire.Answers{}, fail(Clash, "the batch comes from the local store %s, but this device was enrolled with %s; enrol the store anew", batch.Incarnation, from.Incarnation)
	}
	most := c.options.MaxChanges
	if most == 0 {
		most = wire.MaxBatchChanges
	}
	if len(batch.Changes) > most {
		return wire.Answers{}, fail(TooLarge, "the batch has %d changes; send at most %d at once", len(batch.Changes), most)
	}
	restores, err := c.restoresSince(batch.Generation)
	if err != nil {
		return wire.Answers{}, err
	}
	received := c.Now()
	offset := batch.Clock.Offset().Believe(batch.Clock.SentAt, received, believeWithin)
	source := origin{incarnation: batch.Incarnation, device: from.Name, batch: &batch.ID, who: from.Person(), others: from.others(), blind: from.RevokedAt != nil, restores: restores,
		offset: offset, received: received}
	items := make([]item, len(batch.Changes))
	for n, raw := range batch.Changes {
		items[n] = read(raw)
	}
	done, err := c.acceptFrom(ctx, from, batch.Exchange, source, items, bytes)
	if err != nil && Explain(err) == nil && ctx.Err() == nil {
		// Something in the batch upsets the database itself. Alone, each change shows whether it is the one.
		c.log.Error("batch not stored at once; trying its changes one by one", "batch", batch.ID, "error", err)
		return c.pushEach(ctx, from, batch, source, items, bytes)
	}
	if err != nil {
		return wire.Answers{}, err
	}
	return wire.Answers{Batch: batch.ID, Answers: done.answers}, nil
}

func (c *Central) pushEach(ctx context.Context, from Device, batch wire.Batch, source origin, items []item, bytes int) (wire.Answers, error) {
	answers := wire.Answers{Batch: batch.ID, Answers: make([]wire.Answer, len(items))}
	for _, u := range units(items) {
		alone := make([]item, len(u.members))
		for n, at := range u.members {
			alone[n] = items[at]
		}
		done, err := c.acceptFrom(ctx, from, batch.Exchange, source, alone, bytes)
		bytes = 0
		if err != nil && (Explain(err) != nil || ctx.Err() != nil) {
			return wire.Answers{}, err
		}
		for n, at := range u.members {
			if err == nil {
				answers.Answers[at] = done.answers[n]
				continue
			}
			c.log.Error("change not stored", "batch", batch.ID, "number", alone[n].change.Number, "error", err)
			answers.Answers[at] = refusal(alone[n].change.Number, change.CodeMalformed,
				"central could not store this change; its log says more under batch %s", batch.ID)
		}
	}
	return answers, nil
}

func (c *Central) acceptFrom(ctx context.Context, from Device, exchange uuid.UUID, source origin, items []item, bytes int) (*desk, error) {
	var done *desk
	err := c.within(ctx, nil, func(tx *sqlx.Tx) error {
		// One push of a device at a time, so that a batch and its repetition do not race.
		if _, err := tx.ExecContext(ctx, `UPDATE devices SET seen_at = $2, offset_ms = $3, error_ms = $4 WHERE id = $1`,
			from.ID, source.received, source.offset.By.Milliseconds(), source.offset.Error.Milliseconds()); err != nil {
			return err
		}
		var err error
		if done, err = c.accept(ctx, tx, source, items); err != nil {
			return err
		}
		if err := done.noteBatch(ctx, tx, from.ID, exchange, items); err != nil {
			return err
		}
		counts := done.tally()
		return noteExchange(ctx, tx, from.ID, exchange, source.received, travelled{
			batches: 1, applied: counts[change.Applied], merged: counts[change.Merged], held: counts[change.Held], refused: counts[change.Refused],
			waiting: counts[change.Waiting], repeated: done.repeated, bytesIn: bytes})
	})
	if err != nil {
		return nil, err
	}
	c.announce(ctx, Event{Heads: done.heads(), Devices: true})
	return done, nil
}

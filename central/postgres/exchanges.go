package postgres

import (
	"context"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/desk"
	"homing/core/record"
	"homing/wire"
)

// Meet is [changes.Writing.Meet].
func (t *Tx) Meet(ctx context.Context, device uuid.UUID, at time.Time, offset clock.Offset) error {
	_, err := t.ExecContext(ctx, `UPDATE devices SET seen_at = $2, offset_ms = $3, error_ms = $4 WHERE id = $1`,
		device, at, offset.By.Milliseconds(), offset.Error.Milliseconds())
	return err
}

// carried is what one request of an exchange carried.
type carried struct {
	batches, applied, merged, held, refused, waiting, repeated, delivered, bytesIn, bytesOut int
}

// NoteExchange keeps that an exchange of a device is under way, or was.
func (t *Tx) NoteExchange(ctx context.Context, device, exchange uuid.UUID, at time.Time) error {
	return t.noteExchange(ctx, device, exchange, at, carried{})
}

// noteExchange adds to the log of an exchange.
func (t *Tx) noteExchange(ctx context.Context, device, exchange uuid.UUID, at time.Time, c carried) error {
	_, err := t.ExecContext(ctx, `
		INSERT INTO exchanges AS e (id, device, started_at, last_at, batches, applied, merged, refused, waiting, repeated,
			delivered, bytes_in, bytes_out, held)
		VALUES ($1, $2, $3, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)
		ON CONFLICT (device, id) DO UPDATE SET last_at = $3, batches = e.batches + $4, applied = e.applied + $5,
			merged = e.merged + $6,
			refused = e.refused + $7, waiting = e.waiting + $8, repeated = e.repeated + $9, delivered = e.delivered + $10,
			bytes_in = e.bytes_in + $11, bytes_out = e.bytes_out + $12, held = e.held + $13`,
		exchange, device, at, c.batches, c.applied, c.merged, c.refused, c.waiting, c.repeated, c.delivered, c.bytesIn,
		c.bytesOut, c.held)
	return err
}

// Unaccepted is a change that did not get into the history.
type Unaccepted struct {
	Fields  record.Delta    `json:"fields,omitempty"`
	Reasons []change.Reason `json:"reasons,omitempty"`
}

// NotePush is [changes.Writing.NotePush].
func (t *Tx) NotePush(ctx context.Context, device, exchange uuid.UUID, d *desk.Decided, bytes int) error {
	if err := t.noteBatch(ctx, device, exchange, d); err != nil {
		return err
	}
	counts := d.Tally()
	return t.noteExchange(ctx, device, exchange, d.Origin.Received, carried{
		batches: 1, applied: counts[change.Applied], merged: counts[change.Merged], held: counts[change.Held],
		refused: counts[change.Refused], waiting: counts[change.Waiting], repeated: d.Repeated, bytesIn: bytes})
}

// noteBatch keeps what a batch carried.
func (t *Tx) noteBatch(ctx context.Context, device, exchange uuid.UUID, d *desk.Decided) error {
	size := len(d.Items)
	if size == 0 {
		return nil
	}
	collections, records, answers := make([]string, size), make([]string, size), make([]string, size)
	revisions, numbers := make([]int64, size), make([]int64, size)
	others := map[int64]Unaccepted{}
	for n, it := range d.Items {
		answer := d.Answers[n]
		collections[n], records[n], answers[n] = it.Change.Collection, it.Change.Record.String(), string(answer.Answer)
		revisions[n], numbers[n] = answer.Revision, answer.Number
		if !answer.Answer.Accepted() {
			others[numbers[n]] = Unaccepted{Fields: it.Change.Fields, Reasons: answer.Reasons}
		}
	}
	var rest *string
	if len(others) > 0 {
		text := marshal(others)
		rest = &text
	}
	_, err := t.ExecContext(ctx, `INSERT INTO travelled (device, exchange, at, batch, collections, records, revisions, numbers,
		answers, others)
		VALUES ($1, $2, $3, $4, $5, $6::uuid[], $7, $8, $9, $10)`,
		device, exchange, d.Origin.Received, d.Origin.Batch, collections, records, revisions, numbers, answers, rest)
	return err
}

// notePage keeps what a page carried.
func (t *Tx) notePage(ctx context.Context, device, exchange uuid.UUID, at time.Time, page wire.Page) error {
	if len(page.Records) == 0 {
		return nil
	}
	records, revisions := make([]string, len(page.Records)), make([]int64, len(page.Records))
	for n, r := range page.Records {
		records[n], revisions[n] = r.ID.String(), r.Revision
		if r.Removed || r.Withdrawn {
			revisions[n] = -r.Revision
		}
	}
	_, err := t.ExecContext(ctx, `INSERT INTO travelled (device, exchange, at, collections, records, revisions)
			VALUES ($1, $2, $3, ARRAY[$4], $5::uuid[], $6)`,
		device, exchange, at, page.Collection, records, revisions)
	return err
}

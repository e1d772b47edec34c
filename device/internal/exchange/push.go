package exchange

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/merge"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/device/internal/save"
	"homing/link"
	"homing/wire"
)

// firstBatch is how many changes the first batch of an exchange carries at most; a batch that is too large for
// central is halved.
const firstBatch = 500

// push sends batch after batch until everything is answered. A batch that was sent before and got no answer is sent
// again as it was, under its old id.
func (e *exchange) push(ctx context.Context) error {
	if !e.prepared {
		if err := e.prepare(ctx); err != nil {
			return err
		}
	}
	owed, err := e.owed(ctx)
	if err != nil {
		return err
	}
	largest := max(min(firstBatch, e.maxChanges), 1)
	most, err := e.batchSize(ctx, largest)
	if err != nil {
		return err
	}
	for {
		batch, changes, err := e.nextBatch(ctx, most)
		if err != nil {
			return err
		}
		if len(changes) == 0 {
			if err := e.hang(ctx); err != nil {
				return err
			}
			again, err := e.partFromCopy(ctx)
			if err != nil || !again {
				return err
			}
			continue
		}
		answers, err := e.send(ctx, batch, changes)
		var problem *link.Problem
		if tooLarge := errors.As(err, &problem) && problem.Status == http.StatusRequestEntityTooLarge; (tooLarge ||
			tooSlow(err)) && len(changes) > 1 && most > 1 {
			// Each change keeps its number, so none can count twice, whatever became of the batch.
			most = max(min(most, len(changes))/2, 1)
			if err := e.resize(ctx, batch, most); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		if err := e.hearAnswers(ctx, batch, changes, answers); err != nil {
			return err
		}
		e.settled = nil // what was pulled before is behind again
		if most < largest {
			most = min(most*2, largest)
			if err := file.StoreError(file.SetFact(ctx, e.DB, file.FactBatch, strconv.Itoa(most))); err != nil {
				return err
			}
		}
		e.watch(Progress{Phase: "push", Done: e.summary.Sent, Total: max(owed.Unsent+owed.Waiting, e.summary.Sent)})
	}
}

// open says whether anything is to be sent.
func (e *exchange) open(ctx context.Context) (any bool, err error) {
	err = e.DB.GetContext(ctx, &any, `SELECT EXISTS (SELECT 1 FROM outbox WHERE state IN ('new', 'sent', 'waiting'))`)
	return any, file.StoreError(err)
}

// prepare makes the outbox ready to be sent.
func (e *exchange) prepare(ctx context.Context) error {
	if any, err := e.open(ctx); err != nil || !any {
		e.prepared = err == nil
		return err
	}
	if err := e.fold(ctx); err != nil {
		return err
	}
	// What waits for another change may go in now.
	_, err := e.DB.ExecContext(ctx, `UPDATE outbox SET state = ?, reasons = NULL, batch = NULL WHERE state = 'waiting'`, file.IsSent)
	e.prepared = err == nil
	return file.StoreError(err)
}

// hang lets what waited before, and was not sent again since an earlier change of its record still waits, wait as it did: it is
// not on its way, and whoever made it may give it up or mend it. It cannot have gone in where it left with a batch that was cut
// since: central lets what comes after a change that waits wait as well.
func (e *exchange) hang(ctx context.Context) error {
	reasons, err := json.Marshal([]change.Reason{{Code: change.CodeHangsOnEarlier, Message: "it comes after a change of the same record which waits"}})
	if err != nil {
		return err
	}
	_, err = e.DB.ExecContext(ctx, `UPDATE outbox AS o SET state = ?, reasons = ? WHERE o.state = ? AND o.batch IS NULL AND o.kind <> 'add'
		AND EXISTS (SELECT 1 FROM outbox w WHERE w.collection = o.collection AND w.record = o.record AND w.state = 'waiting' AND w.number < o.number)`,
		file.IsWaiting, string(reasons), file.IsSent)
	return file.StoreError(err)
}

// mayGo is what a change of the outbox o must fulfil to go now.
const mayGo = `o.state IN ('new', 'sent') AND (o.kept IS NULL OR o.sealed IS NOT NULL) AND NOT EXISTS
	(SELECT 1 FROM outbox w WHERE w.collection = o.collection AND w.record = o.record AND w.state = 'waiting'
		AND w.number < o.number AND o.kind <> 'add')`

// nextOpen gives the changes that go next: those of batches that got no answer before the others, each in their order. It is three
// questions, of which each looks at no more changes than it gives, since an outbox may be long.
const nextOpen = `SELECT * FROM (
	SELECT * FROM (SELECT * FROM outbox o WHERE o.batch IS NOT NULL AND ` + mayGo + ` ORDER BY coalesce(o.place, o.number) LIMIT ?1)
	UNION ALL
	SELECT * FROM (SELECT * FROM outbox o WHERE o.batch IS NULL AND o.place IS NULL AND ` + mayGo + ` ORDER BY o.number LIMIT ?1)
	UNION ALL
	SELECT * FROM (SELECT * FROM outbox o WHERE o.batch IS NULL AND o.place IS NOT NULL AND ` + mayGo + ` ORDER BY o.place LIMIT ?1)
	) ORDER BY batch IS NULL, coalesce(place, number) LIMIT ?1`

// nextBatch gives the batch to send next: one that got no answer, or a new one. That a change belongs to a batch is
// on the disk before the batch leaves.
func (e *exchange) nextBatch(ctx context.Context, most int) (id uuid.UUID, changes []file.Entry, err error) {
	if open, err := e.open(ctx); err != nil || !open {
		return id, nil, err
	}
	err = e.within(ctx, func(tx *sqlx.Tx) error {
		var open []file.Entry
		if err := tx.SelectContext(ctx, &open, nextOpen, most+save.MaxGroup); err != nil {
			return err
		}
		changes = cutBatch(open, most, e.maxBytes/2)
		switch {
		case len(changes) == 0:
			return nil
		case changes[0].Batch != nil:
			id, err = uuid.Parse(*changes[0].Batch)
			return err
		}
		id = e.NewID()
		numbers := make([]int64, len(changes))
		for n, q := range changes {
			numbers[n] = q.Number
		}
		text, err := json.Marshal(numbers)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE outbox SET batch = ?, state = ? WHERE number IN (SELECT value
				FROM json_each(?))`, id.String(), file.IsSent, string(text))
		return err
	})
	return id, changes, err
}

// cutBatch takes from the front of the outbox what goes as one batch: at most so many changes and bytes, all of one
// origin, and no part of a group. What was sent as a batch before goes as that batch again.
func cutBatch(open []file.Entry, most, bytes int) []file.Entry {
	size, whole := 0, 0
	for n, q := range open {
		first := open[0]
		if !same(q.Batch, first.Batch) || q.Origin != first.Origin || q.Generation != first.Generation {
			return open[:n]
		}
		size += len(q.Fields) + base64.StdEncoding.EncodedLen(len(q.Sealed)) + perChange
		ends := q.Group == "" || n+1 == len(open) || open[n+1].Group != q.Group
		if full := n+1 > most || size > bytes; full && whole > 0 {
			return open[:whole]
		} else if ends {
			if whole = n + 1; full {
				return open[:whole]
			}
		}
	}
	return open
}

// perChange is about what a change weighs besides its fields, in bytes.
const perChange = 300

func same(a, b *string) bool { return a == nil && b == nil || a != nil && b != nil && *a == *b }

// batchSize is how many changes a batch carries at most: as many as went through last, or as many as there may be.
func (e *exchange) batchSize(ctx context.Context, largest int) (int, error) {
	text, err := file.Fact(ctx, e.DB, file.FactBatch)
	if err != nil {
		return 0, file.StoreError(err)
	}
	if n, err := strconv.Atoi(text); err == nil && n > 0 {
		return min(n, largest), nil
	}
	return largest, nil
}

// tooSlow says whether a batch took longer than the link, or something on the way, has patience for.
func tooSlow(err error) bool {
	var problem *link.Problem
	if errors.As(err, &problem) {
		return problem.Status == http.StatusGatewayTimeout || problem.Status == http.StatusRequestTimeout
	}
	return errors.Is(err, link.ErrSlow)
}

// resize takes a batch apart, and keeps how large the next ones are to be, for later exchanges, too.
func (e *exchange) resize(ctx context.Context, batch uuid.UUID, most int) error {
	return e.within(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE outbox SET batch = NULL WHERE batch = ? AND state = ?`, batch.String(),
			file.IsSent); err != nil {
			return err
		}
		return file.SetFact(ctx, tx, file.FactBatch, strconv.Itoa(most))
	})
}

// batch is what a batch says.
func (e *exchange) batch(ctx context.Context, id uuid.UUID, changes []file.Entry) (wire.Batch, error) {
	batch := wire.Batch{ID: id, Exchange: e.summary.Exchange, Incarnation: changes[0].Source(e.incarnation),
		Generation: e.generation, Clock: e.clock()}
	if earlier, err := uuid.Parse(changes[0].Generation); err == nil {
		batch.Generation = earlier
	}
	for _, q := range changes {
		text, err := e.written(ctx, q)
		if err != nil {
			return batch, err
		}
		batch.Changes = append(batch.Changes, text)
	}
	return batch, nil
}

func (e *exchange) send(ctx context.Context, id uuid.UUID, changes []file.Entry) (answers wire.Answers, err error) {
	batch, err := e.batch(ctx, id, changes)
	if err != nil {
		return answers, err
	}
	return answers, e.call(ctx, http.MethodPost, "/v1/batches", batch, &answers)
}

// hearAnswers stores the answers to a batch, if they are those.
func (e *exchange) hearAnswers(ctx context.Context, id uuid.UUID, changes []file.Entry, answers wire.Answers) error {
	if answers.Batch != id || len(answers.Answers) != len(changes) {
		return fmt.Errorf(
			"central answered %d changes of batch %s, but %d of batch %s were sent; they are kept",
			len(answers.Answers),
			answers.Batch,
			len(changes),
			id,
		)
	}
	if err := e.takeAnswers(ctx, changes, answers); err != nil {
		return err
	}
	if err := e.renew(ctx); err != nil { // something may go under another source now
		return err
	}
	e.summary.Sent += len(changes)
	return nil
}

// written is a change as a batch carries it.
func (e *exchange) written(ctx context.Context, q file.Entry) ([]byte, error) {
	turned := e.Turned(q, e.offset).Milliseconds()
	unsure, err := e.unsure(ctx, e.DB, q)
	if err != nil {
		return nil, err
	}
	if q.Aside() {
		return json.Marshal(wire.Sealed{Number: q.Number, Sealed: q.Sealed, TurnedMS: turned, UnsureMS: unsure.Milliseconds()})
	}
	ch, err := q.Change()
	if err != nil {
		return nil, err
	}
	ch.TurnedMS, ch.UnsureMS = turned, unsure.Milliseconds()
	return json.Marshal(ch)
}

// takeAnswers stores the answers to a batch and their effect in one transaction.
func (e *exchange) takeAnswers(ctx context.Context, changes []file.Entry, answers wire.Answers) error {
	return e.within(ctx, func(tx *sqlx.Tx) error {
		highest := int64(0)
		anew, others := map[string]bool{}, map[int64]bool{} // groups of which a number is another's, and these numbers
		for n, q := range changes {
			if !isAnothers(q, answers.Answers[n]) || e.others[q.Number] == mostPartings {
				continue
			}
			if err := e.isOurs(ctx, tx, q); err != nil {
				return err
			}
			anew[q.Group], others[q.Number] = q.Group != "", true
		}
		gone, err := e.letGoOfSent(ctx, tx, changes, answers.Answers)
		if err != nil {
			return err
		}
		for _, n := range byRevision(answers.Answers) {
			q, answer := changes[n], answers.Answers[n]
			if others[q.Number] || anew[q.Group] {
				e.others[q.Number]++
				continue // it is answered anew
			}
			if !gone[q.Number] {
				if err := e.takeAnswer(ctx, tx, q, answer); err != nil {
					return err
				}
			}
			if err := e.noteSent(ctx, tx, q, answer); err != nil {
				return err
			}
			highest = max(highest, q.Number)
			switch answer.Answer {
			case change.Applied:
				e.summary.Applied++
			case change.Merged:
				e.summary.Merged++
			case change.Held:
				e.summary.Held++
			case change.Refused:
				e.summary.Refused++
			case change.Waiting:
				e.summary.Waiting++
			}
		}
		for _, seal := range answers.Seals {
			name, _, _ := strings.Cut(seal, ".")
			if _, err := tx.ExecContext(ctx, `UPDATE collections SET seal = ? WHERE name = ?`, seal, name); err != nil {
				return err
			}
		}
		if answers.Torn && changes[0].Origin == "" {
			// What central has under these numbers is not all from here, so none of it is left out of a pull any more.
			if err := file.SetFact(ctx, tx, file.FactCopied, "true"); err != nil {
				return err
			}
		}
		known, err := file.Fact(ctx, tx, file.FactAnswered)
		if err != nil {
			return err
		}
		if before, err := strconv.ParseInt(known, 10, 64); err == nil {
			highest = max(highest, before)
		}
		return file.SetFact(ctx, tx, file.FactAnswered, strconv.FormatInt(highest, 10))
	})
}

// letGoOfSent takes those answers of a batch by which nothing of a record is kept here any more: accepted changes of
// collections that are not kept, each the only unsent one of its record. What [exchange.takeAnswer] comes to for each of
// them is done for all at once, since what measures all day sends little else.
func (e *exchange) letGoOfSent(ctx context.Context, tx *sqlx.Tx, changes []file.Entry, answers []wire.Answer) (gone map[int64]bool, err error) {
	plain, kept := []int64{}, map[string]bool{}
	for n, q := range changes {
		if q.Aside() || q.Group != "" || !answers[n].Answer.Accepted() || answers[n].Record != nil {
			continue
		}
		if _, known := kept[q.Collection]; !known {
			c, err := e.Definition(ctx, tx, q.Collection)
			if err != nil {
				return nil, err
			}
			kept[q.Collection] = c.Sync.Keep != definition.Never
		}
		if !kept[q.Collection] {
			plain = append(plain, q.Number)
		}
	}
	if len(plain) == 0 {
		return nil, nil
	}
	text, err := json.Marshal(plain)
	if err != nil {
		return nil, err
	}
	// What a restored central has of a record is not known, and stays where it was.
	var sent []int64
	if err := tx.SelectContext(ctx, &sent, `SELECT o.number FROM json_each(?) j JOIN outbox o ON o.number = j.value
		JOIN records r ON r.collection = o.collection AND r.id = o.record WHERE r.lost = '' AND NOT EXISTS
		(SELECT 1 FROM outbox u WHERE u.collection = o.collection AND u.record = o.record AND u.number <> o.number)`, string(text)); err != nil {
		return nil, err
	}
	if text, err = json.Marshal(append([]int64{}, sent...)); err != nil {
		return nil, err
	}
	if err := e.LetGoOf(ctx, tx, `(collection, id) IN (SELECT o.collection, o.record FROM json_each(?) j JOIN outbox o ON o.number = j.value)`,
		string(text)); err != nil {
		return nil, err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE number IN (SELECT value FROM json_each(?))`, string(text)); err != nil {
		return nil, err
	}
	gone = map[int64]bool{}
	for _, number := range sent {
		gone[number] = true
	}
	return gone, nil
}

// isAnothers says whether the number of a change, under an earlier source of this store, was used by a copy of it.
func isAnothers(q file.Entry, answer wire.Answer) bool {
	return q.Origin != "" && answer.Answer == change.Refused && hasCode(answer.Reasons, change.CodeNumberReused)
}

func hasCode(reasons []change.Reason, code string) bool {
	return slices.ContainsFunc(reasons, func(r change.Reason) bool { return r.Code == code })
}

// byRevision gives the places of answers in the order in which they are to be worked: what waited for something
// further down in the batch may have become a later revision than what stands behind it.
func byRevision(answers []wire.Answer) []int {
	places := make([]int, len(answers))
	for n := range places {
		places[n] = n
	}
	slices.SortStableFunc(places, func(a, b int) int { return cmp.Compare(answers[a].Revision, answers[b].Revision) })
	return places
}

func (e *exchange) takeAnswer(ctx context.Context, tx *sqlx.Tx, q file.Entry, answer wire.Answer) error {
	if q.Aside() {
		return e.takeAside(ctx, tx, q, answer)
	}
	if !answer.Answer.Accepted() {
		reasons, err := json.Marshal(answer.Reasons)
		if err != nil {
			return err
		}
		// The change stays, with the reasons; an answer of a kind that this version does not know counts as waiting.
		now := file.IsWaiting
		if answer.Answer == change.Refused {
			now = file.IsRefused
		}
		_, err = tx.ExecContext(ctx, `UPDATE outbox SET state = ?, reasons = ? WHERE number = ?`, now, string(reasons),
			q.Number)
		return err
	}
	row, err := hold.LoadStored(ctx, tx, q.Collection, q.Record)
	if err != nil {
		return err
	}
	under, err := row.Under()
	if err != nil {
		return err
	}
	if answer.Record != nil && answer.Record.Withdrawn && (answer.Record.Revision > under.Revision || row.Lost != "") {
		row.Withdrawn = max(
			answer.Record.Revision,
			1,
		) // accepted, but not for this worker to see: it goes when nothing of it is unsent
		// Should the worker cover it again before the next pull, it must come, though this device has sent it.
		if _, err := tx.ExecContext(ctx, `UPDATE collections SET loading = 1 WHERE name = ?`, q.Collection); err != nil {
			return err
		}
	} else if answer.Record != nil && !answer.Record.Withdrawn && answer.Revision > row.Withdrawn {
		// It has come back into what the worker covers. Without the record, what is here may lack something, and it is
		// loaded again.
		row.Withdrawn = 0
	}
	// A copy of this store has sent it as part of another change, and the record does not come: what it says stands
	// under what is unsent, or an edit that was refused would say it again when it is mended.
	unseen := answer.Revision == 0 && answer.Record != nil && answer.Record.Withdrawn
	if answer.Revision > under.Revision || row.Lost != "" && answer.Record != nil || unseen {
		if under, err = e.accepted(ctx, tx, q, under, answer); err != nil {
			return err
		}
		by := []string{q.Author, row.Device, q.EditedAt}
		if answer.Record != nil && !answer.Record.Withdrawn {
			row.Lost = ""
			row.Author, row.Device, row.EditedAt, row.ReceivedAt = answer.Record.Author, answer.Record.Device,
				file.TimeText(answer.Record.EditedAt), file.TimeText(answer.Record.ReceivedAt)
			by = []string{row.Author, row.Device, row.EditedAt}
		}
		if err := row.KeepBy(by[0], by[1], by[2]); err != nil {
			return err
		}
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE number = ?`, q.Number); err != nil {
		return err
	}
	return e.Rebuild(ctx, tx, row, under)
}

// accepted is what central's record is after it took a change. Central sends the record when it is not simply the
// change upon what the device knew; otherwise the same merge gives it here.
func (e *exchange) accepted(ctx context.Context, tx *sqlx.Tx, q file.Entry, under merge.State,
	answer wire.Answer) (merge.State, error) {
	if answer.Record != nil && !answer.Record.Withdrawn {
		return stateOf(*answer.Record, under)
	}
	ch, err := q.Change()
	if err != nil {
		return under, err
	}
	c, err := e.Definition(ctx, tx, q.Collection)
	if err != nil {
		return under, err
	}
	state, _ := hold.Lay(c.Rules(), under, merge.Edit{Kind: ch.Kind, Base: ch.Base, Fields: c.CurrentNames(ch.Fields),
		Stamp: answer.Stamp, Source: change.Source{Incarnation: q.Source(e.incarnation), Number: ch.Number}, Seen: ch.Seen})
	state.Revision = max(answer.Revision, under.Revision, ch.Base+1)
	return state, nil
}

// stateOf reads a record as central sends it. A removed one comes without fields; those known before are kept under
// it, so that an unsent edit that outlives the removal shows the whole record.
func stateOf(r wire.Record, before merge.State) (merge.State, error) {
	state := merge.State{Revision: r.Revision, Removed: r.Removed, Fields: before.Fields, Marks: before.Marks}
	if r.Removed {
		state.Marks.Presence = merge.Mark{Revision: r.Revision}
		return state, nil
	}
	state.Fields, state.Marks = nil, merge.Marks{}
	if err := errors.Join(json.Unmarshal(r.Fields, &state.Fields), json.Unmarshal(r.Marks, &state.Marks)); err != nil {
		return state, fmt.Errorf("central sent a record that cannot be read (%s): %v", r.ID, err)
	}
	return state, nil
}

// unsure is by how much a change may be dated wrong beyond what this exchange has measured of the clock, since the
// machine was started anew after it was stamped and nothing tells whether its clock was turned. What was measured
// before that bounds it; where nothing was, the change was made at some time between its stamp and now. What
// is offered again has the date that central gave it, and is as unsure as that was.
func (e *exchange) unsure(ctx context.Context, r file.Runner, q file.Entry) (time.Duration, error) {
	boot, _ := e.Tick()
	switch q.Boot {
	case file.AnsweredBefore:
		return time.Duration(q.Unsure) * time.Millisecond, nil
	case boot:
		return 0, nil
	}
	then, known, err := file.Measured(ctx, r, file.FactOffsetThen)
	if err != nil {
		return 0, file.StoreError(err)
	}
	if known {
		return max((e.offset.By-then.By).Abs()+then.Error-e.offset.Error, 0), nil
	}
	stamp, err := clock.Parse(q.Stamp)
	if err != nil {
		return 0, fmt.Errorf("%w: change %d", file.ErrDamaged, q.Number)
	}
	return e.Now().Sub(stamp.Time()).Abs(), nil
}

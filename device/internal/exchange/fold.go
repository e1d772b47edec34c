package exchange

import (
	"cmp"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
	"homing/device/internal/file"
)

// fold makes one change of several unsent ones of a record, before they are sent for the first time: edits by one
// author that nobody came between, from the first value to the last. An edit is folded into a later one that sets all
// its fields again, since otherwise values would be dated later than they are; into the add of a record that nobody
// else has yet, every edit is; the one for a place and a period somebody else may have added, too. The definition may ask for every step instead. What was sent, answered or grouped
// stays as it is, and so does a removal. So does what central may have heard of already, from a store that this one
// is a copy of, or before central was restored.
func (e *exchange) fold(ctx context.Context) error {
	return e.within(ctx, func(tx *sqlx.Tx) error {
		var open []file.Entry
		if err := tx.SelectContext(ctx, &open, `SELECT * FROM outbox WHERE (collection, record) IN
			(SELECT collection, record FROM outbox WHERE (collection, record) IN (SELECT collection, id FROM records WHERE pending > 1)
				AND state = 'new' AND kept IS NULL GROUP BY collection, record HAVING count(*) > 1) ORDER BY number`); err != nil {
			return err
		}
		last := map[[2]string]*folding{} // of each record, what the next edit may be folded into
		for _, q := range open {
			at := [2]string{q.Collection, q.Record}
			before := last[at]
			ch, err := q.Change()
			if err != nil {
				return err
			}
			c, err := e.Definition(ctx, tx, q.Collection)
			if err != nil {
				return err
			}
			digest := hex.EncodeToString(ch.Digest())
			ch.Fields = c.CurrentNames(ch.Fields)
			if before != nil && c.Sync.Steps != definition.Every && before.takes(q, ch, c.Coverage == nil) {
				before.take(q, ch, digest)
				continue
			}
			if last[at] = (&folding{first: q, last: q, delta: ch.Fields, numbers: ch.Folds, seen: ch.Seen,
				digests: ch.FoldDigests, lastDigest: digest}); before != nil {
				if err := before.write(ctx, tx); err != nil {
					return err
				}
				last[at].renumber = before.first.Number != before.last.Number || before.renumber
			}
		}
		for _, at := range slices.SortedFunc(maps.Values(last),
			func(a, b *folding) int { return cmp.Compare(a.last.Number, b.last.Number) }) {
			if err := at.write(ctx, tx); err != nil {
				return err
			}
		}
		return nil
	})
}

// folding is a run of edits of one record that become one change. It has the stamp of the last, a number of its own,
// so that none of theirs ever stands for two things, and goes where the first would have gone.
type folding struct {
	first, last file.Entry
	delta       record.Delta
	numbers     []int64      // of those before the last, and of what they had folded
	digests     []string     // of these, in their order
	before      []file.Entry // those before the last
	seen        []change.Source
	lastDigest  string
	renumber    bool // it comes after one that got a new number, and numbers of a record go up
}

// takes says whether the run takes one more in. Alone says that nobody else can have added the record.
func (f *folding) takes(next file.Entry, ch change.Change, alone bool) bool {
	free := func(q file.Entry) bool {
		return q.State == file.IsNew && q.Group == "" && q.Fields != "{}" && q.Origin == "" && q.Generation == ""
	}
	if len(f.numbers)+1+len(ch.Folds) > change.MaxFolds {
		return false
	}
	for name := range f.delta {
		if _, again := ch.Fields[name]; !again && !(alone && f.first.Kind == string(change.Add)) {
			return false
		}
	}
	return free(f.last) && free(next) && f.first.Kind != string(change.Remove) && next.Kind == string(change.Edit) &&
		f.last.Base == next.Base &&
		f.last.Author == next.Author && f.last.Boot == next.Boot
}

func (f *folding) take(next file.Entry, ch change.Change, digest string) {
	f.numbers = append(append(f.numbers, f.last.Number), ch.Folds...)
	f.digests = append(append(f.digests, f.lastDigest), ch.FoldDigests...)
	f.lastDigest = digest
	f.before = append(f.before, f.last)
	delta := record.Delta{}
	for name, edit := range f.delta {
		delta[name] = edit
	}
	for name, edit := range ch.Fields {
		if before, twice := delta[name]; twice {
			edit.From = before.From
		}
		delta[name] = edit
	}
	for _, one := range ch.Seen {
		if !slices.Contains(f.seen, one) && len(f.seen) < change.MaxSeen {
			f.seen = append(f.seen, one)
		}
	}
	f.delta, f.last = delta, next
}

func (f *folding) write(ctx context.Context, tx *sqlx.Tx) error {
	if f.first.Number == f.last.Number && !f.renumber || f.last.State != file.IsNew {
		return nil
	}
	place := f.first.Number
	if f.first.Place != nil {
		place = *f.first.Place
	}
	fields, err := json.Marshal(f.delta)
	if err != nil {
		return err
	}
	folds, err := json.Marshal(append(f.numbers, f.last.Number))
	if err != nil {
		return err
	}
	digests, err := json.Marshal(append(f.digests, f.lastDigest))
	if err != nil {
		return err
	}
	parts, err := partsOf(append(f.before, f.last))
	if err != nil {
		return err
	}
	seen, err := json.Marshal(append([]change.Source{}, f.seen...))
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO outbox (collection, record, kind, base, fields, stamp, edited_at,
			author, boot, line, grp, grp_of, origin, generation, seen, folds, digests, parts, place)
		SELECT collection, record, ?, base, ?, stamp, edited_at, author, boot, line, grp, grp_of, origin, generation, ?, ?, ?, ?, ?
		FROM outbox WHERE number = ?`, f.first.Kind, string(fields), string(seen), string(folds), string(digests), parts, place, f.last.Number); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE number IN (SELECT value FROM json_each(?))`,
		string(folds)); err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, countPending, f.last.Collection, f.last.Record)
	return err
}

// part is a change as it was saved, before it was folded into another: should a copy of the store have sent it, only
// it can be told from what is new.
type part struct {
	Number   int64           `json:"number"`
	Kind     string          `json:"kind"`
	Base     int64           `json:"base"`
	Fields   json.RawMessage `json:"fields"`
	Stamp    string          `json:"stamp"`
	EditedAt string          `json:"edited_at"`
	Author   string          `json:"author"`
	Boot     string          `json:"boot"`
	Line     int64           `json:"line"`
	Seen     json.RawMessage `json:"seen"`
}

// partsOf writes changes, and what they were folded from, as the parts of another.
func partsOf(changes []file.Entry) (string, error) {
	all := []part{}
	for _, q := range changes {
		var own []part
		if err := json.Unmarshal([]byte(q.Parts), &own); err != nil {
			return "", fmt.Errorf("%w: change %d", file.ErrDamaged, q.Number)
		}
		if len(own) == 0 {
			own = []part{
				{q.Number, q.Kind, q.Base, json.RawMessage(q.Fields), q.Stamp, q.EditedAt, q.Author, q.Boot, q.Line, json.RawMessage(q.Seen)},
			}
		}
		all = append(all, own...)
	}
	text, err := json.Marshal(all)
	return string(text), err
}

// unfold puts the parts of a change back into the outbox in its place, under the source that numbered them.
func unfold(ctx context.Context, tx *sqlx.Tx, q file.Entry, origin string) error {
	var parts []part
	if err := json.Unmarshal([]byte(q.Parts), &parts); err != nil {
		return fmt.Errorf("%w: change %d", file.ErrDamaged, q.Number)
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM outbox WHERE number = ?`, q.Number); err != nil {
		return err
	}
	for _, p := range parts {
		if _, err := tx.ExecContext(ctx, `INSERT INTO outbox (number, collection, record, kind, base, fields, stamp, edited_at,
				author, boot, line, origin, generation, place, seen) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			p.Number, q.Collection, q.Record, p.Kind, p.Base, string(p.Fields), p.Stamp, p.EditedAt, p.Author, p.Boot, p.Line,
			origin, q.Generation, q.Place, string(p.Seen)); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, countPending, q.Collection, q.Record)
	return err
}

// countPending brings what a record says of its unsent changes in line with the outbox.
const countPending = `UPDATE records SET pending = (SELECT count(*) FROM outbox o
	WHERE o.collection = records.collection AND o.record = records.id) WHERE collection = ? AND id = ?`

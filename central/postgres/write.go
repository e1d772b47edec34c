package postgres

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/core/desk"
	"homing/core/record"
	"homing/wire"
)

// Answers is [changes.Loading.Answers].
func (t *Tx) Answers(ctx context.Context, incarnation uuid.UUID, numbers []int64) (map[int64]desk.Kept, bool, error) {
	var torn bool
	if err := t.QueryRowxContext(ctx, `SELECT EXISTS (SELECT FROM incarnations WHERE incarnation = $1 AND torn)`,
		incarnation).Scan(&torn); err != nil {
		return nil, false, err
	}
	var rows []desk.Kept
	err := t.SelectContext(ctx, &rows, `SELECT a.* FROM unnest($2::bigint[]) AS k (number) CROSS JOIN LATERAL (
			SELECT number, digest, answer, waits FROM answers WHERE incarnation = $1 AND number = k.number OFFSET 0) a`,
		incarnation, numbers)
	known := make(map[int64]desk.Kept, len(rows))
	for _, r := range rows {
		known[r.Number] = r
	}
	return known, torn, err
}

// HandOut is [changes.Writing.HandOut]. The collection's row stays locked until the commit, so no other transaction
// can hand out later positions and commit them first.
func (t *Tx) HandOut(ctx context.Context, collection string, count int) (head int64, err error) {
	err = t.QueryRowxContext(ctx, `
		WITH moved AS (UPDATE collections SET head = head + $2 WHERE name = $1 RETURNING head),
			noted AS (INSERT INTO heads (collection, left_at, head) SELECT $1, $3, head - $2 FROM moved
				WHERE NOT EXISTS (SELECT FROM heads WHERE collection = $1 AND left_at > $3::timestamptz - interval '1 second')
				ON CONFLICT DO NOTHING)
		SELECT head FROM moved`, collection, count, t.db.Now()).Scan(&head)
	return head, err
}

// Write is [changes.Writing.Write]. It takes few statements however many changes there are.
func (t *Tx) Write(ctx context.Context, d *desk.Decided) error {
	if err := t.writeVersions(ctx, d); err != nil {
		return err
	}
	if err := t.writeRecords(ctx, d); err != nil {
		return err
	}
	if err := t.writeComputed(ctx, d); err != nil {
		return err
	}
	if d.Torn {
		if _, err := t.ExecContext(ctx, `UPDATE incarnations SET torn = true WHERE incarnation = $1`,
			d.Origin.Incarnation); err != nil {
			return err
		}
	}
	return t.writeAnswers(ctx, d)
}

// marshal writes what is known to be writable.
func marshal(value any) string {
	text, err := json.Marshal(value)
	if err != nil {
		panic(fmt.Sprintf("%T does not marshal: %v", value, err))
	}
	return string(text)
}

func (t *Tx) writeVersions(ctx context.Context, d *desk.Decided) error {
	if len(d.Versions) == 0 {
		return nil
	}
	size := len(d.Versions)
	collections, records, kinds, authors := make([]string, size), make([]string, size), make([]string, size),
		make([]string, size)
	deltas, stamps := make([]string, size), make([]string, size)
	sent, decisions := make([]*string, size), make([]*string, size)
	revisions, positions, bases, numbers := make([]int64, size), make([]int64, size), make([]int64, size),
		make([]int64, size)
	removed := make([]bool, size)
	off := make([]int64, size)
	editedDevice, editedAt := make([]time.Time, size), make([]time.Time, size)
	for n, v := range d.Versions {
		collections[n], records[n], kinds[n] = v.Collection, v.ID.String(), string(v.Change.Kind)
		revisions[n], positions[n], bases[n], numbers[n] = v.Revision, v.Position, v.Change.Base, v.Change.Number
		deltas[n], stamps[n], authors[n], removed[n] = marshal(v.Delta), v.Stamp.String(), v.Author, v.Removed
		if asked := marshal(v.Change.Fields); len(v.Change.Fields) > 0 && asked != deltas[n] {
			sent[n] = &asked
		}
		if len(v.Decisions) > 0 {
			text := marshal(v.Decisions)
			decisions[n] = &text
		}
		editedDevice[n], editedAt[n], off[n] = v.Change.EditedAt, v.EditedAt, v.Off.Milliseconds()
	}
	_, err := t.ExecContext(ctx, `
		INSERT INTO versions (collection, record, revision, position, kind, base, delta, sent, decisions, number, stamp,
			edited_device, edited_at, author, removed, uncertainty_ms, incarnation, batch, device, received_at)
		SELECT u.*, $17, $18, $19, $20
		FROM unnest($1::text[], $2::uuid[], $3::bigint[], $4::bigint[], $5::text[], $6::bigint[], $7::json[],
			$8::json[], $9::json[],
			$10::bigint[], $11::text[], $12::timestamptz[], $13::timestamptz[], $14::text[], $15::boolean[], $16::bigint[]) u`,
		collections, records, revisions, positions, kinds, bases, deltas, sent, decisions, numbers, stamps, editedDevice,
		editedAt, authors, removed, off,
		d.Origin.Incarnation, d.Origin.Batch, d.Origin.Device, d.Origin.Received)
	return err
}

// recordColumns are what is written of records.
type recordColumns struct {
	collections, ids, fields, marks []string
	authors                         []string
	territories, left               []string // as array literals
	revisions, positions, numbers   []int64
	removed                         []bool
	edited                          []time.Time
}

func (to *recordColumns) add(v *desk.Version, r *desk.Row) {
	to.collections, to.ids = append(to.collections, v.Collection), append(to.ids, v.ID.String())
	to.fields, to.marks = append(to.fields, string(r.Fields.JSON())), append(to.marks, marshal(r.Marks))
	to.revisions, to.positions, to.numbers = append(to.revisions, r.Revision), append(to.positions, v.Position),
		append(to.numbers, v.Change.Number)
	to.territories, to.left = append(to.territories, arrayLiteral(r.Territories)), append(to.left, arrayLiteral(r.Left))
	to.authors, to.removed, to.edited = append(to.authors, v.Author), append(to.removed, r.Removed),
		append(to.edited, v.EditedAt)
}

// writeRecords inserts new records and updates old ones. A record that another transaction has added meanwhile makes
// the whole work start again.
func (t *Tx) writeRecords(ctx context.Context, d *desk.Decided) error {
	var fresh, old recordColumns
	for _, v := range d.Versions {
		switch r := d.Rows[v.Key]; {
		case !d.Changed(v): // a later change of the batch has the last word
		case r.Stored:
			old.add(v, r)
		default:
			fresh.add(v, r)
		}
	}
	const given = `unnest($1::text[], $2::uuid[], $3::bigint[], $4::bigint[], $5::boolean[], $6::json[],
		$7::json[], $8::bigint[], $9::timestamptz[],
		$10::text[], $11::text[], $12::text[])
		AS u (collection, id, revision, position, removed, fields, marks, number, edited_at, territories, left_territories, author)`
	run := func(c recordColumns, statement string) (sql.Result, error) {
		return t.ExecContext(ctx, statement, c.collections, c.ids, c.revisions, c.positions, c.removed, c.fields, c.marks,
			c.numbers, c.edited,
			c.territories, c.left, c.authors, d.Origin.Incarnation, d.Origin.Device, d.Origin.Received)
	}
	if len(fresh.ids) > 0 {
		done, err := run(fresh, `
			INSERT INTO records (collection, id, revision, position, removed, fields, marks, number, edited_at, territories,
				left_territories,
				author, incarnation, device, received_at)
			SELECT u.collection, u.id, u.revision, u.position, u.removed, u.fields, u.marks, u.number, u.edited_at,
				u.territories::text[],
				u.left_territories::text[], u.author, $13, $14, $15 FROM `+given+` ON CONFLICT (collection, id) DO NOTHING`)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n != int64(len(fresh.ids)) {
			return errors.Join(fault.ErrRaced, err)
		}
	}
	if len(old.ids) == 0 {
		return nil
	}
	_, err := run(old, `
		UPDATE records r SET revision = u.revision, position = u.position, removed = u.removed, fields = u.fields,
			marks = u.marks,
			number = u.number, edited_at = u.edited_at, author = u.author, incarnation = $13, device = $14, received_at = $15,
			again = false, territories = u.territories::text[], left_territories = u.left_territories::text[]
		FROM `+given+` WHERE r.collection = u.collection AND r.id = u.id`)
	return err
}

// writeComputed writes the computed values that have changed, of records that the batch has locked.
func (t *Tx) writeComputed(ctx context.Context, d *desk.Decided) error {
	byCollection := map[string]map[uuid.UUID]record.Fields{}
	for at := range d.Computed {
		if byCollection[at.Collection] == nil {
			byCollection[at.Collection] = map[uuid.UUID]record.Fields{}
		}
		byCollection[at.Collection][at.ID] = d.Rows[at].Computed
	}
	for name, computed := range byCollection {
		if err := t.PutComputed(ctx, name, computed); err != nil {
			return err
		}
	}
	return nil
}

// PutComputed is [changes.Defining.PutComputed].
func (t *Tx) PutComputed(ctx context.Context, collection string, computed map[uuid.UUID]record.Fields) error {
	ids, values := make([]string, 0, len(computed)), make([]string, 0, len(computed))
	for id, fields := range computed {
		ids, values = append(ids, id.String()), append(values, string(fields.JSON()))
	}
	_, err := t.ExecContext(ctx, `UPDATE records r SET computed = u.computed::json FROM unnest($2::uuid[], $3::text[]) AS u (id, computed)
		WHERE r.collection = $1 AND r.id = u.id`, collection, ids, values)
	return err
}

func (t *Tx) writeAnswers(ctx context.Context, d *desk.Decided) error {
	if len(d.Conclusions) == 0 {
		return nil
	}
	size := len(d.Conclusions)
	numbers, digests, answers, waits := make([]int64, size), make([][]byte, size), make([]string, size), make([]bool, size)
	for n, one := range d.Conclusions {
		numbers[n], digests[n], answers[n], waits[n] = one.Number, one.Digest, marshal(d.Answers[one.At]), one.Waits
		if digests[n] == nil {
			digests[n] = []byte{}
		}
	}
	done, err := t.ExecContext(ctx, `
		INSERT INTO answers (incarnation, number, digest, answer, waits)
		SELECT $1, u.* FROM unnest($2::bigint[], $3::bytea[], $4::json[], $5::boolean[]) u
		ON CONFLICT (incarnation, number) DO UPDATE SET digest = excluded.digest, answer = excluded.answer,
			waits = excluded.waits WHERE answers.waits`, d.Origin.Incarnation, numbers, digests, answers, waits)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n != int64(len(numbers)) {
		return errors.Join(fault.ErrRaced, err) // the same batch is being worked on elsewhere
	}
	return nil
}

// NoteDirect is [changes.Writing.NoteDirect].
func (t *Tx) NoteDirect(ctx context.Context, source uuid.UUID, digest []byte, answer wire.Answer) error {
	done, err := t.ExecContext(ctx, `INSERT INTO answers (incarnation, number, digest, answer) VALUES ($1, 1, $2, $3)
		ON CONFLICT DO NOTHING`, source, digest, marshal(answer))
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(fault.ErrRaced, err)
	}
	return nil
}

// arrayLiteral writes keys as PostgreSQL reads an array.
func arrayLiteral(all []string) string {
	quoted := make([]string, len(all))
	for n, key := range all {
		quoted[n] = `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(key) + `"`
	}
	return "{" + strings.Join(quoted, ",") + "}"
}

// Retag is [changes.Defining.Retag].
func (t *Tx) Retag(ctx context.Context, collection string, moved map[uuid.UUID]*desk.Row) error {
	const chunk = 1000
	ids := make([]uuid.UUID, 0, len(moved))
	for id := range moved {
		ids = append(ids, id)
	}
	slices.SortFunc(ids, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	for some := range slices.Chunk(ids, chunk) {
		now, left := make([]string, len(some)), make([]string, len(some))
		for n, id := range some {
			now[n], left[n] = arrayLiteral(moved[id].Territories), arrayLiteral(moved[id].Left)
		}
		head, err := t.HandOut(ctx, collection, len(some))
		if err != nil {
			return err
		}
		if _, err := t.ExecContext(ctx, `
			UPDATE records r SET territories = u.now::text[], left_territories = u.gone::text[],
				position = $5::bigint - cardinality($2::uuid[]) + u.n, again = true
			FROM unnest($2::uuid[], $3::text[], $4::text[]) WITH ORDINALITY AS u (id, now, gone, n)
			WHERE r.collection = $1 AND r.id = u.id`, collection, Texts(some), now, left, head); err != nil {
			return err
		}
	}
	return nil
}

// TellAgain is [changes.Defining.TellAgain].
func (t *Tx) TellAgain(ctx context.Context, collection string) error {
	_, err := t.ExecContext(ctx, `
		WITH moved AS (UPDATE collections SET head = head + (SELECT count(*)
			FROM records WHERE collection = $1) WHERE name = $1 RETURNING head),
			numbered AS (SELECT id, row_number() OVER (ORDER BY position DESC) - 1 AS n FROM records WHERE collection = $1)
		UPDATE records r SET position = (SELECT head FROM moved) - n, again = true
			FROM numbered WHERE r.collection = $1 AND r.id = numbered.id`, collection)
	return err
}

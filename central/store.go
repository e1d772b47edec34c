package central

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/merge"
	"homing/core/record"
)

func loadAnswers(ctx context.Context, tx *sqlx.Tx, incarnation uuid.UUID, items []item) (map[int64]storedAnswer, error) {
	numbers := make([]int64, 0, len(items))
	for _, it := range items {
		numbers = append(append(numbers, it.change.Number), it.change.Folds...)
	}
	var rows []storedAnswer
	err := tx.SelectContext(ctx, &rows, `SELECT number, digest, answer FROM answers WHERE incarnation = $1 AND number = ANY($2)`, incarnation, numbers)
	known := make(map[int64]storedAnswer, len(rows))
	for _, r := range rows {
		known[r.Number] = r
	}
	return known, err
}

// keysOf are the records that changes touch.
func keysOf(items []item) []key {
	var all []key
	for _, it := range items {
		if it.unreadable == nil {
			all = append(all, key{it.change.Collection, it.change.Record})
		}
	}
	return all
}

// loadRows reads records and locks them, by collection and id.
func loadRows(ctx context.Context, tx *sqlx.Tx, wanted []key) (map[key]*row, error) {
	var collections, ids []string
	for _, at := range wanted {
		if !slices.Contains(collections, at.collection) {
			collections = append(collections, at.collection)
		}
		ids = append(ids, at.id.String())
	}
	var stored []struct {
		Collection  string    `db:"collection"`
		ID          uuid.UUID `db:"id"`
		Revision    int64     `db:"revision"`
		Restored    int64     `db:"restored"`
		Removed     bool      `db:"removed"`
		Fields      []byte    `db:"fields"`
		Computed    []byte    `db:"computed"`
		Marks       []byte    `db:"marks"`
		Territories keys      `db:"territories"`
		Left        keys      `db:"left_territories"`
	}
	err := tx.SelectContext(ctx, &stored, `
		SELECT collection, id, revision, restored, removed, fields, computed, marks, array_to_json(territories) AS territories,
			array_to_json(left_territories) AS left_territories FROM records
		WHERE collection = ANY($1) AND id = ANY($2::uuid[])
		ORDER BY collection, id FOR UPDATE`, collections, ids)
	if err != nil {
		return nil, err
	}
	rows := make(map[key]*row, len(stored))
	for _, s := range stored {
		state := merge.State{Revision: s.Revision, Removed: s.Removed}
		var computed record.Fields
		if err := errors.Join(json.Unmarshal(s.Fields, &state.Fields), json.Unmarshal(s.Marks, &state.Marks), json.Unmarshal(s.Computed, &computed)); err != nil {
			return nil, fmt.Errorf("stored record %s: %w", s.ID, err)
		}
		rows[key{s.Collection, s.ID}] = &row{State: state, restored: s.Restored, computed: computed, territories: s.Territories, left: s.Left, stored: true}
	}
	return rows, nil
}

// handOutPositions numbers the accepted changes of each collection. The collection's row stays locked until the commit, so no
// other transaction can hand out later positions and commit them first.
func (d *desk) handOutPositions(ctx context.Context, tx *sqlx.Tx) error {
	byCollection := map[string][]*version{}
	for _, v := range d.versions {
		byCollection[v.collection] = append(byCollection[v.collection], v)
	}
	for _, name := range slices.Sorted(maps.Keys(byCollection)) {
		versions := byCollection[name]
		var head int64
		var defined int
		err := tx.QueryRowxContext(ctx, `UPDATE collections SET head = head + $2 WHERE name = $1 RETURNING head, version`,
			name, len(versions)).Scan(&head, &defined)
		if err != nil {
			return err
		}
		if defined != d.definitions[name].Version {
			return errRaced // the changes were checked against a definition that has just been replaced
		}
		for n, v := range versions {
			v.position = head - int64(len(versions)-1-n)
		}
	}
	return nil
}

func (d *desk) write(ctx context.Context, tx *sqlx.Tx) error {
	if err := d.writeVersions(ctx, tx); err != nil {
		return err
	}
	if err := d.writeRecords(ctx, tx); err != nil {
		return err
	}
	return d.writeAnswers(ctx, tx)
}

func (d *desk) writeVersions(ctx context.Context, tx *sqlx.Tx) error {
	if len(d.versions) == 0 {
		return nil
	}
	size := len(d.versions)
	collections, records, kinds, deltas, stamps, authors := make([]string, size), make([]string, size), make([]string, size), make([]string, size), make([]string, size), make([]string, size)
	sent, decisions := make([]*string, size), make([]*string, size)
	revisions, positions, bases, numbers := make([]int64, size), make([]int64, size), make([]int64, size), make([]int64, size)
	editedDevice, editedAt := make([]time.Time, size), make([]time.Time, size)
	for n, v := range d.versions {
		collections[n], records[n], kinds[n] = v.collection, v.id.String(), string(v.change.Kind)
		revisions[n], positions[n], bases[n], numbers[n] = v.revision, v.position, v.change.Base, v.change.Number
		deltas[n], stamps[n], authors[n] = string(marshal(v.delta)), v.stamp.String(), v.author
		if asked := string(marshal(v.change.Fields)); len(v.change.Fields) > 0 && asked != deltas[n] {
			sent[n] = &asked
		}
		if len(v.decisions) > 0 {
			text := string(marshal(v.decisions))
			decisions[n] = &text
		}
		editedDevice[n], editedAt[n] = v.change.EditedAt, v.editedAt
	}
	_, err := tx.ExecContext(ctx, `
		INSERT INTO versions (collection, record, revision, position, kind, base, delta, sent, decisions, number, stamp,
			edited_device, edited_at, author, incarnation, batch, device, uncertainty_ms, received_at)
		SELECT u.*, $15, $16, $17, $18, $19
		FROM unnest($1::text[], $2::uuid[], $3::bigint[], $4::bigint[], $5::text[], $6::bigint[], $7::json[], $8::json[], $9::json[],
			$10::bigint[], $11::text[], $12::timestamptz[], $13::timestamptz[], $14::text[]) u`,
		collections, records, revisions, positions, kinds, bases, deltas, sent, decisions, numbers, stamps, editedDevice, editedAt, authors,
		d.incarnation, d.batch, d.device, d.offset.Error.Milliseconds(), d.received)
	return err
}

// writeRecords inserts new records and updates old ones. A record that another transaction has added meanwhile makes the
// whole work start again.
func (d *desk) writeRecords(ctx context.Context, tx *sqlx.Tx) error {
	type columns struct {
		collections, ids, fields, marks []string
		authors                         []string
		territories, left               []string // as array literals
		revisions, positions, numbers   []int64
		removed                         []bool
		edited                          []time.Time
	}
	var fresh, old columns
	for _, v := range d.versions {
		r := d.rows[v.key]
		if r.last != v {
			continue // a later change of the batch has the last word
		}
		to := &fresh
		if r.stored {
			to = &old
		}
		to.collections, to.ids = append(to.collections, v.collection), append(to.ids, v.id.String())
		to.fields, to.marks = append(to.fields, string(r.Fields.JSON())), append(to.marks, string(marshal(r.Marks)))
		to.revisions, to.positions, to.numbers = append(to.revisions, r.Revision), append(to.positions, v.position), append(to.numbers, v.change.Number)
		to.territories, to.left = append(to.territories, arrayLiteral(r.territories)), append(to.left, arrayLiteral(r.left))
		to.authors = append(to.authors, v.author)
		to.removed, to.edited = append(to.removed, r.Removed), append(to.edited, v.editedAt)
	}
	const given = `unnest($1::text[], $2::uuid[], $3::bigint[], $4::bigint[], $5::boolean[], $6::json[], $7::json[], $8::bigint[], $9::timestamptz[],
		$10::text[], $11::text[], $12::text[]) AS u (collection, id, revision, position, removed, fields, marks, number, edited_at, territories, left_territories, author)`
	run := func(c columns, statement string) (sql.Result, error) {
		return tx.ExecContext(ctx, statement, c.collections, c.ids, c.revisions, c.positions, c.removed, c.fields, c.marks, c.numbers, c.edited,
			c.territories, c.left, c.authors, d.incarnation, d.device, d.received)
	}
	if len(fresh.ids) > 0 {
		done, err := run(fresh, `
			INSERT INTO records (collection, id, revision, position, removed, fields, marks, number, edited_at, territories, left_territories,
				author, incarnation, device, received_at)
			SELECT u.collection, u.id, u.revision, u.position, u.removed, u.fields, u.marks, u.number, u.edited_at, u.territories::text[],
				u.left_territories::text[], u.author, $13, $14, $15 FROM `+given+` ON CONFLICT (collection, id) DO NOTHING`)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n != int64(len(fresh.ids)) {
			return errors.Join(errRaced, err)
		}
	}
	if len(old.ids) == 0 {
		return nil
	}
	_, err := run(old, `
		UPDATE records r SET revision = u.revision, position = u.position, removed = u.removed, fields = u.fields, marks = u.marks,
			number = u.number, edited_at = u.edited_at, author = u.author, incarnation = $13, device = $14, received_at = $15,
			territories = u.territories::text[], left_territories = u.left_territories::text[]
		FROM `+given+` WHERE r.collection = u.collection AND r.id = u.id`)
	return err
}

func (d *desk) writeAnswers(ctx context.Context, tx *sqlx.Tx) error {
	if len(d.settled) == 0 {
		return nil
	}
	numbers, digests, answers := make([]int64, len(d.settled)), make([][]byte, len(d.settled)), make([]string, len(d.settled))
	for n, s := range d.settled {
		numbers[n], digests[n], answers[n] = s.number, s.digest, string(marshal(d.answers[s.answer]))
		if digests[n] == nil {
			digests[n] = []byte{}
		}
	}
	done, err := tx.ExecContext(ctx, `
		INSERT INTO answers (incarnation, number, digest, answer)
		SELECT $1, u.* FROM unnest($2::bigint[], $3::bytea[], $4::json[]) u ON CONFLICT DO NOTHING`, d.incarnation, numbers, digests, answers)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n != int64(len(numbers)) {
		return errors.Join(errRaced, err) // the same batch is being worked on elsewhere
	}
	return nil
}

// tally counts the answers by verdict.
func (d *desk) tally() map[change.Verdict]int {
	counts := map[change.Verdict]int{}
	for _, answer := range d.answers {
		counts[answer.Answer]++
	}
	return counts
}

// heads are the collections whose head has moved, and where it is.
func (d *desk) heads() map[string]int64 {
	heads := map[string]int64{}
	for _, v := range d.versions {
		heads[v.collection] = max(heads[v.collection], v.position)
	}
	return heads
}

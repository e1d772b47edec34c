package exchange

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
	"homing/core/rights"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/device/internal/save"
	"homing/wire"
)

// reconcile begins anew with a central that was restored from a backup. What central had accepted of this store, as
// far as the log goes back, is put into the outbox again, under the numbers that it had: central takes what it has
// lost, and knows what it has. Everything is loaded anew, and nothing that is here goes before central has said that
// it is not to be here; see [Store.LostRecords].
func (e *exchange) reconcile(ctx context.Context, old string) error {
	if _, err := e.BackupBefore(ctx, "central-restored"); err != nil {
		return err
	}
	return e.within(ctx, func(tx *sqlx.Tx) error {
		for _, step := range []struct {
			statement string
			args      []any
		}{
			{`UPDATE records SET lost = ?, withdrawn = 0 WHERE lost = '' AND revision > 0`, []any{old}},
			{`UPDATE outbox SET generation = ? WHERE generation = ''`, []any{old}},
			{`INSERT INTO records (collection, id, revision, removed, fields, marks, lost, author, device, edited_at, received_at)
				SELECT DISTINCT collection, record, 0, 1, '{}', '', ?1, '', '', '', ''
					FROM travelled WHERE up = 1 AND kept IS NULL AND answer IN ('applied', 'merged', 'held')
					AND true ON CONFLICT DO NOTHING`, []any{old}},
			// What has travelled twice, since a copy had used its number meanwhile, is known under the number that it got last.
			{`INSERT INTO outbox (number, collection, record, kind, base, fields, stamp, edited_at, author, origin, generation, grp,
				grp_of, seen, folds, digests, parts, kept, sealed, boot, line)
				SELECT number, collection, record, kind, base, fields, stamp, edited_at, author, origin, generation, grp, grp_of,
					seen, folds, digests, parts, kept, sealed, ?, 0
				FROM travelled WHERE rowid IN (SELECT max(rowid) FROM travelled WHERE up = 1 AND answer IN ('applied', 'merged', 'held')
					AND number NOT IN (SELECT number FROM outbox) GROUP BY number)`, []any{file.AnsweredBefore}},
			// Who has left since is listed again, so that somebody sees that theirs waits.
			{`INSERT INTO people (name, place, role, territories) SELECT DISTINCT author, (SELECT count(*) FROM people), ?, '[]'
				FROM outbox WHERE true ON CONFLICT DO NOTHING`, []any{string(rights.Worker)}},
			{`UPDATE records SET pending = (SELECT count(*) FROM outbox o WHERE o.collection = records.collection AND o.record = records.id),
				under_fields = coalesce(under_fields, fields) WHERE lost <> ''`, nil},
			{`UPDATE collections SET cursor = 0, seal = '', head = 0, loading = 1, gaining = NULL, gained = 0`, nil},
			{file.UpsertFact, []any{file.FactSeal, ""}}, // what it says was so in the generation before
			{file.UpsertFact, []any{file.FactRenewed, "true"}},
			{file.UpsertFact, []any{file.FactSettingsTold, "?"}}, // whether it has heard of the settings is not known
			{file.UpsertFact, []any{file.FactGeneration, e.generation.String()}},
		} {
			if _, err := tx.ExecContext(ctx, step.statement, step.args...); err != nil {
				return err
			}
		}
		return e.dateAgain(ctx, tx)
	})
}

// dateAgain gives the changes that are offered again the time that central once gave them.
func (e *exchange) dateAgain(ctx context.Context, tx *sqlx.Tx) error {
	var rows []struct {
		Number int64  `db:"number"`
		Dated  string `db:"dated"`
		Unsure int64  `db:"unsure"`
	}
	if err := tx.SelectContext(ctx, &rows, `SELECT o.number, max(t.dated) AS dated, max(t.unsure) AS unsure
			FROM outbox o JOIN travelled t ON t.number = o.number AND t.up = 1
				WHERE o.boot = ? GROUP BY o.number`, file.AnsweredBefore); err != nil {
		return err
	}
	for _, row := range rows {
		dated, err := clock.Parse(row.Dated)
		statement, at := `UPDATE outbox SET line = ?, unsure = ? WHERE number = ?`, dated.Millis
		if err != nil || dated.IsZero() {
			statement, at = `UPDATE outbox SET boot = '', line = ?, unsure = ? WHERE number = ?`, 0 // dated like any other
		}
		if _, err := tx.ExecContext(ctx, statement, at, row.Unsure, row.Number); err != nil {
			return err
		}
	}
	return nil
}

// pullAfterRestore loads what a restored central has before anything is offered again, so that people see that first.
func (e *exchange) pullAfterRestore(ctx context.Context) error {
	var lost bool
	if err := e.DB.GetContext(ctx, &lost, `SELECT EXISTS (SELECT 1
			FROM records WHERE lost <> '') AND EXISTS (SELECT 1 FROM collections WHERE loading)`); err != nil || !lost {
		return file.StoreError(err)
	}
	return e.pull(ctx)
}

// askLost asks central about the records of which it has not said since its restore that it has them: some were
// removed there.
func (e *exchange) askLost(ctx context.Context) error {
	const chunk = 500
	var any bool
	if err := e.DB.GetContext(ctx, &any, `SELECT EXISTS (SELECT 1 FROM records WHERE lost <> '') OR EXISTS (SELECT 1
			FROM lost_values)`); err != nil || !any {
		return file.StoreError(err)
	}
	var rows []struct{ Collection, ID string }
	if err := e.within(ctx, func(tx *sqlx.Tx) error { return e.pruneLostValues(ctx, tx) }); err != nil {
		return err
	}
	if err := e.DB.SelectContext(ctx, &rows,
		`SELECT collection, id FROM records WHERE lost <> '' ORDER BY collection, id`); err != nil || len(rows) == 0 {
		return file.StoreError(err)
	}
	byCollection := map[string][]wire.HeldRecord{}
	for _, row := range rows {
		id, err := file.ParseID(row.ID)
		if err != nil {
			return err
		}
		byCollection[row.Collection] = append(byCollection[row.Collection], wire.HeldRecord{ID: id})
	}
	for name, held := range byCollection {
		if !e.defined[name] {
			continue
		}
		for some := range slices.Chunk(held, chunk) {
			var got wire.Refreshed
			if err := e.call(ctx, http.MethodPost, "/v1/refresh/"+name, wire.Held{Records: some}, &got); err != nil {
				return err
			}
			if err := e.takeFound(ctx, name, got.Records); err != nil {
				return err
			}
		}
	}
	err := e.within(
		ctx,
		func(tx *sqlx.Tx) error { return e.LetGoOf(ctx, tx, `lost <> '' AND pending = 0 AND revision = 0`) },
	)
	return file.StoreError(err)
}

// pruneLostValues lets go of lost values that central has again, or has something later in place of.
func (e *exchange) pruneLostValues(ctx context.Context, tx *sqlx.Tx) error {
	var rows []struct{ Collection, ID, Fields, Marks, Now, NowMarks string }
	if _, err := tx.ExecContext(ctx, `UPDATE lost_values SET removed = 0 WHERE removed = 1 AND EXISTS (SELECT 1
			FROM records r WHERE r.collection = lost_values.collection AND r.id = lost_values.id AND r.removed = 0
				AND r.pending = 0)`); err != nil {
		return err
	}
	if err := tx.SelectContext(ctx, &rows, `SELECT l.collection, l.id, l.fields, l.marks, coalesce(r.under_fields,
		r.fields) AS now, r.marks AS nowmarks FROM lost_values l JOIN records r ON r.collection = l.collection AND r.id = l.id
		WHERE l.removed = 0 AND r.revision > 0`); err != nil { // of what is only offered again, central has said nothing yet
		return err
	}
	for _, row := range rows {
		var had, now record.Fields
		var marks, nowMarks merge.Marks
		if err := errors.Join(json.Unmarshal([]byte(row.Fields), &had), json.Unmarshal([]byte(row.Now), &now),
			json.Unmarshal([]byte(row.Marks), &marks), json.Unmarshal([]byte(row.NowMarks), &nowMarks)); err != nil {
			return fmt.Errorf("%w: record %s", file.ErrDamaged, row.ID)
		}
		before := len(had)
		maps.DeleteFunc(had, func(name string, value json.RawMessage) bool {
			return string(value) == string(now[name]) || nowMarks.Of(name).Stamp.Compare(marks.Of(name).Stamp) >= 0
		})
		statement, args := `UPDATE lost_values SET fields = ? WHERE collection = ? AND id = ?`,
			[]any{string(had.JSON()), row.Collection, row.ID}
		if len(had) == 0 {
			statement, args = `DELETE FROM lost_values WHERE collection = ? AND id = ?`, args[1:]
		} else if len(had) == before {
			continue
		}
		if _, err := tx.ExecContext(ctx, statement, args...); err != nil {
			return err
		}
	}
	return nil
}

func (e *exchange) takeFound(ctx context.Context, name string, records []wire.Record) error {
	return e.within(ctx, func(tx *sqlx.Tx) error { return e.layAll(ctx, tx, name, records) })
}

// keepLostValues keeps what the store had of a record when a restored central has an older state of it.
func keepLostValues(ctx context.Context, tx *sqlx.Tx, row hold.Stored, known merge.State, now wire.Record) error {
	if known.Revision <= now.Revision || known.Removed || !now.Removed &&
		string(known.Fields.JSON()) == string(now.Fields) {
		return nil
	}
	_, err := tx.ExecContext(
		ctx,
		`INSERT INTO lost_values (collection, id, revision, fields, marks, removed) VALUES (?, ?, ?, ?,
		?, ?) ON CONFLICT (collection, id) DO UPDATE
		SET revision = excluded.revision, fields = excluded.fields, marks = excluded.marks,
			removed = excluded.removed WHERE lost_values.revision < excluded.revision`,
		row.Collection,
		row.ID,
		known.Revision,
		string(known.Fields.JSON()),
		row.Marks,
		now.Removed,
	)
	return err
}

// LostRecord is what this device has and central lost when it was restored from a backup, and nobody has offered
// again so far.
type LostRecord struct {
	Collection string       `json:"collection"`
	ID         uuid.UUID    `json:"id"`
	Label      string       `json:"label"`
	Whole      bool         `json:"whole"`     // central does not have the record at all
	Removed    bool         `json:"removed"`   // central has the record removed again, since it lost that it was brought back
	Fields     record.Delta `json:"fields"`    // from what central has to what it had
	EditedAt   time.Time    `json:"edited_at"` // the last of these edits, in central's time
}

// LostRecords is [device.Store.LostRecords].
func (s *Line) LostRecords(ctx context.Context) ([]LostRecord, error) {
	if err := s.Closed(ctx); err != nil {
		return nil, err
	}
	var whole []hold.Stored
	if err := s.DB.SelectContext(ctx, &whole,
		`SELECT `+hold.StoredColumns+` FROM records WHERE lost <> '' AND pending = 0 AND NOT removed ORDER BY collection, id`); err != nil {
		return nil, file.StoreError(err)
	}
	all := []LostRecord{}
	for _, row := range whole {
		lost, err := s.lostRecord(ctx, row, record.Fields{}, row.Fields, row.Marks)
		if err != nil {
			return nil, err
		}
		lost.Whole = true
		all = append(all, lost)
	}
	var values []struct {
		Collection, ID, Fields, Marks string
		Removed                       bool
	}
	if err := s.DB.SelectContext(ctx, &values, `SELECT collection, id, fields, marks, removed
			FROM lost_values ORDER BY collection, id`); err != nil {
		return nil, file.StoreError(err)
	}
	for _, v := range values {
		row, err := hold.LoadStored(ctx, s.DB, v.Collection, v.ID)
		if errors.Is(err, file.ErrNoRecord) && v.Removed {
			lost, err := s.lostRecord(
				ctx,
				hold.Stored{Collection: v.Collection, ID: v.ID},
				record.Fields{},
				v.Fields,
				v.Marks,
			)
			if err != nil {
				return nil, err
			}
			lost.Removed = true
			all = append(all, lost)
			continue
		}
		if err != nil || row.Removed || row.Pending > 0 {
			continue // gone since, or being changed
		}
		var had, now record.Fields
		if err := errors.Join(json.Unmarshal([]byte(v.Fields), &had), json.Unmarshal([]byte(row.Fields), &now)); err != nil {
			return nil, fmt.Errorf("%w: record %s", file.ErrDamaged, v.ID)
		}
		maps.DeleteFunc(
			now,
			func(name string, _ json.RawMessage) bool { return had[name] == nil },
		) // central has these again, or has more
		lost, err := s.lostRecord(ctx, row, now, v.Fields, v.Marks)
		if err != nil {
			return nil, err
		}
		if len(lost.Fields) > 0 {
			all = append(all, lost)
		}
	}
	return all, nil
}

func (s *Line) lostRecord(ctx context.Context, row hold.Stored, now record.Fields, then,
	marked string) (LostRecord, error) {
	var had record.Fields
	var marks merge.Marks
	if err := errors.Join(json.Unmarshal([]byte(then), &had), json.Unmarshal([]byte(marked), &marks)); err != nil {
		return LostRecord{}, fmt.Errorf("%w: record %s", file.ErrDamaged, row.ID)
	}
	c, err := s.Collection(ctx, row.Collection)
	if err != nil {
		return LostRecord{}, err
	}
	id, err := file.ParseID(row.ID)
	delta := record.Diff(now, had)
	for name := range delta {
		if field, known := c.Field(name); !known || !Settable(field) {
			delete(delta, name)
		}
	}
	edited := marks.Base.Stamp
	for name := range delta {
		if at := marks.Of(name).Stamp; at.Compare(edited) > 0 {
			edited = at
		}
	}
	return LostRecord{Collection: row.Collection, ID: id, Label: save.Label(c, id, had), Fields: delta,
		EditedAt: edited.Time()}, err
}

// lost finds what central has lost of one record.
func (s *Line) lost(ctx context.Context, collection string, id uuid.UUID) (LostRecord, error) {
	all, err := s.LostRecords(ctx)
	if err != nil {
		return LostRecord{}, err
	}
	at := slices.IndexFunc(all, func(l LostRecord) bool { return l.Collection == collection && l.ID == id })
	if at < 0 {
		return LostRecord{}, fmt.Errorf("%w: central has lost nothing of it, or has it again", file.ErrNoRecord)
	}
	return all[at], nil
}

// Settable says whether a person sets a field.
func Settable(field definition.Field) bool {
	may, _ := field.Settable()
	return may && !field.Local
}

// OfferLost is [device.Store.OfferLost].
func (s *Line) OfferLost(ctx context.Context, collection string, id uuid.UUID) error {
	lost, err := s.lost(ctx, collection, id)
	if err != nil {
		return err
	}
	if lost.Removed {
		return fmt.Errorf("%w: central has the record removed, since it lost that it was brought back; bring it back "+
			"there, exchange, and offer then what is still missing", file.ErrNotAllowed)
	}
	err = s.Saving(ctx, collection, func(tx *sqlx.Tx, _ *definition.Collection, known map[string]string) error {
		row, err := hold.LoadStored(ctx, tx, collection, id.String())
		if err != nil {
			return err
		}
		if lost.Whole {
			local := row.Local
			row = hold.Stored{Collection: collection, ID: id.String(), Fields: "{}", Computed: "{}", Local: local}
			if _, err = s.Put(ctx, tx, row, row.Revision, change.Add, lost.Fields, record.Fields{}.Apply(lost.Fields),
				known); err != nil {
				return err
			}
			return dateLast(ctx, tx, lost.EditedAt)
		}
		var before record.Fields
		if err := json.Unmarshal([]byte(row.Fields), &before); err != nil {
			return fmt.Errorf("%w: record %s", file.ErrDamaged, id)
		}
		if _, err = s.Put(ctx, tx, row, row.Revision, change.Edit, lost.Fields, before.Apply(lost.Fields),
			known); err != nil {
			return err
		}
		return dateLast(ctx, tx, lost.EditedAt)
	})
	return err
}

// dateLast gives the last change a date in central's time.
func dateLast(ctx context.Context, tx *sqlx.Tx, at time.Time) error {
	number, err := save.LastNumber(ctx, tx)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(
		ctx,
		`UPDATE outbox SET boot = ?, line = ? WHERE number = ?`,
		file.AnsweredBefore,
		at.UnixMilli(),
		number,
	)
	return err
}

// DropLost is [device.Store.DropLost].
func (s *Line) DropLost(ctx context.Context, collection string, id uuid.UUID, backup string) error {
	lost, err := s.lost(ctx, collection, id)
	if err != nil {
		return err
	}
	text, err := json.Marshal(lost)
	if err != nil {
		return err
	}
	if err := s.AppendLines(backup, [][]byte{text}); err != nil {
		return err
	}
	err = s.Within(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM lost_values WHERE collection = ? AND id = ?`, collection,
			id.String()); err != nil {
			return err
		}
		return s.LetGoOf(ctx, tx, `collection = ? AND id = ? AND lost <> '' AND pending = 0`, collection, id.String())
	})
	return err
}

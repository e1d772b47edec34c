package people

import (
	"context"
	"crypto/hpke"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/wire"
)

// aside is all that is put aside of one change.
type aside struct {
	Entry  file.Entry
	Record hold.Stored // as its author saw it
}

// partsAside stands for the parts of a change that was put aside: what they are, only its author can read.
const partsAside = "aside"

// PutAside seals what some workers have not sent, and takes it out of what the device shows: for its author, who finds
// it again when they sign in, and for central, to which any exchange brings it. Others are all but the worker who
// stays signed in; empty when nobody does.
func (s *House) PutAside(ctx context.Context, tx *sqlx.Tx, stays string) error {
	var names []string
	if err := tx.SelectContext(ctx, &names, `SELECT DISTINCT o.author FROM outbox o JOIN people p ON p.name = o.author
		WHERE o.kept IS NULL AND o.author <> ? ORDER BY o.author`, stays); err != nil {
		return err
	}
	for _, name := range names {
		if err := s.putAside(ctx, tx, name); err != nil {
			return fmt.Errorf("put aside what %s has not sent: %w", name, err)
		}
	}
	s.ForgetTexts()
	return nil
}

func (s *House) putAside(ctx context.Context, tx *sqlx.Tx, name string) error {
	forAuthor, err := sealFor(ctx, tx, name)
	if err != nil {
		return err
	}
	forCentral, err := file.FactBytes(ctx, tx, file.FactSealTo)
	if err != nil {
		return err
	}
	var open []file.Entry
	if err := tx.SelectContext(ctx, &open, `SELECT * FROM outbox WHERE author = ? AND kept IS NULL ORDER BY number`, name); err != nil {
		return err
	}
	var rows []hold.Stored
	places := map[[2]string]int{}
	var tokens []string // what stands for each record meanwhile
	for _, q := range open {
		at := [2]string{q.Collection, q.Record}
		if _, known := places[at]; !known {
			row, err := hold.LoadStored(ctx, tx, q.Collection, q.Record)
			if err != nil {
				return err
			}
			places[at], rows, tokens = len(rows), append(rows, row), append(tokens, s.NewID().String())
		}
		one := aside{Entry: q, Record: rows[places[at]]}
		if err := s.sealChange(ctx, tx, one, tokens[places[at]], forAuthor, forCentral); err != nil {
			return err
		}
	}
	for _, row := range rows {
		if err := s.showWithout(ctx, tx, row, name, forAuthor); err != nil {
			return err
		}
	}
	// What was refused stands in the log, too.
	_, err = tx.ExecContext(ctx, `UPDATE travelled SET fields = '{}', parts = '[]'
		WHERE up = 1 AND author = ? AND answer = ?`, name, string(change.Refused))
	return err
}

// sealChange leaves of a change in the outbox only what it takes to deliver it.
func (s *House) sealChange(ctx context.Context, tx *sqlx.Tx, one aside, token string, forAuthor, forCentral []byte) error {
	q := one.Entry
	text, err := json.Marshal(one)
	if err != nil {
		return err
	}
	kept, err := wire.SealFor(forAuthor, asideInfo, text)
	if err != nil {
		return err
	}
	var sealed []byte // none while the store has not met a central that announces a key: it goes when its author is back
	if forCentral != nil {
		ch, err := q.Change()
		if err != nil {
			return err
		}
		if text, err = json.Marshal(ch); err != nil {
			return err
		}
		if sealed, err = wire.SealChange(forCentral, text); err != nil {
			return err
		}
	}
	parts := q.Parts
	if parts != "[]" {
		parts = partsAside
	}
	_, err = tx.ExecContext(ctx, `UPDATE outbox SET collection = '', record = ?, kind = '', base = 0, fields = '{}', seen = '[]', folds = '[]',
		digests = '[]', parts = ?, batch = NULL, kept = ?, sealed = ?, told = NULL,
		reasons = CASE WHEN EXISTS (SELECT 1 FROM json_each(reasons) r WHERE r.value->>'code' = ?) THEN reasons END
		WHERE number = ?`, token, parts, kept, file.Blob(sealed), change.CodeNumberReused, q.Number)
	return err
}

// showWithout shows a record as it is for others than the author of what was put aside of it.
func (s *House) showWithout(ctx context.Context, tx *sqlx.Tx, row hold.Stored, name string, forAuthor []byte) error {
	under, err := row.Under()
	if err != nil {
		return err
	}
	if err := s.LayOver(ctx, tx, row, under); err != nil {
		return err
	}
	_, err = hold.LoadStored(ctx, tx, row.Collection, row.ID)
	switch {
	case err == nil, errors.Is(err, file.ErrNoRecord) && row.Local == "{}":
		return nil
	case !errors.Is(err, file.ErrNoRecord):
		return err
	}
	// Nothing of it is left here but what never leaves this device.
	text, err := json.Marshal(hold.Stored{Collection: row.Collection, ID: row.ID, Local: row.Local})
	if err != nil {
		return err
	}
	kept, err := wire.SealFor(forAuthor, asideInfo, text)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO kept_local (author, kept) VALUES (?, ?)`, name, kept)
	return err
}

// keyring are the private keys of a worker that their secret opens.
type keyring []hpke.PrivateKey

func (r keyring) open(sealed []byte, into any) (opened bool, err error) {
	for _, private := range r {
		if text, err := wire.OpenSealed(private, asideInfo, sealed); err == nil {
			return true, json.Unmarshal(text, into)
		}
	}
	return false, nil
}

// takeUp puts what was put aside for a worker back into the outbox and over the records. What was sealed before they
// forgot a PIN stays as it is, and is still delivered.
func (s *House) takeUp(ctx context.Context, tx *sqlx.Tx, name string, keys keyring) error {
	var closed []file.Entry
	if err := tx.SelectContext(ctx, &closed, `SELECT * FROM outbox WHERE author = ? AND kept IS NOT NULL ORDER BY number`, name); err != nil {
		return err
	}
	var rows []hold.Stored
	seen := map[[2]string]bool{}
	for _, q := range closed {
		var one aside
		opened, err := keys.open(q.Kept, &one)
		if err != nil {
			return err
		}
		if !opened {
			continue
		}
		was, reasons := one.Entry, one.Entry.Reasons
		if q.Told != nil {
			var told json.RawMessage
			if opened, err := keys.open(q.Told, &told); err != nil || !opened {
				return errors.Join(err, fmt.Errorf("%w: change %d", file.ErrDamaged, q.Number))
			}
			text := string(told)
			reasons = &text
		}
		if _, err := tx.ExecContext(ctx, `UPDATE outbox SET collection = ?, record = ?, kind = ?, base = ?, fields = ?, seen = ?, folds = ?, digests = ?,
			parts = ?, reasons = ?, batch = NULL, kept = NULL, sealed = NULL, told = NULL WHERE number = ?`, was.Collection, was.Record,
			was.Kind, was.Base, was.Fields, was.Seen, was.Folds, was.Digests, was.Parts, reasons, q.Number); err != nil {
			return err
		}
		if at := [2]string{was.Collection, was.Record}; !seen[at] {
			seen[at], rows = true, append(rows, one.Record)
		}
	}
	for _, row := range rows {
		if err := s.showAgain(ctx, tx, row); err != nil {
			return err
		}
	}
	return s.takeUpLocal(ctx, tx, name, keys)
}

// showAgain lays what was taken up of a record over how it is now. What is no longer here since then is shown as its
// author last saw it, until its changes are answered.
func (s *House) showAgain(ctx context.Context, tx *sqlx.Tx, was hold.Stored) error {
	row, err := hold.LoadStored(ctx, tx, was.Collection, was.ID)
	if errors.Is(err, file.ErrNoRecord) {
		row = was
		row.Withdrawn = max(was.Withdrawn, was.Revision)
	} else if err != nil {
		return err
	} else if row.Local == "{}" {
		row.Local = was.Local
	}
	under, err := row.Under()
	if err != nil {
		return err
	}
	return s.LayOver(ctx, tx, row, under)
}

func (s *House) takeUpLocal(ctx context.Context, tx *sqlx.Tx, name string, keys keyring) error {
	var rows []struct {
		At   int64  `db:"rowid"`
		Kept []byte `db:"kept"`
	}
	if err := tx.SelectContext(ctx, &rows, `SELECT rowid, kept FROM kept_local WHERE author = ?`, name); err != nil {
		return err
	}
	for _, one := range rows {
		var was hold.Stored
		if opened, err := keys.open(one.Kept, &was); err != nil {
			return err
		} else if !opened {
			continue // as above
		}
		row, err := hold.LoadStored(ctx, tx, was.Collection, was.ID)
		if errors.Is(err, file.ErrNoRecord) {
			continue // it may come back
		}
		if err != nil {
			return err
		}
		if row.Local == "{}" {
			row.Local = was.Local
			if err := errors.Join(s.WriteStored(ctx, tx, row), s.Note(tx, row.Collection, row.ID, row.Removed)); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM kept_local WHERE rowid = ?`, one.At); err != nil {
			return err
		}
	}
	return nil
}

// TellAside keeps why a change that was put aside was refused, or waits, so that its author alone can read it.
func (s *House) TellAside(ctx context.Context, tx *sqlx.Tx, author string, reasons []change.Reason) ([]byte, error) {
	text, err := json.Marshal(reasons)
	if err != nil {
		return nil, err
	}
	public, err := sealFor(ctx, tx, author)
	if err != nil {
		return nil, err
	}
	return wire.SealFor(public, asideInfo, text)
}

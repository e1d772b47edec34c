package people

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"homing/core/rights"
	"homing/device/internal/file"
	"homing/wire"
)

// Worker is one of the people who may use this device.
type Worker struct {
	Name     string      `json:"name"`
	Role     rights.Role `json:"role"`
	Secret   bool        `json:"secret"` // a PIN or password is set
	SignedIn bool        `json:"signed_in"`
	Unsent   int         `json:"unsent"` // changes of theirs that central has not accepted
}

// People is [device.Store.People].
func (s *House) People(ctx context.Context) ([]Worker, error) {
	var rows []struct {
		Name   string `db:"name"`
		Role   string `db:"role"`
		Secret bool   `db:"secret"`
		Unsent int    `db:"unsent"`
	}
	err := s.DB.SelectContext(ctx, &rows, `
		SELECT name, role, secret <> '' AS secret, (SELECT count(*) FROM outbox o WHERE o.author = p.name) AS unsent
			FROM people p ORDER BY place, name`)
	if err != nil {
		return nil, file.StoreError(err)
	}
	now, err := file.Fact(ctx, s.DB, file.FactWorker)
	if err != nil {
		return nil, file.StoreError(err)
	}
	all := make([]Worker, len(rows))
	for n, row := range rows {
		all[n] = Worker{row.Name, rights.Role(row.Role), row.Secret, row.Name == now, row.Unsent}
	}
	return all, nil
}

// TakePeople stores who may use the device now and what they hold, as central says. Somebody who may no longer use it
// goes, unless changes of theirs are unsent; if they are signed in, they are signed out.
func (s *House) TakePeople(ctx context.Context, tx *sqlx.Tx, definitions wire.Definitions) error {
	held, err := json.Marshal(append([]string{}, definitions.Territories...))
	if err != nil {
		return err
	}
	for name, value := range map[string]string{file.FactHeld: string(held), file.FactSight: definitions.Sight,
		file.FactSealTo: file.BytesText(definitions.SealTo)} {
		if err := file.SetFact(ctx, tx, name, value); err != nil {
			return err
		}
	}
	worker, err := file.Fact(ctx, tx, file.FactWorker)
	if err != nil {
		return err
	}
	names := []string{}
	still := worker == ""
	for place, who := range definitions.People {
		names, still = append(names, who.Name), still || who.Name == worker
		territories, err := json.Marshal(append([]string{}, who.Territories...))
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO people (name, place, role, territories) VALUES (?, ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET place = excluded.place, role = excluded.role, territories = excluded.territories`,
			who.Name, place, string(who.Role), string(territories)); err != nil {
			return err
		}
	}
	known, err := json.Marshal(names)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM people WHERE name NOT IN (SELECT value
			FROM json_each(?)) AND name NOT IN (SELECT author FROM outbox)`, string(known)); err != nil {
		return err
	}
	if !still {
		worker = ""
	}
	return s.Become(ctx, tx, worker)
}

// Become makes somebody the one who is signed in; an empty name nobody. What others have not sent is put aside.
func (s *House) Become(ctx context.Context, tx *sqlx.Tx, name string) error {
	var who struct {
		Role        string `db:"role"`
		Territories string `db:"territories"`
	}
	if name != "" {
		if err := tx.GetContext(ctx, &who, `SELECT role, territories FROM people WHERE name = ?`, name); err != nil {
			return err
		}
		if err := s.switchSource(ctx, tx, name); err != nil {
			return err
		}
	}
	if before, err := file.Fact(ctx, tx, file.FactWorker); err != nil {
		return err
	} else if before != name {
		s.Hub.Note(tx, file.Changed{Missed: true})
	}
	if err := s.PutAside(ctx, tx, name); err != nil {
		return err
	}
	for fact, value := range map[string]string{file.FactWorker: name, file.FactRole: who.Role, file.FactTerritories: who.Territories} {
		if err := file.SetFact(ctx, tx, fact, value); err != nil {
			return err
		}
	}
	return nil
}

// Bounds on PINs and passwords.
const (
	leastSecret = 4 // characters
	freeTries   = 3 // wrong ones in a row before waiting begins
	firstWait   = 15 * time.Second
	longestLock = time.Hour
)

// CheckSecret refuses a PIN or password that is too short.
func CheckSecret(secret string) error {
	if len([]rune(secret)) < leastSecret {
		return fmt.Errorf("the PIN or password is too short; take at least %d characters", leastSecret)
	}
	return nil
}

// SetSecret is [device.Store.SetSecret].
func (s *House) SetSecret(ctx context.Context, old, secret string) error {
	if err := CheckSecret(secret); err != nil {
		return err
	}
	worker, err := file.Fact(ctx, s.DB, file.FactWorker)
	if err != nil {
		return file.StoreError(err)
	}
	if worker == "" {
		return file.ErrSignedOut
	}
	was, err := s.prove(ctx, worker, old)
	if err != nil {
		return err
	}
	keys, err := keysOf(ctx, s.DB, worker)
	if err != nil {
		return file.StoreError(err)
	}
	now := newSecret(secret)
	if keys, err = relock(keys, was, now); err != nil {
		return err
	}
	return s.Within(ctx, func(tx *sqlx.Tx) error {
		if err := setKeys(ctx, tx, worker, keys); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE people SET secret = ? WHERE name = ?`, now.stored(), worker)
		return err
	})
}

// Joined gives a worker a PIN or password, in place of one that they may have forgotten, and signs them in. What was put
// aside under another before stays sealed for the keys of that time.
func (s *House) Joined(ctx context.Context, tx *sqlx.Tx, name, secret string) error {
	keys, err := keysOf(ctx, tx, name)
	if err != nil {
		return err
	}
	now := newSecret(secret)
	first, err := newKey(now)
	if err != nil {
		return err
	}
	if err := setKeys(ctx, tx, name, append([]key{first}, keys...)); err != nil {
		return err
	}
	if _, err = tx.ExecContext(ctx, `UPDATE people SET secret = ?, tries = 0, tried_at = NULL WHERE name = ?`, now.stored(),
		name); err != nil {
		return err
	}
	if err := s.Become(ctx, tx, name); err != nil {
		return err
	}
	return s.takeUp(ctx, tx, name, openAll(keys, now))
}

// openAll gives the private keys that a secret opens.
func openAll(locked []key, with secret) (keys keyring) {
	for _, k := range locked {
		if private, opened := k.open(with); opened {
			keys = append(keys, private)
		}
	}
	return keys
}

// SignIn is [device.Store.SignIn].
func (s *House) SignIn(ctx context.Context, name, secret string) error {
	name = strings.ToLower(strings.TrimSpace(name))
	with, err := s.prove(ctx, name, secret)
	if err != nil {
		return err
	}
	locked, err := keysOf(ctx, s.DB, name)
	if err != nil {
		return file.StoreError(err)
	}
	keys := openAll(locked, with)
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := s.MayLeave(ctx, tx, name); err != nil {
			return err
		}
		if err := s.Become(ctx, tx, name); err != nil {
			return err
		}
		return s.takeUp(ctx, tx, name, keys)
	})
}

// change lets somebody else use the device. What is put aside by it is no longer in the file as it was.
func (s *House) change(ctx context.Context, work func(*sqlx.Tx) error) error {
	unlock, err := s.LockSoon(ctx)
	if err != nil {
		return err
	}
	defer unlock()
	if err := s.Within(ctx, work); err != nil {
		return err
	}
	return s.Overwrite(ctx)
}

// MayLeave refuses to let whoever is signed in be followed by somebody else while anybody could sign in as them.
func (s *House) MayLeave(ctx context.Context, r file.Runner, next string) error {
	var bare []string
	if err := r.SelectContext(ctx, &bare, `SELECT name FROM people WHERE secret = '' AND name <> ?
		AND name = (SELECT value FROM facts WHERE name = ?)`, next, file.FactWorker); err != nil || len(bare) == 0 {
		return file.StoreError(err)
	}
	return fmt.Errorf("%s has no PIN or password yet; set one first, so that nobody else can sign in as %[1]s", bare[0])
}

// SignOut is [device.Store.SignOut].
func (s *House) SignOut(ctx context.Context) (unsent int, err error) {
	people, err := s.People(ctx)
	if err != nil {
		return 0, err
	}
	for _, who := range people {
		if !who.SignedIn {
			continue
		}
		if err := s.MayLeave(ctx, s.DB, ""); err != nil {
			return 0, err
		}
		return who.Unsent, s.change(ctx, func(tx *sqlx.Tx) error { return s.Become(ctx, tx, "") })
	}
	return 0, file.ErrSignedOut
}

// prove checks a worker's PIN or password. After a few wrong tries each further one has to wait, longer every time;
// the tries are counted in the store, so that opening it anew does not help.
func (s *House) prove(ctx context.Context, name, text string) (with secret, err error) {
	var right bool
	err = s.Within(ctx, func(tx *sqlx.Tx) error {
		var row struct {
			Secret string  `db:"secret"`
			Place  int     `db:"place"`
			Tries  int     `db:"tries"`
			Tried  *string `db:"tried_at"`
		}
		err := tx.GetContext(ctx, &row, `SELECT secret, place, tries, tried_at FROM people WHERE name = ?`, name)
		if errors.Is(err, sql.ErrNoRows) {
			return fmt.Errorf("%w: %s; with an enrolment code of theirs, they can join it", file.ErrNobody, name)
		}
		if err == nil && row.Secret == "" && row.Place > 0 {
			// They joined with a secret, which a backup from before does not have.
			return fmt.Errorf("%w any more: this store has no PIN or password of %s, as after a restore; with an enrolment code of "+
				"theirs, they can join it again", file.ErrNobody, name)
		}
		if err != nil || row.Secret == "" {
			right = err == nil
			return err
		}
		now, err := s.Latest(ctx, tx)
		if err != nil {
			return err
		}
		if row.Tried != nil && row.Tries >= freeTries {
			last := file.ParseTime(*row.Tried)
			wait := min(firstWait<<min(row.Tries-freeTries, 20), longestLock)
			if now.Before(last) {
				now = last // the clock was turned back
			}
			if left := wait - now.Sub(last); left > 0 {
				return fmt.Errorf("%w: %d in a row; wait %s", file.ErrSlowDown, row.Tries, left.Round(time.Second))
			}
		}
		if with, right = recognise(row.Secret, text); right {
			_, err = tx.ExecContext(ctx, `UPDATE people SET tries = 0, tried_at = NULL WHERE name = ?`, name)
		} else {
			_, err = tx.ExecContext(ctx, `UPDATE people SET tries = tries + 1, tried_at = ? WHERE name = ?`, file.TimeText(now), name)
		}
		return err // the count of tries is kept even when this one was wrong
	})
	if err == nil && !right {
		err = file.ErrSecret
	}
	return with, err
}

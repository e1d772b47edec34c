package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
	"golang.org/x/crypto/argon2"

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
func TakePeople(ctx context.Context, tx *sqlx.Tx, definitions wire.Definitions) error {
	held, err := json.Marshal(append([]string{}, definitions.Territories...))
	if err != nil {
		return err
	}
	for name, value := range map[string]string{file.FactHeld: string(held), file.FactSight: definitions.Sight} {
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
	return Become(ctx, tx, worker)
}

// Become makes somebody the one who is signed in; an empty name nobody.
func Become(ctx context.Context, tx *sqlx.Tx, name string) error {
	var who struct {
		Role        string `db:"role"`
		Territories string `db:"territories"`
	}
	if name != "" {
		if err := tx.GetContext(ctx, &who, `SELECT role, territories FROM people WHERE name = ?`, name); err != nil {
			return err
		}
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
	if err := s.prove(ctx, worker, old); err != nil {
		return err
	}
	_, err = s.DB.ExecContext(ctx, `UPDATE people SET secret = ? WHERE name = ?`, HashSecret(secret), worker)
	return file.StoreError(err)
}

// SignIn is [device.Store.SignIn].
func (s *House) SignIn(ctx context.Context, name, secret string) error {
	name = strings.ToLower(strings.TrimSpace(name))
	if err := s.prove(ctx, name, secret); err != nil {
		return err
	}
	return s.Within(ctx, func(tx *sqlx.Tx) error { return Become(ctx, tx, name) })
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
		if !who.Secret {
			return 0, fmt.Errorf("%s has no PIN or password yet; set one first, so that nobody else can sign in as %[1]s",
				who.Name)
		}
		return who.Unsent, s.Within(ctx, func(tx *sqlx.Tx) error { return Become(ctx, tx, "") })
	}
	return 0, file.ErrSignedOut
}

// prove checks a worker's PIN or password. After a few wrong tries each further one has to wait, longer every time;
// the tries are counted in the store, so that opening it anew does not help.
func (s *House) prove(ctx context.Context, name, secret string) error {
	var right bool
	err := s.Within(ctx, func(tx *sqlx.Tx) error {
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
		if right = matches(row.Secret, secret); right {
			_, err = tx.ExecContext(ctx, `UPDATE people SET tries = 0, tried_at = NULL WHERE name = ?`, name)
		} else {
			_, err = tx.ExecContext(ctx, `UPDATE people SET tries = tries + 1, tried_at = ? WHERE name = ?`, file.TimeText(now), name)
		}
		return err // the count of tries is kept even when this one was wrong
	})
	if err == nil && !right {
		return file.ErrSecret
	}
	return err
}

// HashSecret is argon2id with the cost of a store's passphrase, and a salt of its own.
func HashSecret(secret string) string {
	salt := make([]byte, file.SealSalt)
	rand.Read(salt)
	return hex.EncodeToString(salt) + " " + hex.EncodeToString(argon2.IDKey([]byte(secret), salt, file.SealTime, file.SealMemory,
		file.SealThreads, file.SealKey))
}

func matches(hash, secret string) bool {
	saltText, keyText, _ := strings.Cut(hash, " ")
	salt, err := hex.DecodeString(saltText)
	if err != nil {
		return false
	}
	key, err := hex.DecodeString(keyText)
	if err != nil {
		return false
	}
	return subtle.ConstantTimeCompare(key, argon2.IDKey([]byte(secret), salt, file.SealTime, file.SealMemory, file.SealThreads,
		file.SealKey)) == 1
}

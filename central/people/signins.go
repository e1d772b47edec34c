package people

import (
	"context"
	"database/sql"
	"errors"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
)

// sessionLasts is how long a sign-in holds.
const sessionLasts = 12 * time.Hour

// SignIn checks a password and gives a token for a session.
func (c *People) SignIn(ctx context.Context, name,
	password string) (token string, who fleet.Person, expires time.Time, err error) {
	var hash string
	var shut bool
	by := fleet.ActorOf(ctx)
	err = c.db.QueryRowxContext(ctx, `SELECT name, role, password, array_to_json(territories),
			disabled_at IS NOT NULL OR removed_at IS NOT NULL OR while_open AND NOT $2 FROM workers WHERE name = $1`,
		strings.ToLower(strings.TrimSpace(name)), by.Open).Scan(&who.Name, &who.Role, &hash, (*fleet.Keys)(&who.Territories), &shut)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return "", fleet.Person{}, expires, err
	}
	if hash == "" { // nobody of that name, or somebody who has no password: it takes as long
		hash, shut = decoy, true
	}
	fits := utf8.RuneCountInString(password) <= MostPassword && passwordFits(hash, password)
	if !fits || shut {
		return "", fleet.Person{}, expires, fault.Fail(fault.Unauthenticated, "name and password do not fit together")
	}
	token, expires = newToken("ses"), c.db.Now().Add(sessionLasts)
	by.Name = who.Name
	err = c.db.Within(fleet.Acting(ctx, by), func(tx *postgres.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM sessions WHERE expires_at < $1`, c.db.Now()); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO sessions (token, id, worker, address, agent, created_at, expires_at)
				VALUES ($1, $2, $3, $4, $5, $6, $7)`, hashToken(token), uuid.Must(uuid.NewV7()), who.Name, by.Address, by.Agent,
			c.db.Now(), expires); err != nil {
			return err
		}
		return c.note(fleet.Acting(ctx, by), tx, ActSignIn, who.Name, by.Agent)
	})
	return token, who, expires, err
}

// SignOut ends the session of a token.
func (c *People) SignOut(ctx context.Context, token string) error {
	return c.endSessions(ctx, ActSignOut, `token = $1`, hashToken(token))
}

// PersonOf gives who a session's token stands for.
func (c *People) PersonOf(ctx context.Context, token string) (fleet.Person, error) {
	var who fleet.Person
	err := c.db.QueryRowxContext(ctx, `SELECT w.name, w.role, array_to_json(w.territories)
			FROM sessions s JOIN workers w ON w.name = s.worker WHERE s.token = $1 AND s.expires_at > $2
				AND w.disabled_at IS NULL AND w.removed_at IS NULL AND (NOT w.while_open OR $3)`,
		hashToken(token), c.db.Now(), fleet.ActorOf(ctx).Open).Scan(&who.Name, &who.Role, (*fleet.Keys)(&who.Territories))
	if errors.Is(err, sql.ErrNoRows) {
		return who, fault.Fail(fault.Unauthenticated, "this sign-in has ended; sign in again")
	}
	return who, err
}

// SignedIn is a sign-in that holds.
type SignedIn struct {
	ID        uuid.UUID `json:"id" db:"id" format:"uuid"`
	Worker    string    `json:"worker" db:"worker"`
	Address   string    `json:"address" db:"address" doc:"Where it came from."`
	Agent     string    `json:"agent,omitempty" db:"agent" doc:"What program or browser it says it is."`
	CreatedAt time.Time `json:"created_at" db:"created_at"`
	ExpiresAt time.Time `json:"expires_at" db:"expires_at"`
	Own       bool      `json:"own,omitempty" db:"own" doc:"The one that asks."`
}

// SignIns gives the sign-ins that hold, the latest first, of one worker only if one is named. Token is that of whoever
// asks.
func (c *People) SignIns(ctx context.Context, worker, token string) ([]SignedIn, error) {
	all := []SignedIn{}
	err := c.db.SelectContext(ctx, &all, `SELECT id, worker, address, agent, created_at, expires_at, token = $3 AS own
		FROM sessions WHERE ($1 = '' OR worker = $1) AND expires_at > $2 ORDER BY created_at DESC, id`,
		worker, c.db.Now(), hashToken(token))
	return all, err
}

// EndSignIn ends a sign-in, of one worker only if one is named.
func (c *People) EndSignIn(ctx context.Context, worker string, id uuid.UUID) error {
	return c.endSessions(ctx, ActEndSignIn, `id = $1 AND ($2 = '' OR worker = $2)`, id, worker)
}

func (c *People) endSessions(ctx context.Context, act Act, which string, args ...any) error {
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		var ended []string
		if err := tx.SelectContext(ctx, &ended, `DELETE FROM sessions WHERE `+which+` RETURNING worker`, args...); err != nil {
			return err
		}
		if len(ended) == 0 && act == ActEndSignIn {
			return fault.Fail(fault.NotFound, "there is no such sign-in; it may have ended already")
		}
		for _, worker := range ended {
			if err := c.note(ctx, tx, act, worker, ""); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	}
	return err
}

// SetPassword gives a worker another password, or none, and ends their sign-ins: then they can own devices but not
// sign in.
func (c *People) SetPassword(ctx context.Context, name, password string) error {
	return c.setPassword(ctx, name, password, "")
}

// ChangePassword gives whoever asks another password, if they know the present one, and ends their other sign-ins.
func (c *People) ChangePassword(ctx context.Context, name, token, present, next string) error {
	var hash string
	err := c.db.QueryRowxContext(ctx, `SELECT password FROM workers WHERE name = $1`, name).Scan(&hash)
	if err != nil {
		return err
	}
	if utf8.RuneCountInString(present) > MostPassword || !passwordFits(hash, present) {
		return fault.Fail(fault.NotAllowed, "the present password is another one")
	}
	if next == "" {
		return fault.Fail(fault.Invalid, "the new password is empty")
	}
	return c.setPassword(ctx, name, next, token)
}

func (c *People) setPassword(ctx context.Context, name, password, keep string) error {
	hash := ""
	if password != "" {
		if err := checkPassword(name, password); err != nil {
			return err
		}
		hash = hashPassword(password)
	}
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		if hash == "" { // the admins are locked before the worker, as everywhere
			if err := c.keepsAnAdmin(ctx, tx, name); err != nil {
				return err
			}
		}
		if _, err := c.lockWorker(ctx, tx, name); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE workers SET password = $2 WHERE name = $1`, name, hash); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM sessions WHERE worker = $1 AND token <> $2`, name,
			hashToken(keep)); err != nil {
			return err
		}
		detail := ""
		if hash == "" {
			detail = "none"
		}
		return c.note(ctx, tx, ActPassword, name, detail)
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	}
	return err
}

package people

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/rights"
)

// codeLasts is how long an enrolment code can be used, unless told otherwise.
const codeLasts = 48 * time.Hour

// IssueCode makes a one-time enrolment code for a worker. Only its hash is kept.
func (c *People) IssueCode(ctx context.Context, by fleet.Person, worker string,
	lasts time.Duration) (code string, expires time.Time, err error) {
	if worker != by.Name && !by.Role.May(rights.ManageDevices) {
		return "", expires, fault.Fail(fault.NotAllowed, "the role %s may only issue codes for its own devices", by.Role)
	}
	if lasts == 0 {
		lasts = codeLasts
	}
	if lasts < time.Minute || lasts > 30*24*time.Hour {
		return "", expires, fault.Fail(fault.Invalid, "a code lasts between a minute and 30 days, not %s", lasts)
	}
	text := rand.Text() // 26 letters and digits of base 32: 130 bits
	code = text[:4] + "-" + text[4:8] + "-" + text[8:12] + "-" + text[12:16]
	expires = c.db.Now().Add(lasts)
	err = c.db.Within(ctx, func(tx *postgres.Tx) error {
		var role rights.Role
		var shut bool
		err := tx.QueryRowxContext(ctx, `SELECT role, disabled_at IS NOT NULL FROM workers WHERE name = $1 AND removed_at IS NULL`,
			worker).Scan(&role, &shut)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return fault.Fail(fault.NotFound, "there is no worker %s", worker)
		case err != nil:
			return err
		case shut:
			return fault.Fail(fault.Clash, "%s is disabled; enable them first", worker)
		case role.Above(by.Role):
			return fault.Fail(fault.NotAllowed, "the role %s may not issue codes for the role %s, which is above it", by.Role, role)
		}
		id := uuid.Must(uuid.NewV7())
		if _, err := tx.ExecContext(ctx, `INSERT INTO codes (code, id, worker, issued_by, created_at, expires_at, while_open)
				VALUES ($1, $2, $3, $4, $5, $6, $7)`, hashToken(code), id, worker, by.Name, c.db.Now(), expires,
			fleet.ActorOf(ctx).Open); err != nil {
			return err
		}
		return c.note(ctx, tx, ActIssueCode, worker, id.String())
	})
	return code, expires, err
}

// Code is an enrolment code that can still be used. The code itself is known to whoever got it alone.
type Code struct {
	ID        uuid.UUID `json:"id" db:"id" format:"uuid"`
	Worker    string    `json:"worker" db:"worker" doc:"Who the device will belong to."`
	IssuedBy  string    `json:"issued_by" db:"issued_by"`
	CreatedAt time.Time `json:"created_at" db:"created_at"`
	ExpiresAt time.Time `json:"expires_at" db:"expires_at"`
	WhileOpen bool      `json:"while_open,omitempty" db:"while_open" doc:"Issued while central was open to everybody; enrols nothing otherwise."`
}

// Codes gives the codes that can still be used, those that end first coming first, for one worker only if one is
// named.
func (c *People) Codes(ctx context.Context, worker string) ([]Code, error) {
	all := []Code{}
	err := c.db.SelectContext(ctx, &all, `SELECT id, worker, issued_by, created_at, expires_at, while_open FROM codes
		WHERE ($1 = '' OR worker = $1) AND used_at IS NULL AND voided_at IS NULL AND expires_at > $2 ORDER BY expires_at, id`,
		worker, c.db.Now())
	return all, err
}

// VoidCode makes a code useless, one for a worker only if one is named.
func (c *People) VoidCode(ctx context.Context, worker string, id uuid.UUID) error {
	return c.db.Within(ctx, func(tx *postgres.Tx) error {
		var of string
		err := tx.QueryRowxContext(ctx, `UPDATE codes SET voided_at = $3 WHERE id = $1 AND ($2 = '' OR worker = $2)
			AND used_at IS NULL AND voided_at IS NULL RETURNING worker`, id, worker, c.db.Now()).Scan(&of)
		if errors.Is(err, sql.ErrNoRows) {
			return fault.Fail(fault.NotFound, "there is no code %s that can still be used", id)
		}
		if err != nil {
			return err
		}
		return c.note(ctx, tx, ActVoidCode, of, id.String())
	})
}

func (c *People) useCode(ctx context.Context, tx *postgres.Tx, code string) (worker string, err error) {
	var expires time.Time
	var used, voided *time.Time
	var open, shut bool
	hash := hashToken(strings.ToUpper(strings.TrimSpace(code)))
	err = tx.QueryRowxContext(ctx, `SELECT c.worker, c.expires_at, c.used_at, c.voided_at, c.while_open AND NOT $2,
			w.disabled_at IS NOT NULL OR w.removed_at IS NOT NULL OR w.while_open AND NOT $2
		FROM codes c JOIN workers w ON w.name = c.worker WHERE c.code = $1 FOR UPDATE OF c`,
		hash, fleet.ActorOf(ctx).Open).Scan(&worker, &expires, &used, &voided, &open, &shut)
	refuse := func(format string, args ...any) (string, error) {
		return "", fault.Fail(fault.Unauthenticated, "this enrolment code "+format, args...)
	}
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return refuse("is not known; check it for typing errors")
	case err != nil:
		return "", err
	case used != nil:
		return refuse("was used on %s; a code works once, ask for a new one", used.UTC().Format(time.RFC3339))
	case voided != nil:
		return refuse("was voided on %s; ask for a new one", voided.UTC().Format(time.RFC3339))
	case open:
		return refuse("was issued while central was open to everybody; ask for a new one")
	case shut:
		return refuse("is for %s, who may not work with central at present", worker)
	case c.db.Now().After(expires):
		return refuse("expired on %s; ask for a new one", expires.UTC().Format(time.RFC3339))
	}
	_, err = tx.ExecContext(ctx, `UPDATE codes SET used_at = $2 WHERE code = $1`, hash, c.db.Now())
	return worker, err
}

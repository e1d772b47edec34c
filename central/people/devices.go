package people

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/central/changes"
	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/rights"
	"homing/core/sight"
	"homing/wire"
)

// codeLasts is how long an enrolment code can be used, unless told otherwise.
const codeLasts = 48 * time.Hour

// people finds the workers of devices, whoever enrolled each first.
func (c *People) people(ctx context.Context, devices []fleet.Device) error {
	ids := make([]uuid.UUID, len(devices))
	for n, d := range devices {
		ids[n] = d.ID
	}
	var rows []struct {
		Device      uuid.UUID   `db:"device"`
		Name        string      `db:"name"`
		Role        rights.Role `db:"role"`
		Territories fleet.Keys  `db:"territories"`
	}
	err := c.db.SelectContext(ctx, &rows, `
		SELECT k.device, w.name, w.role, array_to_json(w.territories) AS territories
		FROM device_workers k JOIN workers w ON w.name = k.worker JOIN devices d ON d.id = k.device
		WHERE k.device = ANY($1::uuid[]) ORDER BY w.name <> d.worker, k.added_at, w.name`, postgres.Texts(ids))
	if err != nil {
		return err
	}
	byDevice := map[uuid.UUID]sight.Askers{}
	for _, r := range rows {
		byDevice[r.Device] = append(byDevice[r.Device], fleet.Person{Name: r.Name, Role: r.Role, Territories: r.Territories})
	}
	for n := range devices {
		devices[n].People = byDevice[devices[n].ID]
		devices[n].Territories = devices[n].People.Territories()
	}
	return nil
}

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
	var role rights.Role
	err = c.db.QueryRowxContext(ctx, `SELECT role FROM workers WHERE name = $1`, worker).Scan(&role)
	if errors.Is(err, sql.ErrNoRows) {
		return "", expires, fault.Fail(fault.NotFound, "there is no worker %s", worker)
	}
	if err != nil {
		return "", expires, err
	}
	if role.Above(by.Role) {
		return "", expires, fault.Fail(fault.NotAllowed, "the role %s may not issue codes for the role %s, which is above it", by.Role, role)
	}
	text := rand.Text() // 26 letters and digits of base 32: 130 bits
	code = text[:4] + "-" + text[4:8] + "-" + text[8:12] + "-" + text[12:16]
	expires = c.db.Now().Add(lasts)
	_, err = c.db.ExecContext(ctx, `INSERT INTO codes (code, worker, issued_by, created_at, expires_at)
			VALUES ($1, $2, $3, $4, $5)`,
		hashToken(code), worker, by.Name, c.db.Now(), expires)
	return code, expires, err
}

// Enrol makes a device of a local store. With a code it belongs to the code's worker, and the code is used up;
// without one it belongs to owner, which is only given when central is open.
func (c *People) Enrol(ctx context.Context, ask wire.Enrolment, owner string) (wire.Enrolled, error) {
	if ask.Incarnation == uuid.Nil || strings.TrimSpace(ask.Device) == "" {
		return wire.Enrolled{}, fault.Fail(fault.Invalid, "an enrolment names the device and the incarnation of its "+
			"local store")
	}
	generation, _ := c.db.Generations()
	got := wire.Enrolled{Device: uuid.Must(uuid.NewV7()), Token: newToken("dev"), Worker: owner, Generation: generation}
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		if ask.Code != "" {
			worker, err := useCode(ctx, tx, ask.Code, c.db.Now())
			if err != nil {
				return err
			}
			got.Worker = worker
		}
		if got.Worker == "" {
			return fault.Fail(fault.Unauthenticated, "an enrolment needs a one-time code; ask for one with homing devices code")
		}
		done, err := tx.ExecContext(ctx, `
			INSERT INTO devices (id, name, worker, token, incarnation, agent, enrolled_at) VALUES ($1, $2, $3, $4, $5, $6, $7)
			ON CONFLICT (incarnation) DO NOTHING`,
			got.Device, strings.TrimSpace(ask.Device), got.Worker, hashToken(got.Token), ask.Incarnation, ask.Agent, c.db.Now())
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(fault.Fail(fault.Clash, "the local store %s is enrolled already", ask.Incarnation), err)
		}
		if err := addPerson(ctx, tx, got.Device, got.Worker, c.db.Now()); err != nil {
			return err
		}
		if err := addIncarnation(ctx, tx, got.Device, ask.Incarnation, c.db.Now()); err != nil {
			return err
		}
		if ask.Former != "" {
			if err := takeOver(ctx, tx, got.Device, ask.Former, c.db.Now()); err != nil {
				return err
			}
		}
		return tx.QueryRowxContext(ctx, `SELECT role FROM workers WHERE name = $1`, got.Worker).Scan(&got.Role)
	})
	if err != nil {
		return wire.Enrolled{}, err
	}
	c.db.Announce(ctx, fleet.Event{Devices: true})
	return got, nil
}

// keepFormer keeps who the people of some devices are and what they may, before that changes: their stores may hold
// what these people saw, and may bring changes to it that were made without signal. Which says which devices.
func keepFormer(ctx context.Context, tx *postgres.Tx, now time.Time, which string, args ...any) error {
	_, err := tx.ExecContext(ctx, `
		INSERT INTO former_people (device, people, until)
		SELECT k.device, json_agg(json_build_object('name', w.name, 'role', w.role, 'territories', w.territories)), $1
			FROM device_workers k JOIN workers w ON w.name = k.worker WHERE k.device IN (`+which+`) GROUP BY k.device`,
		append([]any{now}, args...)...)
	return err
}

const devicesOfWorker = `SELECT device FROM device_workers WHERE worker = $2`

func addPerson(ctx context.Context, tx *postgres.Tx, device uuid.UUID, worker string, now time.Time) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO device_workers (device, worker, added_at) VALUES ($1, $2, $3)
			ON CONFLICT DO NOTHING`, device, worker, now)
	return err
}

func addIncarnation(ctx context.Context, tx *postgres.Tx, device, incarnation uuid.UUID, now time.Time) error {
	done, err := tx.ExecContext(ctx, `INSERT INTO incarnations (incarnation, device, since) VALUES ($1, $2, $3)
		ON CONFLICT (incarnation) DO UPDATE SET since = incarnations.since
			WHERE incarnations.device = $2`, incarnation, device, now)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(fault.Fail(fault.Clash, "the local store %s belongs to another device", incarnation), err)
	}
	return nil
}

// takeOver lets a device go on for the one that its local store was before: what that has sent or queued counts as
// the new one's, and the old one is revoked. A token that is not known, such as one from after the backup that the
// database was restored from, changes nothing.
func takeOver(ctx context.Context, tx *postgres.Tx, device uuid.UUID, token string, now time.Time) error {
	var former uuid.UUID
	err := tx.QueryRowxContext(ctx, `UPDATE devices SET revoked_at = coalesce(revoked_at, $2), may_deliver = false
			WHERE token = $1 RETURNING id`, hashToken(token), now).Scan(&former)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, statement := range []string{
		`INSERT INTO former_people (device, people, until) SELECT $1, people, until FROM former_people WHERE device = $2
			ORDER BY until, place`,
		`UPDATE incarnations SET device = $1 WHERE device = $2`,
		`INSERT INTO device_workers (device, worker, added_at) SELECT $1, worker, added_at
			FROM device_workers WHERE device = $2 ON CONFLICT DO NOTHING`,
	} {
		if _, err := tx.ExecContext(ctx, statement, device, former); err != nil {
			return err
		}
	}
	return nil
}

// Renew notes that a device's local store has a new incarnation, since it was restored from a backup. What the store
// has from before still comes under the old one, so that central knows what it has answered already.
func (c *People) Renew(ctx context.Context, device fleet.Device, incarnation uuid.UUID) error {
	if incarnation == uuid.Nil {
		return fault.Fail(fault.Invalid, "the new incarnation is missing")
	}
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		if err := addIncarnation(ctx, tx, device.ID, incarnation, c.db.Now()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE devices SET incarnation = $2 WHERE id = $1`, device.ID, incarnation)
		return err
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true})
	}
	return err
}

// Join lets a further worker use a device, with a one-time code of theirs. From then on the device gets what that
// worker covers, too.
func (c *People) Join(ctx context.Context, device fleet.Device, code string) (fleet.Person, error) {
	var who fleet.Person
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		worker, err := useCode(ctx, tx, code, c.db.Now())
		if err != nil {
			return err
		}
		if err := keepFormer(ctx, tx, c.db.Now(), `$2`, device.ID); err != nil {
			return err
		}
		if err := addPerson(ctx, tx, device.ID, worker, c.db.Now()); err != nil {
			return err
		}
		return tx.QueryRowxContext(ctx, `SELECT name, role, array_to_json(territories) FROM workers WHERE name = $1`,
			worker).Scan(&who.Name, &who.Role, (*fleet.Keys)(&who.Territories))
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true})
	}
	return who, err
}

// Leave takes a worker off a shared device. Whoever enrolled it stays.
func (c *People) Leave(ctx context.Context, device uuid.UUID, worker string) error {
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		if err := keepFormer(ctx, tx, c.db.Now(), `$2`, device); err != nil {
			return err
		}
		done, err := tx.ExecContext(ctx, `DELETE FROM device_workers k USING devices d
				WHERE d.id = k.device AND k.device = $1 AND k.worker = $2 AND d.worker <> $2`, device, worker)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(fault.Fail(fault.NotFound, "%s is not a further worker of this device; whoever enrolled it "+
				"stays until it is revoked", worker), err)
		}
		return nil
	})
	if err != nil {
		return err
	}
	c.db.Announce(ctx, fleet.Event{Devices: true})
	return nil
}

func useCode(ctx context.Context, tx *postgres.Tx, code string, now time.Time) (worker string, err error) {
	var expires time.Time
	var used *time.Time
	err = tx.QueryRowxContext(ctx, `SELECT worker, expires_at, used_at FROM codes WHERE code = $1 FOR UPDATE`,
		hashToken(strings.ToUpper(strings.TrimSpace(code)))).Scan(&worker, &expires, &used)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return "", fault.Fail(fault.Unauthenticated, "this enrolment code is not known; check it for typing errors")
	case err != nil:
		return "", err
	case used != nil:
		return "", fault.Fail(fault.Unauthenticated, "this enrolment code was used on %s; a code works once, ask for a "+
			"new one", used.UTC().Format(time.RFC3339))
	case now.After(expires):
		return "", fault.Fail(fault.Unauthenticated, "this enrolment code expired on %s; ask for a new one",
			expires.UTC().Format(time.RFC3339))
	}
	_, err = tx.ExecContext(ctx, `UPDATE codes SET used_at = $2 WHERE code = $1`,
		hashToken(strings.ToUpper(strings.TrimSpace(code))), now)
	return worker, err
}

const deviceColumns = `d.id, d.name, d.worker, w.role, d.incarnation, d.agent, d.enrolled_at, d.revoked_at, d.may_deliver,
	d.seen_at, d.offset_ms, d.error_ms, d.unsent, d.refused, d.waiting`

// DeviceOf gives the device that a token belongs to. One that was revoked comes with an error, unless it may still
// deliver and that is all it wants.
func (c *People) DeviceOf(ctx context.Context, token string, delivers bool) (fleet.Device, error) {
	devices := []fleet.Device{{}}
	err := sqlx.GetContext(ctx, c.db, &devices[0],
		`SELECT `+deviceColumns+`, 0 AS lag FROM devices d JOIN workers w ON w.name = d.worker WHERE d.token = $1`,
		hashToken(token))
	device := devices[0]
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return device, fault.Fail(fault.Unauthenticated, "this device token is not known here; enrol the device again")
	case err != nil:
		return device, err
	case device.RevokedAt != nil && !device.MayDeliver:
		return device, fault.Fail(fault.Revoked, "this device was revoked on %s; what it has not sent stays on it",
			device.RevokedAt.UTC().Format(time.RFC3339))
	case device.RevokedAt != nil && !delivers:
		return device, fault.Fail(fault.Revoked, "this device was revoked on %s; it may send what it has queued, and "+
			"gets nothing", device.RevokedAt.UTC().Format(time.RFC3339))
	}
	if err := c.db.SelectContext(ctx, &devices[0].Past, `SELECT incarnation FROM incarnations WHERE device = $1`,
		device.ID); err != nil {
		return device, err
	}
	err = c.people(ctx, devices)
	return devices[0], err
}

// Devices gives the devices, those seen last first, of one worker only if one is named.
func (c *People) Devices(ctx context.Context, worker string) ([]fleet.Device, error) {
	devices := []fleet.Device{}
	err := c.db.SelectContext(ctx, &devices, `
		SELECT `+deviceColumns+`, (SELECT coalesce(sum(c.head - coalesce(k.cursor, 0)), 0) FROM collections c
			LEFT JOIN cursors k ON k.collection = c.name AND k.device = d.id
			WHERE coalesce(c.doc->'sync'->>'direction', '') <> 'up'
				AND coalesce(c.doc->'sync'->>'keep', '') NOT IN ('on demand', 'never'))::bigint AS lag
		FROM devices d JOIN workers w ON w.name = d.worker
		WHERE $1 = '' OR d.worker = $1 ORDER BY d.seen_at DESC NULLS LAST, d.name`, worker)
	if err != nil {
		return nil, err
	}
	if err := c.people(ctx, devices); err != nil {
		return nil, err
	}
	var last []fleet.Exchange
	err = c.db.SelectContext(ctx, &last, `
		SELECT DISTINCT ON (e.device) e.*, d.name, d.worker
			FROM exchanges e JOIN devices d ON d.id = e.device ORDER BY e.device, e.last_at DESC`)
	if err != nil {
		return nil, err
	}
	byDevice := map[uuid.UUID]*fleet.Exchange{}
	for n := range last {
		byDevice[last[n].Device] = &last[n]
	}
	for n := range devices {
		devices[n].Last = byDevice[devices[n].ID]
	}
	return devices, nil
}

// Revoke takes a device's token away. It may be given back. A revoked device gets nothing more; deliver lets it send
// what it has queued.
func (c *People) Revoke(ctx context.Context, id uuid.UUID, revoke, deliver bool) error {
	var at *time.Time
	if revoke {
		now := c.db.Now()
		at = &now
	}
	done, err := c.db.ExecContext(ctx,
		`UPDATE devices SET revoked_at = CASE WHEN $2::timestamptz IS NULL THEN NULL ELSE coalesce(revoked_at, $2) END,
			may_deliver = $3 WHERE id = $1`, id, at, revoke && deliver)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(fault.Fail(fault.NotFound, "there is no device %s", id), err)
	}
	c.db.Announce(ctx, fleet.Event{Devices: true})
	return nil
}

// TakeReport keeps what a device says of itself at the end of an exchange.
func (c *People) TakeReport(ctx context.Context, from fleet.Device, report wire.Report) error {
	now := c.db.Now()
	offset := report.Clock.Offset().Believe(report.Clock.SentAt, now, changes.BelieveWithin)
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE devices SET seen_at = $2, unsent = $3, refused = $4, waiting = $5,
				offset_ms = $6, error_ms = $7 WHERE id = $1`,
			from.ID, now, report.Unsent, report.Refused, report.Waiting, offset.By.Milliseconds(),
			offset.Error.Milliseconds()); err != nil {
			return err
		}
		for _, name := range slices.Sorted(maps.Keys(report.Cursors)) {
			if _, err := tx.ExecContext(ctx, `
				INSERT INTO cursors (device, collection, cursor, pulled_at) SELECT $1::uuid, name, $3::bigint,
					$4::timestamptz FROM collections WHERE name = $2 AND $3::bigint BETWEEN 0 AND head
				ON CONFLICT (device, collection) DO UPDATE SET cursor = excluded.cursor, pulled_at = excluded.pulled_at`,
				from.ID, name, report.Cursors[name], now); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true})
	}
	return err
}

package people

import (
	"context"
	"database/sql"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode"

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

// people finds the workers of devices, whoever enrolled each first. Those who are shut out are left out; of them, it
// finds those whose changes are taken all the same.
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
		Shut        bool        `db:"shut"`
	}
	err := c.db.SelectContext(ctx, &rows, `
		SELECT k.device, w.name, w.role, array_to_json(w.territories) AS territories,
			w.disabled_at IS NOT NULL OR w.removed_at IS NOT NULL AS shut
		FROM device_workers k JOIN workers w ON w.name = k.worker JOIN devices d ON d.id = k.device
		WHERE k.device = ANY($1::uuid[]) AND (w.may_deliver OR w.disabled_at IS NULL AND w.removed_at IS NULL)
			AND (NOT w.while_open OR $2)
		ORDER BY w.name <> d.worker, k.added_at, w.name`, postgres.Texts(ids), fleet.ActorOf(ctx).Open)
	if err != nil {
		return err
	}
	active, shut := map[uuid.UUID]sight.Askers{}, map[uuid.UUID]sight.Askers{}
	for _, r := range rows {
		who, among := fleet.Person{Name: r.Name, Role: r.Role, Territories: r.Territories}, active
		if r.Shut {
			among = shut
		}
		among[r.Device] = append(among[r.Device], who)
	}
	for n := range devices {
		devices[n].People, devices[n].Deliverers = append(sight.Askers{}, active[devices[n].ID]...), shut[devices[n].ID]
		devices[n].Territories = devices[n].People.Territories()
	}
	return nil
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
			worker, err := c.useCode(ctx, tx, ask.Code)
			if err != nil {
				return err
			}
			got.Worker = worker
		}
		if got.Worker == "" {
			return fault.Fail(fault.Unauthenticated, "an enrolment needs a one-time code; ask for one with homing devices code")
		}
		done, err := tx.ExecContext(ctx, `
			INSERT INTO devices (id, name, worker, token, incarnation, agent, enrolled_at, while_open)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT (incarnation) DO NOTHING`,
			got.Device, strings.TrimSpace(ask.Device), got.Worker, hashToken(got.Token), ask.Incarnation, ask.Agent, c.db.Now(),
			fleet.ActorOf(ctx).Open)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(fault.Fail(fault.Clash, "the local store %s is enrolled already", ask.Incarnation), err)
		}
		if err := addPerson(ctx, tx, got.Device, got.Worker, c.db.Now()); err != nil {
			return err
		}
		if err := c.addIncarnation(ctx, tx, got.Device, ask.Incarnation); err != nil {
			return err
		}
		if err := c.note(actingAs(ctx, got.Worker), tx, ActEnrol, got.Device.String(), strings.TrimSpace(ask.Device)); err != nil {
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
	c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
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

// actingAs gives a context in which a worker does what is done, from where it comes.
func actingAs(ctx context.Context, worker string) context.Context {
	by := fleet.ActorOf(ctx)
	by.Name = worker
	return fleet.Acting(ctx, by)
}

// addIncarnation notes that a local store belongs to a device. Nobody has one under which central itself writes, or
// has written, or that answers were given to and that no device has: changes under it would be taken for what others
// have done.
func (c *People) addIncarnation(ctx context.Context, tx *postgres.Tx, device, incarnation uuid.UUID) error {
	var foreign bool
	if err := tx.QueryRowxContext(ctx, `SELECT EXISTS (SELECT FROM identity WHERE direct = $1)
			OR EXISTS (SELECT FROM answers WHERE incarnation = $1) AND NOT EXISTS (SELECT FROM incarnations WHERE incarnation = $1)`,
		incarnation).Scan(&foreign); err != nil {
		return err
	}
	if foreign {
		return fault.Fail(fault.Clash, "the local store %s is not one that a device can have; let it take a new incarnation",
			incarnation)
	}
	now := c.db.Now()
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
// database was restored from, changes nothing; one that was revoked takes nothing over.
func takeOver(ctx context.Context, tx *postgres.Tx, device uuid.UUID, token string, now time.Time) error {
	var former uuid.UUID
	var revoked bool
	err := tx.QueryRowxContext(ctx, `SELECT d.id, d.revoked_at IS NOT NULL OR w.disabled_at IS NOT NULL OR w.removed_at IS NOT NULL
			OR d.while_open AND NOT $2 FROM devices d JOIN workers w ON w.name = d.worker WHERE d.token = $1 FOR UPDATE OF d`,
		hashToken(token), fleet.ActorOf(ctx).Open).Scan(&former, &revoked)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil
	case err != nil:
		return err
	case revoked:
		return fault.Fail(fault.Revoked, "the device that this local store belongs to is shut out; let an admin take that back "+
			"before it is enrolled anew, so that what it has queued still counts as its own")
	}
	if _, err := tx.ExecContext(ctx, `UPDATE devices SET revoked_at = $2, may_deliver = false WHERE id = $1`, former,
		now); err != nil {
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
		if err := c.addIncarnation(ctx, tx, device.ID, incarnation); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE devices SET incarnation = $2 WHERE id = $1`, device.ID, incarnation); err != nil {
			return err
		}
		if slices.Contains(device.Past, incarnation) {
			return nil // it says again what is known
		}
		return c.note(ctx, tx, ActNewIncarnation, device.ID.String(), incarnation.String())
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	}
	return err
}

// Join lets a further worker use a device, with a one-time code of theirs. From then on the device gets what that
// worker covers, too.
func (c *People) Join(ctx context.Context, device fleet.Device, code string) (fleet.Person, error) {
	var who fleet.Person
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		worker, err := c.useCode(ctx, tx, code)
		if err != nil {
			return err
		}
		if err := keepFormer(ctx, tx, c.db.Now(), `$2`, device.ID); err != nil {
			return err
		}
		if err := addPerson(ctx, tx, device.ID, worker, c.db.Now()); err != nil {
			return err
		}
		if err := c.note(actingAs(ctx, worker), tx, ActJoin, device.ID.String(), worker); err != nil {
			return err
		}
		return tx.QueryRowxContext(ctx, `SELECT name, role, array_to_json(territories) FROM workers WHERE name = $1`,
			worker).Scan(&who.Name, &who.Role, (*fleet.Keys)(&who.Territories))
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	}
	return who, err
}

// RenameDevice calls a device otherwise. What it has sent keeps the name that it had then.
func (c *People) RenameDevice(ctx context.Context, device uuid.UUID, name string) error {
	if name = strings.TrimSpace(name); name == "" || len(name) > 80 || strings.ContainsFunc(name, unicode.IsControl) {
		return fault.Fail(fault.Invalid, "%.100q cannot name a device: take 1 to 80 characters, without line breaks", name)
	}
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		var before string
		err := tx.GetContext(ctx, &before, `SELECT name FROM devices WHERE id = $1 FOR UPDATE`, device)
		if errors.Is(err, sql.ErrNoRows) {
			return fault.Fail(fault.NotFound, "there is no device %s", device)
		}
		if err != nil || before == name {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE devices SET name = $2 WHERE id = $1`, device, name); err != nil {
			return err
		}
		return c.note(ctx, tx, ActRename, device.String(), before+" is "+name+" now")
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true})
	}
	return err
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
		return c.note(ctx, tx, ActLeave, device.String(), worker)
	})
	if err != nil {
		return err
	}
	c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	return nil
}

const deviceColumns = `d.id, d.name, d.worker, w.role, d.incarnation, d.agent, d.enrolled_at, d.revoked_at, d.may_deliver,
	d.while_open, d.seen_at, d.offset_ms, d.error_ms, d.unsent, d.refused, d.waiting, d.errands, d.stored,
	array_to_json(d.teams) AS teams, d.applied, d.applied_at, d.unknown_settings`

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
	case device.WhileOpen && !fleet.ActorOf(ctx).Open:
		return device, fault.Fail(fault.Unauthenticated, "this device was enrolled while central was open to everybody; let an "+
			"admin admit it, or enrol it again with a code")
	}
	if err := c.stores(ctx, &devices[0]); err != nil {
		return device, err
	}
	if err := c.people(ctx, devices); err != nil {
		return device, err
	}
	if device = devices[0]; len(device.People) > 0 {
		return device, nil
	}
	if len(device.Deliverers) == 0 || !delivers {
		return device, fault.Fail(fault.Revoked, "%s may not work with central at present; what the device has not sent stays on it",
			device.Worker)
	}
	// As a device that was revoked and may deliver: it gets nothing but answers.
	now := c.db.Now()
	device.People, device.RevokedAt, device.MayDeliver = device.Deliverers, &now, true
	return device, nil
}

// stores finds the local stores that a device has had, and since when it has.
func (c *People) stores(ctx context.Context, device *fleet.Device) error {
	var rows []struct {
		Incarnation uuid.UUID `db:"incarnation"`
		Since       time.Time `db:"since"`
		Changed     bool      `db:"changed"`
	}
	if err := c.db.SelectContext(ctx, &rows, `SELECT incarnation, since,
			EXISTS (SELECT FROM former_people f WHERE f.device = i.device) AS changed
		FROM incarnations i WHERE device = $1 ORDER BY since`, device.ID); err != nil || len(rows) == 0 {
		return err
	}
	for _, r := range rows {
		device.Past = append(device.Past, r.Incarnation)
	}
	if device.Since = rows[0].Since; !rows[0].Changed {
		device.Fresh = device.Since
	}
	return nil
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
	if err := errors.Join(c.people(ctx, devices), c.steer(ctx, devices)); err != nil {
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
	act, detail := ActReadmit, ""
	if revoke {
		act = ActRevoke
	}
	if revoke && deliver {
		detail = "may deliver"
	}
	return c.changeDevice(ctx, id, act, detail, `revoked_at = CASE WHEN $2::timestamptz IS NULL THEN NULL ELSE coalesce(revoked_at, $2) END,
			may_deliver = $3`, at, revoke && deliver)
}

// AdmitDevice lets a device in that was enrolled while central was open to everybody.
func (c *People) AdmitDevice(ctx context.Context, id uuid.UUID) error {
	if fleet.ActorOf(ctx).Open {
		return fault.Fail(fault.NotAllowed, "central is open to everybody: which devices may come in is said once it is closed")
	}
	return c.changeDevice(ctx, id, ActAdmitDevice, "", `while_open = false`)
}

func (c *People) changeDevice(ctx context.Context, id uuid.UUID, act Act, detail, change string, args ...any) error {
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		done, err := tx.ExecContext(ctx, `UPDATE devices SET `+change+` WHERE id = $1`, append([]any{id}, args...)...)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(fault.Fail(fault.NotFound, "there is no device %s", id), err)
		}
		return c.note(ctx, tx, act, id.String(), detail)
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	}
	return err
}

// TakeReport keeps what a device says of itself in an exchange. A clock that it says nothing of stays as it was.
func (c *People) TakeReport(ctx context.Context, from fleet.Device, exchange uuid.UUID, report wire.Report) error {
	now := c.db.Now()
	var by, within *int64
	if report.Clock != nil {
		offset := report.Clock.Offset().Believe(report.Clock.SentAt, now, changes.BelieveWithin)
		ms, unsure := offset.By.Milliseconds(), offset.Error.Milliseconds()
		by, within = &ms, &unsure
	}
	answered := false
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		if _, err := tx.ExecContext(ctx, `UPDATE devices SET seen_at = $2, unsent = $3, refused = $4, waiting = $5, offset_ms = coalesce($6, offset_ms),
				error_ms = coalesce($7, error_ms), stored = coalesce(nullif($8::bigint, 0), stored) WHERE id = $1`,
			from.ID, now, report.Unsent, report.Refused, report.Waiting, by, within, report.Stored); err != nil {
			return err
		}
		if err := takeApplied(ctx, tx, from.ID, report.Settings); err != nil {
			return err
		}
		if len(report.Errands) > 0 {
			var known fleet.Errands
			if err := tx.GetContext(ctx, &known, `SELECT errands FROM devices WHERE id = $1 FOR UPDATE`, from.ID); err != nil {
				return err
			}
			if answered = known.Answer(report.Errands, now); answered {
				if err := keepErrands(ctx, tx, from.ID, known); err != nil {
					return err
				}
			}
		}
		names := slices.Sorted(maps.Keys(report.Cursors))
		cursors := make([]int64, len(names))
		for n, name := range names {
			cursors[n] = report.Cursors[name]
		}
		if _, err := tx.ExecContext(ctx, `
			INSERT INTO cursors (device, collection, cursor, pulled_at) SELECT $1::uuid, c.name, at.cursor, $4::timestamptz
				FROM unnest($2::text[], $3::bigint[]) AS at (name, cursor) JOIN collections c ON c.name = at.name
				WHERE at.cursor BETWEEN 0 AND c.head ORDER BY c.name
			ON CONFLICT (device, collection) DO UPDATE SET cursor = excluded.cursor, pulled_at = excluded.pulled_at`,
			from.ID, names, cursors, now); err != nil {
			return err
		}
		if exchange != uuid.Nil {
			return tx.NoteExchange(ctx, from.ID, exchange, now)
		}
		return nil
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true, People: answered}) // what is kept in memory of a device goes with its people
	}
	return err
}

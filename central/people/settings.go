package people

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/settings"
)

// Scope is for which devices a setting is said: a team, one device, or all where neither is named.
type Scope struct {
	Team   string    `json:"team,omitempty"`
	Device uuid.UUID `json:"device,omitzero" format:"uuid"`
}

func (s Scope) key() string {
	switch {
	case s.Device != uuid.Nil:
		return "device " + s.Device.String()
	case s.Team != "":
		return "team " + s.Team
	}
	return "all"
}

func scopeOf(key string) (s Scope) {
	kind, name, _ := strings.Cut(key, " ")
	switch kind {
	case "team":
		s.Team = name
	case "device":
		s.Device, _ = uuid.Parse(name) // it was an id when it was written
	}
	return s
}

// Said is a setting that is said of some devices.
type Said struct {
	Scope
	Name   string          `json:"name"`
	Value  json.RawMessage `json:"value"`
	Before json.RawMessage `json:"before,omitempty" doc:"What those of the devices go by that it does not go to yet."`
	Share  int             `json:"share" doc:"Percent of the devices that it goes to."`
	SetBy  string          `json:"set_by"`
	SetAt  time.Time       `json:"set_at"`
	// Devices counts those that are there, whatever else is said of them.
	Devices int `json:"devices" doc:"Devices of which it is said, as far as it goes."`
	Applied int `json:"applied" doc:"Those of them that have said that they go by all that is said of them."`

	key string
}

// goesTo says whether a setting that goes to some of the devices goes to one. The same ones have it as its share grows.
func (s Said) goesTo(device uuid.UUID) bool {
	if s.Share >= 100 {
		return true
	}
	sum := sha256.Sum256([]byte(s.key + "\x00" + s.Name + "\x00" + device.String()))
	return int(binary.BigEndian.Uint32(sum[:4])%100) < s.Share
}

// isOf says whether a setting is said of a device, and how closely: of one device it is said before what is said of its teams, and that before what is
// said of all.
func (s Said) isOf(device fleet.Device) (closeness int, is bool) {
	switch {
	case s.Device != uuid.Nil:
		return 2, s.Device == device.ID
	case s.Team != "":
		return 1, slices.Contains(device.Teams, s.Team)
	}
	return 0, true
}

// settingsOf are the values that a device is to go by: of each setting the one that is said of it most closely, and of several teams' the one that was
// said last.
func settingsOf(all []Said, device fleet.Device) settings.Values {
	values, best := settings.Values{}, map[string]Said{}
	for _, one := range all {
		rank, is := one.isOf(device)
		value := one.Value
		if is && !one.goesTo(device.ID) {
			value = one.Before
		}
		if !is || len(value) == 0 {
			continue
		}
		if known, any := best[one.Name]; any {
			if other, _ := known.isOf(device); other > rank || other == rank && known.SetAt.After(one.SetAt) {
				continue
			}
		}
		best[one.Name], values[one.Name] = one, value
	}
	return values
}

func (c *People) said(ctx context.Context, q postgres.Querier) ([]Said, error) {
	var rows []struct {
		Scope  string    `db:"scope"`
		Name   string    `db:"name"`
		Value  []byte    `db:"value"`
		Before []byte    `db:"before"`
		Share  int       `db:"share"`
		SetBy  string    `db:"set_by"`
		SetAt  time.Time `db:"set_at"`
	}
	if err := q.SelectContext(ctx, &rows, `SELECT * FROM settings ORDER BY scope, name`); err != nil {
		return nil, err
	}
	all := make([]Said, len(rows))
	for n, r := range rows {
		all[n] = Said{Scope: scopeOf(r.Scope), Name: r.Name, Value: r.Value, Before: r.Before, Share: r.Share, SetBy: r.SetBy, SetAt: r.SetAt.UTC(), key: r.Scope}
	}
	return all, nil
}

// SettingsOf is what a device is told to go by; nil where nothing is said.
func (c *People) SettingsOf(ctx context.Context, device fleet.Device) (*settings.Told, error) {
	all, err := c.said(ctx, c.db)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	values := settingsOf(all, device)
	if len(values) == 0 {
		return nil, nil
	}
	return &settings.Told{Digest: values.Digest(), Values: values}, nil
}

// Settings are all that are said, with how many devices go by them.
func (c *People) Settings(ctx context.Context) ([]Said, error) {
	all, err := c.said(ctx, c.db)
	if err != nil {
		return nil, err
	}
	devices, err := c.Devices(ctx, "")
	if err != nil {
		return nil, err
	}
	for _, d := range devices {
		if d.RevokedAt != nil {
			continue
		}
		for n := range all {
			if _, is := all[n].isOf(d); is && all[n].goesTo(d.ID) {
				all[n].Devices++
				if !d.Differs {
					all[n].Applied++
				}
			}
		}
	}
	return all, nil
}

// steer notes of devices what they are to go by, and whether they do.
func (c *People) steer(ctx context.Context, devices []fleet.Device) error {
	all, err := c.said(ctx, c.db)
	if err != nil {
		return err
	}
	for n := range devices {
		devices[n].Settings = settingsOf(all, devices[n])
		devices[n].Differs = devices[n].Settings.Digest() != devices[n].Applied
	}
	return nil
}

// Set says a setting of some devices. A share below 100 lets it go to so many percent of them first; the others keep what they had. Saying the same value
// with another share lets it go on.
func (c *People) Set(ctx context.Context, scope Scope, name string, value json.RawMessage, share int) error {
	if err := settings.Check(name, value); err != nil {
		return fault.Fail(fault.Invalid, "%v", err)
	}
	if share < 1 || share > 100 {
		return fault.Fail(fault.Invalid, "a setting goes to 1 to 100 percent of the devices")
	}
	if share < 100 && scope.Device != uuid.Nil {
		return fault.Fail(fault.Invalid, "a setting of one device goes to it whole")
	}
	return c.changeSetting(ctx, scope, ActSet, fmt.Sprintf("%s = %s to %d %%", name, value, share), func(tx *postgres.Tx) error {
		// What was set before stays what the others go by, as long as the new value is the same.
		_, err := tx.ExecContext(ctx, `INSERT INTO settings AS s (scope, name, value, before, share, set_by, set_at) VALUES ($1, $2, $3, NULL, $4, $5, $6)
			ON CONFLICT (scope, name) DO UPDATE SET value = excluded.value, share = excluded.share, set_by = excluded.set_by, set_at = excluded.set_at,
				before = CASE WHEN excluded.share = 100 THEN NULL WHEN s.value::text = excluded.value::text THEN s.before
					WHEN s.share = 100 THEN s.value ELSE s.before END`,
			scope.key(), name, string(value), share, fleet.ActorOf(ctx).Name, c.db.Now())
		return err
	})
}

// Unset takes back what was said. Devices go by what is said of them less closely, or by their own.
func (c *People) Unset(ctx context.Context, scope Scope, name string) error {
	return c.changeSetting(ctx, scope, ActUnset, name, func(tx *postgres.Tx) error {
		done, err := tx.ExecContext(ctx, `DELETE FROM settings WHERE scope = $1 AND name = $2`, scope.key(), name)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(fault.Fail(fault.NotFound, "%.40q is not set there", name), err)
		}
		return nil
	})
}

func (c *People) changeSetting(ctx context.Context, scope Scope, act Act, detail string, change func(tx *postgres.Tx) error) error {
	if scope.Device != uuid.Nil && scope.Team != "" {
		return fault.Fail(fault.Invalid, "a setting is said of a team or of one device, not of both")
	}
	if scope.Team != "" && !teamName.MatchString(scope.Team) {
		return fault.Fail(fault.Invalid, "%.60q cannot name a team: take letters, digits, spaces, - and _, at most 40", scope.Team)
	}
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		var there bool
		err := tx.GetContext(ctx, &there, `SELECT CASE WHEN $1 <> '' THEN EXISTS (SELECT FROM devices WHERE $1 = ANY(teams)) OR EXISTS (SELECT FROM settings WHERE scope = $3)
			WHEN $2::uuid IS NOT NULL THEN EXISTS (SELECT FROM devices WHERE id = $2) ELSE true END`, scope.Team, scope.known(), scope.key())
		switch {
		case err != nil:
			return err
		case !there && scope.Team != "":
			return fault.Fail(fault.NotFound, "no device is in the team %s; put some into it first", scope.Team)
		case !there:
			return fault.Fail(fault.NotFound, "there is no device %s", scope.Device)
		}
		if err := change(tx); err != nil {
			return err
		}
		return c.note(ctx, tx, act, scope.key(), detail)
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	}
	return err
}

func (s Scope) known() *uuid.UUID {
	if s.Device == uuid.Nil {
		return nil
	}
	return &s.Device
}

var teamName = regexp.MustCompile(`^[\pL\d][\pL\d _-]{0,39}$`)

// PutInTeams says which teams a device is in.
func (c *People) PutInTeams(ctx context.Context, device uuid.UUID, teams []string) error {
	if teams = slices.Compact(slices.Sorted(slices.Values(teams))); teams == nil {
		teams = []string{}
	}
	if len(teams) > 20 {
		return fault.Fail(fault.Invalid, "a device is in at most 20 teams")
	}
	for _, name := range teams {
		if !teamName.MatchString(name) {
			return fault.Fail(fault.Invalid, "%.60q cannot name a team: take letters, digits, spaces, - and _, at most 40", name)
		}
	}
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		var id uuid.UUID
		err := tx.GetContext(ctx, &id, `UPDATE devices SET teams = $2 WHERE id = $1 RETURNING id`, device, teams)
		if errors.Is(err, sql.ErrNoRows) {
			return fault.Fail(fault.NotFound, "there is no device %s", device)
		}
		if err != nil {
			return err
		}
		return c.note(ctx, tx, ActTeams, device.String(), strings.Join(teams, ", "))
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	}
	return err
}

// takeApplied keeps what a device says of the settings that it goes by.
func takeApplied(ctx context.Context, tx *postgres.Tx, device uuid.UUID, applied *settings.Applied) error {
	if applied == nil {
		return nil
	}
	unknown, err := json.Marshal(append([]string{}, applied.Unknown...))
	if err != nil {
		return err
	}
	var at *time.Time
	if !applied.At.IsZero() {
		at = &applied.At
	}
	_, err = tx.ExecContext(ctx, `UPDATE devices SET applied = $2, applied_at = $3, unknown_settings = $4 WHERE id = $1`,
		device, applied.Digest[:min(len(applied.Digest), 40)], at, string(unknown))
	return err
}

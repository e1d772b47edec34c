package people

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/jmoiron/sqlx"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/rights"
)

// OpenName is the worker that everybody is while central is open.
const OpenName = "open"

var workerName = regexp.MustCompile(`^[a-z][a-z0-9.-]{0,39}$`)

// AddWorker makes an account. An empty password makes one that cannot sign in but may own devices.
// Without a word on territories, the worker covers all; with none, only what falls into none.
func (c *People) AddWorker(ctx context.Context, name string, role rights.Role, password string,
	territories ...string) error {
	if !workerName.MatchString(name) {
		return fault.Fail(fault.Invalid, "%q cannot name a worker: take a small letter, then small letters, digits, "+
			"dots and dashes, at most 40", name)
	}
	if !role.Valid() {
		return fault.Fail(fault.Invalid, "%q is not a role; take reader, worker, lead or admin", role)
	}
	if territories == nil {
		territories = []string{rights.All}
	}
	if err := checkTerritories(territories); err != nil {
		return err
	}
	hash := ""
	if password != "" {
		if err := checkPassword(name, password); err != nil {
			return err
		}
		hash = hashPassword(password)
	}
	return c.db.Within(ctx, func(tx *postgres.Tx) error {
		done, err := tx.ExecContext(ctx, `INSERT INTO workers (name, role, password, territories, created_at, while_open)
				VALUES ($1, $2, $3, $4, $5, $6) ON CONFLICT DO NOTHING`,
			name, role, hash, territories, c.db.Now(), fleet.ActorOf(ctx).Open)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(fault.Fail(fault.Clash, "there is a worker %s already, or was one; a name is given once, since "+
				"the history keeps it", name), err)
		}
		return c.note(ctx, tx, ActAddWorker, name, fmt.Sprintf("%s, %s", role, strings.Join(territories, " ")))
	})
}

// Workers gives all accounts by name, with those that were removed if asked.
func (c *People) Workers(ctx context.Context, removed bool) ([]fleet.Worker, error) {
	workers := []fleet.Worker{}
	err := c.db.SelectContext(ctx, &workers, `SELECT `+workerColumns+` FROM workers w
		WHERE removed_at IS NULL OR $1 ORDER BY name`, removed)
	return workers, err
}

const workerColumns = `name, role, created_at, array_to_json(territories) AS territories, (SELECT count(*)
	FROM devices d WHERE d.worker = w.name AND d.revoked_at IS NULL) AS devices, password <> '' AS signs_in, while_open,
	disabled_at, removed_at, may_deliver`

// lockWorker gives an account that was not removed, and keeps others from changing it until the commit. While central
// is open to everybody, it gives only what was made meanwhile: nothing that is done then is to open anything later.
func (c *People) lockWorker(ctx context.Context, tx *postgres.Tx, name string) (fleet.Worker, error) {
	var w fleet.Worker
	err := sqlx.GetContext(ctx, tx, &w, `SELECT `+workerColumns+` FROM workers w WHERE name = $1 AND removed_at IS NULL
		FOR UPDATE`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return w, fault.Fail(fault.NotFound, "there is no worker %s", name)
	}
	if err == nil && fleet.ActorOf(ctx).Open && !w.WhileOpen {
		return w, fault.Fail(fault.NotAllowed, "central is open to everybody: what %s may is only changed once it is closed", name)
	}
	return w, err
}

// keepsAnAdmin says why a worker stays what they are: the last admin who can sign in, so that somebody can always mend
// things.
func (c *People) keepsAnAdmin(ctx context.Context, tx *postgres.Tx, name string) error {
	var admins []string
	if err := tx.SelectContext(ctx, &admins, `SELECT name FROM workers WHERE role = $1 AND password <> ''
			AND disabled_at IS NULL AND removed_at IS NULL AND NOT while_open ORDER BY name FOR UPDATE`, rights.Admin); err != nil {
		return err
	}
	if slices.Equal(admins, []string{name}) {
		return fault.Fail(fault.Clash, "%s is the only admin who can sign in; make somebody else an admin first", name)
	}
	return nil
}

// HoldTerritories sets which territories a worker holds. Their devices load what they gain and drop what they lose
// with the next exchange.
func (c *People) HoldTerritories(ctx context.Context, name string, territories []string) error {
	if err := checkTerritories(territories); err != nil {
		return err
	}
	territories = append([]string{}, territories...) // an empty list, where there is none
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		if _, err := c.lockWorker(ctx, tx, name); err != nil {
			return err
		}
		if err := keepFormer(ctx, tx, c.db.Now(), devicesOfWorker, name); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE workers SET territories = $2 WHERE name = $1`, name, territories); err != nil {
			return err
		}
		return c.note(ctx, tx, ActTerritories, name, strings.Join(territories, " "))
	})
	if err != nil {
		return err
	}
	c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	return nil
}

// SetRole gives a worker another role. The last admin stays one. Devices learn of it with their next exchange.
func (c *People) SetRole(ctx context.Context, name string, role rights.Role) error {
	if !role.Valid() {
		return fault.Fail(fault.Invalid, "%q is not a role; take reader, worker, lead or admin", role)
	}
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		if role != rights.Admin {
			if err := c.keepsAnAdmin(ctx, tx, name); err != nil {
				return err
			}
		}
		if _, err := c.lockWorker(ctx, tx, name); err != nil {
			return err
		}
		if err := keepFormer(ctx, tx, c.db.Now(), devicesOfWorker, name); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE workers SET role = $2 WHERE name = $1`, name, role); err != nil {
			return err
		}
		return c.note(ctx, tx, ActRole, name, string(role))
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	}
	return err
}

// Disable keeps a worker from signing in and ends what they have: their sign-ins and codes. The devices that they
// enrolled and nobody else uses are revoked, and they are taken off the others; deliver lets what these have queued
// still go in. Enable takes it back.
func (c *People) Disable(ctx context.Context, name string, deliver bool) error {
	return c.shutOut(ctx, ActDisable, `disabled_at`, name, deliver)
}

// Remove takes an account away for good, as [People.Disable] does with one for a time. Records and history keep the
// name, and nobody gets it again.
func (c *People) Remove(ctx context.Context, name string, deliver bool) error {
	return c.shutOut(ctx, ActRemoveWorker, `removed_at`, name, deliver)
}

func (c *People) shutOut(ctx context.Context, act Act, column, name string, deliver bool) error {
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		if err := c.keepsAnAdmin(ctx, tx, name); err != nil {
			return err
		}
		if _, err := c.lockWorker(ctx, tx, name); err != nil {
			return err
		}
		if err := keepFormer(ctx, tx, c.db.Now(), devicesOfWorker, name); err != nil {
			return err
		}
		for _, one := range []struct {
			statement string
			args      []any
		}{
			{`UPDATE workers SET ` + column + ` = $2, may_deliver = $3 WHERE name = $1`, []any{name, c.db.Now(), deliver}},
			{`DELETE FROM sessions WHERE worker = $1`, []any{name}},
			{`UPDATE codes SET voided_at = $2 WHERE (worker = $1 OR issued_by = $1) AND used_at IS NULL AND voided_at IS NULL`,
				[]any{name, c.db.Now()}},
		} {
			if _, err := tx.ExecContext(ctx, one.statement, one.args...); err != nil {
				return err
			}
		}
		detail := ""
		if deliver {
			detail = "devices may deliver"
		}
		return c.note(ctx, tx, act, name, detail)
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	}
	return err
}

// Enable lets a worker who was disabled sign in again; their devices go on as before.
func (c *People) Enable(ctx context.Context, name string) error {
	return c.letIn(ctx, ActEnable, name, `disabled_at = NULL, may_deliver = false`)
}

// Admit lets a worker in who was added while central was open to everybody.
func (c *People) Admit(ctx context.Context, name string) error {
	if fleet.ActorOf(ctx).Open {
		return fault.Fail(fault.NotAllowed, "central is open to everybody: who may come in is said once it is closed")
	}
	if name == OpenName {
		return fault.Fail(fault.NotAllowed, "%s stands for everybody while central is open, and is let in then alone", name)
	}
	return c.letIn(ctx, ActAdmitWorker, name, `while_open = false`)
}

func (c *People) letIn(ctx context.Context, act Act, name, change string) error {
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		if _, err := c.lockWorker(ctx, tx, name); err != nil {
			return err
		}
		if err := keepFormer(ctx, tx, c.db.Now(), devicesOfWorker, name); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE workers SET `+change+` WHERE name = $1`, name); err != nil {
			return err
		}
		return c.note(ctx, tx, act, name, "")
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true, People: true})
	}
	return err
}

// Territory is one key with what falls into it and who covers that.
type Territory struct {
	Key     string           `json:"key"`
	Records map[string]int64 `json:"records" doc:"Records that fall into it, by collection; those that are removed do not count."`
	Workers []string         `json:"workers" doc:"Who holds it, not counting those who hold all."`
}

// Territories gives all keys that records fall into or workers hold, in order.
func (c *People) Territories(ctx context.Context) ([]Territory, error) {
	var fallen []struct {
		Key        string `db:"key"`
		Collection string `db:"collection"`
		Records    int64  `db:"records"`
	}
	err := c.db.SelectContext(ctx, &fallen, `
		SELECT key, collection, count(*) AS records
			FROM records, unnest(territories) AS key WHERE NOT removed AND key <> '*' GROUP BY key, collection`)
	if err != nil {
		return nil, err
	}
	var holders []struct {
		Key    string `db:"key"`
		Worker string `db:"worker"`
	}
	if err := c.db.SelectContext(ctx, &holders, `SELECT key, name AS worker
			FROM workers, unnest(territories) AS key WHERE key <> '*' ORDER BY name`); err != nil {
		return nil, err
	}
	byKey := map[string]*Territory{}
	at := func(key string) *Territory {
		if byKey[key] == nil {
			byKey[key] = &Territory{Key: key, Records: map[string]int64{}, Workers: []string{}}
		}
		return byKey[key]
	}
	for _, f := range fallen {
		at(f.Key).Records[f.Collection] = f.Records
	}
	for _, h := range holders {
		at(h.Key).Workers = append(at(h.Key).Workers, h.Worker)
	}
	all := []Territory{}
	for _, key := range slices.Sorted(maps.Keys(byKey)) {
		all = append(all, *byKey[key])
	}
	return all, nil
}

const maxTerritory = 100 // characters

func checkTerritories(territories []string) error {
	for _, key := range territories {
		if strings.TrimSpace(key) != key || key == "" || len(key) > maxTerritory {
			return fault.Fail(fault.Invalid, "%q cannot be the key of a territory: take 1 to %d characters without blanks "+
				"around them", key, maxTerritory)
		}
	}
	return nil
}

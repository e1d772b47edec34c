package people

import (
	"context"
	"database/sql"
	"errors"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/rights"
)

// OpenName is the worker that everybody is while central is open.
const OpenName = "open"

// sessionLasts is how long a sign-in holds.
const sessionLasts = 12 * time.Hour

const leastPassword = 8 // characters

var workerName = regexp.MustCompile(`^[a-z][a-z0-9.-]{0,39}$`)

// AddWorker makes an account. An empty password makes one that cannot sign in but may own devices.
// Without territories, the worker covers all.
func (c *People) AddWorker(ctx context.Context, name string, role rights.Role, password string,
	territories ...string) error {
	if !workerName.MatchString(name) {
		return fault.Fail(fault.Invalid, "%q cannot name a worker: take a small letter, then small letters, digits, "+
			"dots and dashes, at most 40", name)
	}
	if !role.Valid() {
		return fault.Fail(fault.Invalid, "%q is not a role; take reader, worker, lead or admin", role)
	}
	if len([]rune(password)) < leastPassword && password != "" {
		return fault.Fail(fault.Invalid, "the password is too short; take at least %d characters", leastPassword)
	}
	if len(territories) == 0 {
		territories = []string{rights.All}
	}
	if err := checkTerritories(territories); err != nil {
		return err
	}
	hash := ""
	if password != "" {
		hash = hashPassword(password)
	}
	done, err := c.db.ExecContext(ctx, `INSERT INTO workers (name, role, password, territories, created_at)
			VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING`,
		name, role, hash, territories, c.db.Now())
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(fault.Fail(fault.Clash, "there is a worker %s already", name), err)
	}
	return nil
}

// Workers gives all accounts by name.
func (c *People) Workers(ctx context.Context) ([]fleet.Worker, error) {
	workers := []fleet.Worker{}
	err := c.db.SelectContext(ctx, &workers, `
		SELECT name, role, created_at, array_to_json(territories) AS territories, (SELECT count(*)
			FROM devices d WHERE d.worker = w.name AND d.revoked_at IS NULL) AS devices
		FROM workers w ORDER BY name`)
	return workers, err
}

// SignIn checks a password and gives a token for a session.
func (c *People) SignIn(ctx context.Context, name,
	password string) (token string, who fleet.Person, expires time.Time, err error) {
	var hash string
	err = c.db.QueryRowxContext(ctx, `SELECT name, role, password, array_to_json(territories)
			FROM workers WHERE name = $1`, strings.ToLower(strings.TrimSpace(name))).Scan(&who.Name, &who.Role, &hash, (*fleet.Keys)(&who.Territories))
	if errors.Is(err, sql.ErrNoRows) {
		hash, err = decoy, nil
	}
	if err != nil {
		return "", fleet.Person{}, expires, err
	}
	if !passwordFits(hash, password) || who.Name == "" {
		return "", fleet.Person{}, expires, fault.Fail(fault.Unauthenticated, "name and password do not fit together")
	}
	token, expires = newToken("ses"), c.db.Now().Add(sessionLasts)
	err = c.db.Within(ctx, func(tx *postgres.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM sessions WHERE expires_at < $1`, c.db.Now()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO sessions (token, worker, created_at, expires_at) VALUES ($1, $2, $3, $4)`,
			hashToken(token), who.Name, c.db.Now(), expires)
		return err
	})
	return token, who, expires, err
}

// SignOut ends the session of a token.
func (c *People) SignOut(ctx context.Context, token string) error {
	_, err := c.db.ExecContext(ctx, `DELETE FROM sessions WHERE token = $1`, hashToken(token))
	return err
}

// PersonOf gives who a session's token stands for.
func (c *People) PersonOf(ctx context.Context, token string) (fleet.Person, error) {
	var who fleet.Person
	err := c.db.QueryRowxContext(ctx, `SELECT w.name, w.role, array_to_json(w.territories)
			FROM sessions s JOIN workers w ON w.name = s.worker WHERE s.token = $1 AND s.expires_at > $2`,
		hashToken(token), c.db.Now()).Scan(&who.Name, &who.Role, (*fleet.Keys)(&who.Territories))
	if errors.Is(err, sql.ErrNoRows) {
		return who, fault.Fail(fault.Unauthenticated, "this sign-in has ended; sign in again")
	}
	return who, err
}

// HoldTerritories sets which territories a worker holds. Their devices load what they gain and drop what they lose
// with the next exchange.
func (c *People) HoldTerritories(ctx context.Context, name string, territories []string) error {
	if err := checkTerritories(territories); err != nil {
		return err
	}
	territories = append([]string{}, territories...) // an empty list, where there is none
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		if err := keepFormer(ctx, tx, c.db.Now(), devicesOfWorker, name); err != nil {
			return err
		}
		done, err := tx.ExecContext(ctx, `UPDATE workers SET territories = $2 WHERE name = $1`, name, territories)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(fault.Fail(fault.NotFound, "there is no worker %s", name), err)
		}
		return nil
	})
	if err != nil {
		return err
	}
	c.db.Announce(ctx, fleet.Event{Devices: true})
	return nil
}

// SetRole gives a worker another role. The last admin stays one, so that somebody can always mend things. Devices
// learn of it with their next exchange.
func (c *People) SetRole(ctx context.Context, name string, role rights.Role) error {
	if !role.Valid() {
		return fault.Fail(fault.Invalid, "%q is not a role; take reader, worker, lead or admin", role)
	}
	err := c.db.Within(ctx, func(tx *postgres.Tx) error {
		var admins []string
		if err := tx.SelectContext(ctx, &admins, `SELECT name FROM workers
				WHERE role = $1 AND password <> '' ORDER BY name FOR UPDATE`, rights.Admin); err != nil {
			return err
		}
		if role != rights.Admin && slices.Equal(admins, []string{name}) {
			return fault.Fail(fault.Clash, "%s is the only admin who can sign in; make somebody else an admin first", name)
		}
		if err := keepFormer(ctx, tx, c.db.Now(), devicesOfWorker, name); err != nil {
			return err
		}
		done, err := tx.ExecContext(ctx, `UPDATE workers SET role = $2 WHERE name = $1`, name, role)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(fault.Fail(fault.NotFound, "there is no worker %s", name), err)
		}
		return nil
	})
	if err == nil {
		c.db.Announce(ctx, fleet.Event{Devices: true})
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

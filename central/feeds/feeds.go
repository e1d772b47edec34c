// Package feeds keeps which feeds there are and how far each is, and works them: what has changed goes to where it is to go, by a cursor like a
// device's, so that nothing is missed that commits late.
package feeds

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/people"
	"homing/central/postgres"
	"homing/central/pulls"
	"homing/core/definition"
	"homing/feed"
)

// Feeds are the feeds of a central. It is safe for use by several goroutines, and several processes may work on one database.
type Feeds struct {
	db     *postgres.DB
	pulls  *pulls.Pulls
	people *people.People
	log    *slog.Logger
}

// New makes Feeds on a database.
func New(db *postgres.DB, pulls *pulls.Pulls, people *people.People, log *slog.Logger) *Feeds {
	return &Feeds{db, pulls, people, log}
}

// Status is a feed and how far it is.
type Status struct {
	feed.Feed
	State       string     `json:"state" enum:"first load,up to date,behind,waits,paused" doc:"waits: something is wrong, and it is tried again later."`
	Lag         int64      `json:"lag" doc:"Accepted changes that it has not gone past yet."`
	Aside       int        `json:"aside" doc:"Records that the destination refused."`
	Delivered   int64      `json:"delivered" doc:"Records that went there, each time counted."`
	DeliveredAt *time.Time `json:"delivered_at,omitempty"`
	Rate        int64      `json:"rate" doc:"Records that went there within the last whole minute."`
	Error       string     `json:"error,omitempty" doc:"What is wrong now."`
	FailedAt    *time.Time `json:"failed_at,omitempty" doc:"Since when."`
	NextTry     *time.Time `json:"next_try,omitempty"`
	PausedAt    *time.Time `json:"paused_at,omitempty"`
	DefinedBy   string     `json:"defined_by"`
	DefinedAt   time.Time  `json:"defined_at"`
}

// The states of a feed.
const (
	StateLoading = "first load"
	StateCurrent = "up to date"
	StateBehind  = "behind"
	StateWaits   = "waits"
	StatePaused  = "paused"
)

// row is a feed as it is kept.
type row struct {
	Name        string        `db:"name"`
	Doc         []byte        `db:"doc"`
	DefinedBy   string        `db:"defined_by"`
	DefinedAt   time.Time     `db:"defined_at"`
	PausedAt    *time.Time    `db:"paused_at"`
	Round       int           `db:"round"`
	Whole       int           `db:"whole"`
	Sight       string        `db:"sight"`
	Generation  uuid.NullUUID `db:"generation"`
	Holder      uuid.NullUUID `db:"holder"`
	Tries       int           `db:"tries"`
	NextTry     *time.Time    `db:"next_try"`
	Error       string        `db:"error"`
	FailedAt    *time.Time    `db:"failed_at"`
	Delivered   int64         `db:"delivered"`
	DeliveredAt *time.Time    `db:"delivered_at"`
	Minute      *time.Time    `db:"minute"`
	InMinute    int64         `db:"in_minute"`
	Before      int64         `db:"before_minute"`
	Lag         int64         `db:"lag"`
	Aside       int           `db:"aside"`
}

// rateOf is how many records went within the last whole minute, of what a feed keeps of the minute in which it last brought something and of the one before.
func rateOf(minute *time.Time, in, before int64, now time.Time) int64 {
	if minute == nil {
		return 0
	}
	switch now.UTC().Truncate(time.Minute).Sub(minute.UTC()) {
	case 0:
		return before
	case time.Minute:
		return in
	}
	return 0
}

// FeedList gives all feeds by name, or the one that is named.
func (c *Feeds) FeedList(ctx context.Context, name string) ([]Status, error) {
	var rows []row
	err := c.db.SelectContext(ctx, &rows, `SELECT f.*,
			coalesce((SELECT sum(k.head - coalesce(u.cursor, 0)) FROM json_object_keys(f.doc->'collections') n JOIN collections k ON k.name = n
				LEFT JOIN feed_cursors u ON u.feed = f.name AND u.collection = n), 0)::bigint AS lag,
			(SELECT count(*) FROM feed_aside a WHERE a.feed = f.name) AS aside
		FROM feeds f WHERE $1 = '' OR f.name = $1 ORDER BY f.name`, name)
	if err != nil {
		return nil, err
	}
	all := make([]Status, len(rows))
	for n, r := range rows {
		if err := json.Unmarshal(r.Doc, &all[n].Feed); err != nil {
			return nil, err
		}
		all[n].Lag, all[n].Aside, all[n].Delivered, all[n].DeliveredAt = r.Lag, r.Aside, r.Delivered, r.DeliveredAt
		all[n].Rate = rateOf(r.Minute, r.InMinute, r.Before, c.db.Now())
		all[n].Error, all[n].FailedAt, all[n].NextTry, all[n].PausedAt = r.Error, r.FailedAt, r.NextTry, r.PausedAt
		all[n].DefinedBy, all[n].DefinedAt = r.DefinedBy, r.DefinedAt.UTC()
		switch {
		case r.PausedAt != nil:
			all[n].State = StatePaused
		case r.Error != "":
			all[n].State = StateWaits
		case r.Whole == 0:
			all[n].State = StateLoading
		case r.Lag > 0 || r.Whole < r.Round:
			all[n].State = StateBehind
		default:
			all[n].State = StateCurrent
		}
	}
	if name != "" && len(all) == 0 {
		return nil, fault.Fail(fault.NotFound, "there is no feed %q", name)
	}
	return all, nil
}

// DefineFeeds keeps feeds, new ones and those that are there. One that says something else than before goes over everything anew.
func (c *Feeds) DefineFeeds(ctx context.Context, author string, all []feed.Feed) error {
	definitions, err := c.compiled(ctx)
	if err != nil {
		return err
	}
	for _, f := range all {
		if err := c.check(ctx, definitions, f); err != nil {
			return fault.Fail(fault.Invalid, "the feed %s: %v", f.Name, err)
		}
	}
	return c.db.Within(ctx, func(tx *postgres.Tx) error {
		for _, f := range all {
			text, err := json.Marshal(f)
			if err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx, `INSERT INTO feeds (name, doc, defined_by, defined_at) VALUES ($1, $2, $3, $4)
				ON CONFLICT (name) DO UPDATE SET doc = excluded.doc, defined_by = excluded.defined_by, defined_at = excluded.defined_at,
					error = '', failed_at = NULL, next_try = NULL, tries = 0 WHERE feeds.doc::text <> excluded.doc::text`, f.Name, string(text), author, c.db.Now()); err != nil {
				return err
			}
		}
		return nil
	})
}

func (c *Feeds) compiled(ctx context.Context) (map[string]*definition.Collection, error) {
	var all map[string]*definition.Collection
	err := c.db.Deliver(ctx, func(t pulls.Tables) error {
		var err error
		all, err = t.Definitions(ctx)
		return err
	})
	return all, err
}

// check finds what a feed asks for that is not there.
func (c *Feeds) check(ctx context.Context, definitions map[string]*definition.Collection, f feed.Feed) error {
	if err := f.Check(); err != nil {
		return err
	}
	if _, err := c.seer(ctx, f); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(f.Collections)) {
		if definitions[name] == nil {
			return fmt.Errorf("there is no collection %s", name)
		}
		if _, err := f.Shape(definitions[name]); err != nil {
			return err
		}
	}
	return nil
}

// seer is the person whose rights bound a feed, as they are now.
func (c *Feeds) seer(ctx context.Context, f feed.Feed) (fleet.Person, error) {
	if f.Sees == feed.SeesAll {
		return fleet.Everything("feed " + f.Name), nil
	}
	workers, err := c.people.Workers(ctx, false)
	if err != nil {
		return fleet.Person{}, err
	}
	at := slices.IndexFunc(workers, func(w fleet.Worker) bool { return w.Name == f.Sees })
	if at < 0 || workers[at].DisabledAt != nil || workers[at].RemovedAt != nil || workers[at].WhileOpen {
		return fleet.Person{}, fault.Fail(fault.Invalid, "sees: %s is no worker who may sign in, so nothing says what the feed may carry", f.Sees)
	}
	w := workers[at]
	return fleet.Person{Name: w.Name, Role: w.Role, Territories: w.Territories}, nil
}

// RemoveFeed lets go of a feed. What it has brought stays where it is.
func (c *Feeds) RemoveFeed(ctx context.Context, name string) error {
	return c.one(ctx, name, `DELETE FROM feeds WHERE name = $1`)
}

// PauseFeed lets a feed rest; GoOn lets it work again.
func (c *Feeds) PauseFeed(ctx context.Context, name string, pause bool) error {
	if pause {
		return c.one(ctx, name, `UPDATE feeds SET paused_at = coalesce(paused_at, now()), holder = NULL WHERE name = $1`)
	}
	return c.one(ctx, name, `UPDATE feeds SET paused_at = NULL, error = '', failed_at = NULL, next_try = NULL, tries = 0 WHERE name = $1`)
}

// StartFeedAnew lets a feed go over everything once more.
func (c *Feeds) StartFeedAnew(ctx context.Context, name string) error {
	return c.one(ctx, name, `WITH gone AS (DELETE FROM feed_cursors WHERE feed = $1)
		UPDATE feeds SET round = round + 1, holder = NULL, error = '', failed_at = NULL, next_try = NULL, tries = 0 WHERE name = $1`)
}

// TurnFeedBack lets a feed bring once more what has changed since a moment.
func (c *Feeds) TurnFeedBack(ctx context.Context, name string, to time.Time) error {
	var heads map[string]int64
	if err := c.db.Deliver(ctx, func(t pulls.Tables) (err error) {
		heads, err = t.LeftAfter(ctx, to)
		return err
	}); err != nil {
		return err
	}
	return c.db.Within(ctx, func(tx *postgres.Tx) error {
		if err := changed(tx.ExecContext(ctx, `UPDATE feeds SET holder = NULL WHERE name = $1`, name))(name); err != nil {
			return err
		}
		for _, collection := range slices.Sorted(maps.Keys(heads)) {
			if _, err := tx.ExecContext(ctx, `UPDATE feed_cursors SET cursor = least(cursor, $3) WHERE feed = $1 AND collection = $2`,
				name, collection, heads[collection]); err != nil {
				return err
			}
			// Where each change goes, all those of what has changed since go once more.
			if _, err := tx.ExecContext(ctx, `UPDATE feed_held h SET revision = 0 FROM records r
				WHERE h.feed = $1 AND h.collection = $2 AND r.collection = h.collection AND r.id = h.record AND r.position > $3`, name, collection, heads[collection]); err != nil {
				return err
			}
		}
		return nil
	})
}

// one runs a statement about one feed.
func (c *Feeds) one(ctx context.Context, name, statement string) error {
	return c.db.Within(ctx, func(tx *postgres.Tx) error { return changed(tx.ExecContext(ctx, statement, name))(name) })
}

func changed(done sql.Result, err error) func(name string) error {
	return func(name string) error {
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fault.Fail(fault.NotFound, "there is no feed %q", name))
		}
		return nil
	}
}

// Aside is a record that a destination refused.
type Aside struct {
	Place      int64     `json:"place" db:"place"`
	Collection string    `json:"collection" db:"collection"`
	Record     uuid.UUID `json:"record" db:"record" format:"uuid"`
	Revision   int64     `json:"revision" db:"revision"`
	At         time.Time `json:"at" db:"at"`
	Reason     string    `json:"reason" db:"reason"`
	Again      bool      `json:"again" db:"again" doc:"It is sent again next."`
}

// AsideOf gives what a feed has set aside, the latest first.
func (c *Feeds) AsideOf(ctx context.Context, name string, limit int) ([]Aside, error) {
	if _, err := c.FeedList(ctx, name); err != nil {
		return nil, err
	}
	all := []Aside{}
	err := c.db.SelectContext(ctx, &all, `SELECT place, collection, record, revision, at, reason, again FROM feed_aside WHERE feed = $1
		ORDER BY place DESC LIMIT $2`, name, limit)
	return all, err
}

// Resend lets a feed send again what was set aside: one by its place, or all when it is 0. It says how many.
func (c *Feeds) Resend(ctx context.Context, name string, place int64) (n int64, err error) {
	if _, err := c.FeedList(ctx, name); err != nil {
		return 0, err
	}
	err = c.db.Within(ctx, func(tx *postgres.Tx) error {
		done, err := tx.ExecContext(ctx, `UPDATE feed_aside SET again = true WHERE feed = $1 AND ($2::bigint = 0 OR place = $2::bigint)`, name, place)
		if err != nil {
			return err
		}
		if n, err = done.RowsAffected(); n == 0 && place != 0 {
			return errors.Join(err, fault.Fail(fault.NotFound, "the feed %s has set nothing aside under %d", name, place))
		}
		return err
	})
	return n, err
}

// Secret is the name of what a destination is entered or a request signed with.
type Secret struct {
	Name  string    `json:"name" db:"name"`
	SetBy string    `json:"set_by" db:"set_by"`
	SetAt time.Time `json:"set_at" db:"set_at"`
}

const mostSecret = 4000 // bytes

// SetSecret keeps a secret under a name. Nobody is shown it again.
func (c *Feeds) SetSecret(ctx context.Context, author, name, value string) error {
	if !feed.SecretName(name) {
		return fault.Fail(fault.Invalid, "%.60q cannot name a secret: take a small letter, then small letters, digits, - and _, at most 40", name)
	}
	if value == "" || len(value) > mostSecret {
		return fault.Fail(fault.Invalid, "a secret has 1 to %d bytes", mostSecret)
	}
	return c.db.Within(ctx, func(tx *postgres.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO feed_secrets (name, value, set_by, set_at) VALUES ($1, $2, $3, $4)
			ON CONFLICT (name) DO UPDATE SET value = excluded.value, set_by = excluded.set_by, set_at = excluded.set_at`, name, []byte(value), author, c.db.Now())
		return err
	})
}

// RemoveSecret forgets a secret.
func (c *Feeds) RemoveSecret(ctx context.Context, name string) error {
	return c.db.Within(ctx, func(tx *postgres.Tx) error {
		done, err := tx.ExecContext(ctx, `DELETE FROM feed_secrets WHERE name = $1`, name)
		if err != nil {
			return err
		}
		if n, err := done.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, fault.Fail(fault.NotFound, "there is no secret %q", name))
		}
		return nil
	})
}

// Secrets are the names of those that there are.
func (c *Feeds) Secrets(ctx context.Context) ([]Secret, error) {
	all := []Secret{}
	err := c.db.SelectContext(ctx, &all, `SELECT name, set_by, set_at FROM feed_secrets ORDER BY name`)
	return all, err
}

// secret is the value of one, for its destination alone.
func (c *Feeds) secret(ctx context.Context, name string) (string, error) {
	var value []byte
	err := c.db.GetContext(ctx, &value, `SELECT value FROM feed_secrets WHERE name = $1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return "", fmt.Errorf("there is no secret %s; set it with homing feeds secret %[1]s", name)
	}
	return string(value), err
}

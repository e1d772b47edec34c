package device

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"

	"github.com/jmoiron/sqlx"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
	"homing/link"
	"homing/wire"
)

// Detach makes the store a device no more. What it holds stays, unsent changes among it, and can be read and
// searched; to change or exchange anything it must be attached again. A backup is made first. It gives the backup's
// path.
func (s *Store) Detach(ctx context.Context) (string, error) {
	unlock, err := s.lock()
	if err != nil {
		return "", err
	}
	defer unlock()
	known, err := facts(ctx, s.db)
	if err != nil {
		return "", storeError(err)
	}
	token := known[factToken]
	switch {
	case token == "":
		return "", ErrNotEnrolled
	case known[factWorker] == "":
		return "", ErrSignedOut
	}
	backup, err := s.backupBefore(ctx, "detaching")
	if err != nil {
		return "", err
	}
	return backup, s.within(ctx, func(tx *sqlx.Tx) error {
		for name, value := range map[string]string{factToken: "", factFormer: token, factWorker: "", factRole: ""} {
			if err := setFact(ctx, tx, name, value); err != nil {
				return err
			}
		}
		return nil
	})
}

// Attach makes a detached store a device, of the central that it was with or of another. At the same central it goes
// on where it was, under a new incarnation, and what was unsent goes with the next exchange. At another central,
// everything that it holds is offered as new; records that are there under the same ids are merged field by field.
// With discard, what it holds is given up instead, and loaded from central. A backup is made first. It gives the
// backup's path.
func (s *Store) Attach(ctx context.Context, central, code, name string, discard bool) (string, error) {
	unlock, err := s.lock()
	if err != nil {
		return "", err
	}
	defer unlock()
	known, err := facts(ctx, s.db)
	if err != nil {
		return "", storeError(err)
	}
	if known[factToken] != "" {
		return "", fmt.Errorf("%w; detach it first", ErrEnrolled)
	}
	l, err := link.New(central, "", s.agent)
	if err != nil {
		return "", err
	}
	l.Over(s.over)
	var hello wire.Hello
	if _, err := l.Call(ctx, http.MethodGet, "/v1/hello", nil, nil, &hello); err != nil {
		return "", err
	}
	backup, err := s.backupBefore(ctx, "attaching")
	if err != nil {
		return "", err
	}
	same := known[factGeneration] == hello.Generation.String()
	for _, earlier := range hello.Earlier {
		same = same || known[factGeneration] == earlier.String()
	}
	ask := wire.Enrolment{Code: code, Device: name, Incarnation: s.newID(), Agent: s.agent}
	if same {
		ask.Former = known[factFormer]
	}
	var got wire.Enrolled
	if _, err := l.Call(ctx, http.MethodPost, "/v1/enrolments", nil, ask, &got); err != nil {
		return "", err
	}
	return backup, s.within(ctx, func(tx *sqlx.Tx) error {
		for _, table := range []string{"outbox", "travelled"} {
			if _, err := tx.ExecContext(ctx, `UPDATE `+table+` SET origin = ? WHERE origin = ''`,
				known[factIncarnation]); err != nil {
				return err
			}
		}
		now := map[string]string{factCentral: l.Base(), factDevice: got.Device.String(), factName: name,
			factToken: got.Token, factFormer: "", factWorker: got.Worker, factRole: got.Role,
			factOpen: strconv.FormatBool(code == ""), factIncarnation: ask.Incarnation.String(), factAnswered: "",
			factCopied: "", factRenewed: ""}
		if !same {
			now[factGeneration] = got.Generation.String()
		}
		for name, value := range now {
			if err := setFact(ctx, tx, name, value); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO people (name, place, role, territories)
				VALUES (?, 0, ?, '[]') ON CONFLICT DO NOTHING`, got.Worker, got.Role); err != nil {
			return err
		}
		switch {
		case discard:
			return s.empty(ctx, tx)
		case !same:
			now[factStamp] = known[factStamp]
			return s.offerAll(ctx, tx, now)
		}
		return nil
	})
}

// empty gives up all records and changes.
func (s *Store) empty(ctx context.Context, tx *sqlx.Tx) error {
	for _, statement := range []string{`DELETE FROM outbox`, `DELETE FROM travelled`, `DELETE FROM lost_values`,
		`DELETE FROM records`,
		`UPDATE collections SET cursor = 0, head = 0, pulled_at = NULL, loading = 1, covers = '["*"]', gaining = NULL,
			gained = 0`} {
		if _, err := tx.ExecContext(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// offerAll makes everything that the store holds a new change, for a central that has never heard of it. Parents go
// before their children.
func (s *Store) offerAll(ctx context.Context, tx *sqlx.Tx, known map[string]string) error {
	all, err := s.all(ctx, tx)
	if err != nil {
		return err
	}
	var rows []stored
	if err := tx.SelectContext(ctx, &rows,
		`SELECT `+storedColumns+` FROM records WHERE NOT removed ORDER BY collection, id`); err != nil {
		return err
	}
	if err := s.empty(ctx, tx); err != nil {
		return err
	}
	byCollection := map[string][]stored{}
	for _, row := range rows {
		byCollection[row.Collection] = append(byCollection[row.Collection], row)
	}
	order := definition.LeavesFirst(all)
	for n := range order {
		name := order[len(order)-1-n]
		c := all[name]
		for _, row := range byCollection[name] {
			fields := record.Fields{}
			if err := json.Unmarshal([]byte(row.Fields), &fields); err != nil {
				return fmt.Errorf("%w: record %s", ErrDamaged, row.ID)
			}
			for field := range fields {
				if f, is := c.Field(field); !is || !settable(f) {
					delete(fields, field)
				}
			}
			fresh := stored{Collection: name, ID: row.ID, Fields: "{}", Computed: "{}", Local: row.Local}
			if _, err := s.put(ctx, tx, fresh, fresh.Revision, change.Add, record.Diff(nil, fields), fields, known); err != nil {
				return err
			}
			if known[factStamp], err = fact(ctx, tx, factStamp); err != nil {
				return err
			}
		}
	}
	return nil
}

package device

import (
	"context"
	"encoding/json"
	"net/http"
	"strconv"

	"github.com/jmoiron/sqlx"

	"homing/core/rights"
	"homing/link"
	"homing/wire"
)

// Enrol makes the store a device of central, with a one-time code. While central is open, the code may be empty.
func (s *Store) Enrol(ctx context.Context, central, code, name string) error {
	if token, err := fact(ctx, s.db, factToken); err != nil {
		return storeError(err)
	} else if token != "" {
		return ErrEnrolled
	}
	l, err := link.New(central, "", s.agent)
	if err != nil {
		return err
	}
	l.Over(s.over)
	incarnation, err := s.incarnation(ctx, s.db)
	if err != nil {
		return storeError(err)
	}
	var got wire.Enrolled
	ask := wire.Enrolment{Code: code, Device: name, Incarnation: incarnation, Agent: s.agent}
	if _, err := l.Call(ctx, http.MethodPost, "/v1/enrolments", nil, ask, &got); err != nil {
		return err
	}
	return s.within(ctx, func(tx *sqlx.Tx) error {
		facts := map[string]string{factCentral: l.Base(), factDevice: got.Device.String(), factName: name,
			factToken:  got.Token,
			factWorker: got.Worker, factRole: got.Role, factGeneration: got.Generation.String(),
			factOpen: strconv.FormatBool(code == ""), factHeld: "[]"}
		for name, value := range facts {
			if err := setFact(ctx, tx, name, value); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO people (name, place, role, territories) VALUES (?, 0, ?, '[]')`,
			got.Worker, got.Role)
		return err
	})
}

// MoveCentral changes the address under which central is reached; it must be the same central.
func (s *Store) MoveCentral(ctx context.Context, address string) error {
	l, err := link.New(address, "", s.agent)
	if err != nil {
		return err
	}
	return storeError(setFact(ctx, s.db, factCentral, l.Base()))
}

// Join lets a further worker use this device, with a one-time code of theirs. It needs signal; signing in later does
// not. Secret is the PIN or password that they will sign in with.
func (s *Store) Join(ctx context.Context, code, secret string) (string, error) {
	if err := checkSecret(secret); err != nil {
		return "", err
	}
	e := &exchange{Store: s, summary: &Summary{}, watch: func(Progress) {}}
	if err := e.dial(ctx); err != nil {
		return "", err
	}
	var who rights.Person
	if err := e.call(ctx, http.MethodPost, "/v1/device/people", map[string]string{"code": code}, &who); err != nil {
		return "", err
	}
	territories, err := json.Marshal(append([]string{}, who.Territories...))
	if err != nil {
		return "", err
	}
	return who.Name, s.within(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO people (name, place, role, territories, secret) VALUES (?, (SELECT count(*) FROM people), ?, ?, ?)
			ON CONFLICT (name) DO UPDATE SET secret = excluded.secret, tries = 0,
				tried_at = NULL`, who.Name, string(who.Role), string(territories), hashSecret(secret)); err != nil {
			return err
		}
		return become(ctx, tx, who.Name)
	})
}

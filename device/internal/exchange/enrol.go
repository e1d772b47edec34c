package exchange

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"

	"github.com/jmoiron/sqlx"

	"homing/core/rights"
	"homing/device/internal/file"
	"homing/device/internal/people"
	"homing/link"
	"homing/wire"
)

// Enrol is [device.Store.Enrol].
func (s *Line) Enrol(ctx context.Context, central, code, name string) error {
	if token, err := file.Fact(ctx, s.DB, file.FactToken); err != nil {
		return file.StoreError(err)
	} else if token != "" {
		return file.ErrEnrolled
	}
	l, err := link.New(central, "", s.Agent, s.How)
	if err != nil {
		return err
	}
	l.Over(s.Over)
	incarnation, err := s.Incarnation(ctx, s.DB)
	if err != nil {
		return file.StoreError(err)
	}
	var got wire.Enrolled
	ask := wire.Enrolment{Code: code, Device: name, Incarnation: incarnation, Agent: s.Agent}
	if _, err := l.Call(ctx, http.MethodPost, "/v1/enrolments", nil, ask, &got); err != nil {
		return err
	}
	return s.Within(ctx, func(tx *sqlx.Tx) error {
		facts := map[string]string{
			file.FactCentral:    l.Base(),
			file.FactDevice:     got.Device.String(),
			file.FactName:       name,
			file.FactToken:      got.Token,
			file.FactWorker:     got.Worker,
			file.FactRole:       got.Role,
			file.FactGeneration: got.Generation.String(),
			file.FactOpen:       strconv.FormatBool(code == ""),
			file.FactHeld:       "[]",
			file.FactSealTo:     file.BytesText(got.SealTo),
			file.FactSourceOf:   got.Worker,
		}
		for name, value := range facts {
			if err := file.SetFact(ctx, tx, name, value); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO people (name, place, role, territories) VALUES (?, 0, ?, '[]')`, got.Worker, got.Role)
		return err
	})
}

// MoveCentral is [device.Store.MoveCentral].
func (s *Line) MoveCentral(ctx context.Context, address string) error {
	l, err := link.New(address, "", s.Agent, s.How)
	if err != nil {
		return err
	}
	return file.StoreError(file.SetFact(ctx, s.DB, file.FactCentral, l.Base()))
}

// Join is [device.Store.Join].
func (s *Line) Join(ctx context.Context, code, secret string) (string, error) {
	if err := people.CheckSecret(secret); err != nil {
		return "", err
	}
	if err := s.MayLeave(ctx, s.DB, ""); err != nil {
		return "", err
	}
	unlock, err := s.LockSoon(ctx)
	if err != nil {
		return "", err
	}
	defer unlock()
	e := &exchange{Line: s, summary: &Summary{}, watch: func(Progress) {}}
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
	err = s.Within(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO people (name, place, role, territories) VALUES (?, (SELECT count(*)
			FROM people), ?, ?) ON CONFLICT DO NOTHING`, who.Name, string(who.Role), string(territories)); err != nil {
			return err
		}
		return s.Joined(ctx, tx, who.Name, secret)
	})
	return who.Name, errors.Join(err, s.Overwrite(ctx))
}

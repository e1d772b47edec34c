package upkeep

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
	"homing/device/internal/exchange"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/device/internal/people"
	"homing/link"
	"homing/wire"
)

// Detach is [device.Store.Detach].
func (s *Keeper) Detach(ctx context.Context) (string, error) {
	unlock, err := s.Lock()
	if err != nil {
		return "", err
	}
	defer unlock()
	known, err := file.Facts(ctx, s.DB)
	if err != nil {
		return "", file.StoreError(err)
	}
	token := known[file.FactToken]
	switch {
	case token == "":
		return "", file.ErrNotEnrolled
	case known[file.FactWorker] == "":
		return "", file.ErrSignedOut
	}
	backup, err := s.BackupBefore(ctx, "detaching")
	if err != nil {
		return "", err
	}
	return backup, s.Within(ctx, func(tx *sqlx.Tx) error {
		for name, value := range map[string]string{file.FactToken: "", file.FactFormer: token, file.FactWorker: "", file.FactRole: ""} {
			if err := file.SetFact(ctx, tx, name, value); err != nil {
				return err
			}
		}
		return nil
	})
}

// Attach is [device.Store.Attach].
func (s *Keeper) Attach(ctx context.Context, central, code, name string, discard bool) (string, error) {
	unlock, err := s.Lock()
	if err != nil {
		return "", err
	}
	defer unlock()
	known, err := file.Facts(ctx, s.DB)
	if err != nil {
		return "", file.StoreError(err)
	}
	if known[file.FactToken] != "" {
		return "", fmt.Errorf("%w; detach it first", file.ErrEnrolled)
	}
	l, err := link.New(central, "", s.Agent, s.How)
	if err != nil {
		return "", err
	}
	l.Over(s.Over)
	var hello wire.Hello
	if _, err := l.Call(ctx, http.MethodGet, "/v1/hello", nil, nil, &hello); err != nil {
		return "", err
	}
	backup, err := s.BackupBefore(ctx, "attaching")
	if err != nil {
		return "", err
	}
	same := known[file.FactGeneration] == hello.Generation.String()
	for _, earlier := range hello.Earlier {
		same = same || known[file.FactGeneration] == earlier.String()
	}
	ask := wire.Enrolment{Code: code, Device: name, Incarnation: s.NewID(), Agent: s.Agent}
	if same {
		ask.Former = known[file.FactFormer]
	}
	if !same || discard {
		if err := s.othersUnsent(ctx); err != nil {
			return backup, err
		}
	}
	var got wire.Enrolled
	if _, err := l.Call(ctx, http.MethodPost, "/v1/enrolments", nil, ask, &got); err != nil {
		return "", err
	}
	return backup, s.Within(ctx, func(tx *sqlx.Tx) error {
		if err := people.NewIncarnation(ctx, tx, ask.Incarnation.String(), known[file.FactIncarnation]); err != nil {
			return err
		}
		now := map[string]string{file.FactCentral: l.Base(), file.FactDevice: got.Device.String(), file.FactName: name,
			file.FactToken: got.Token, file.FactFormer: "", file.FactWorker: got.Worker, file.FactRole: got.Role,
			file.FactOpen: strconv.FormatBool(code == ""), file.FactSealTo: file.BytesText(got.SealTo), file.FactSourceOf: got.Worker, file.FactRenewed: "", file.FactDefinitions: "", file.FactSeal: "", file.FactSettings: "", file.FactSettingsTold: ""}
		if !same {
			now[file.FactGeneration] = got.Generation.String()
		}
		for name, value := range now {
			if err := file.SetFact(ctx, tx, name, value); err != nil {
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
			now[file.FactStamp] = known[file.FactStamp]
			return s.offerAll(ctx, tx, now)
		}
		return s.PutAside(ctx, tx, got.Worker)
	})
}

// empty gives up all records and changes.
func (s *Keeper) empty(ctx context.Context, tx *sqlx.Tx) error {
	for _, statement := range []string{`DELETE FROM outbox`, `DELETE FROM travelled`, `DELETE FROM lost_values`,
		`DELETE FROM records`,
		`DELETE FROM tallies`,
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
func (s *Keeper) offerAll(ctx context.Context, tx *sqlx.Tx, known map[string]string) error {
	all, err := s.All(ctx, tx)
	if err != nil {
		return err
	}
	var rows []hold.Stored
	if err := tx.SelectContext(ctx, &rows,
		`SELECT `+hold.StoredColumns+` FROM records WHERE NOT removed ORDER BY collection, id`); err != nil {
		return err
	}
	if err := s.empty(ctx, tx); err != nil {
		return err
	}
	byCollection := map[string][]hold.Stored{}
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
				return fmt.Errorf("%w: record %s", file.ErrDamaged, row.ID)
			}
			for field := range fields {
				if f, is := c.Field(field); !is || !exchange.Settable(f) {
					delete(fields, field)
				}
			}
			fresh := hold.Stored{Collection: name, ID: row.ID, Fields: "{}", Computed: "{}", Local: row.Local}
			if _, err := s.Put(ctx, tx, fresh, fresh.Revision, change.Add, record.Diff(nil, fields), fields, known); err != nil {
				return err
			}
			if known[file.FactStamp], err = file.Fact(ctx, tx, file.FactStamp); err != nil {
				return err
			}
		}
	}
	return nil
}

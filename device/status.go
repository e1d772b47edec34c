package device

import (
	"context"
	"encoding/json"
	"time"
)

// Status is what a store says of itself.
type Status struct {
	Path        string             `json:"path"`
	Enrolled    bool               `json:"enrolled"`
	Central     string             `json:"central,omitempty"`
	Device      string             `json:"device,omitempty"`
	Name        string             `json:"name,omitempty"`
	Worker      string             `json:"worker,omitempty"`
	Role        string             `json:"role,omitempty"`
	Open        bool               `json:"open"` // central was open to everybody when last met
	Incarnation string             `json:"incarnation"`
	Unsent      int                `json:"unsent"`
	Refused     int                `json:"refused"`
	Waiting     int                `json:"waiting"`
	Collections []CollectionStatus `json:"collections"`
	Last        *Logged            `json:"last_exchange,omitempty"`
	OffsetMS    *int64             `json:"offset_ms,omitempty"` // of the device's clock: what to add to get central's
	People      []Worker           `json:"people"`
	LookedUp    int64              `json:"looked_up_bytes"`        // that records take which were looked up, about
	Budget      int64              `json:"budget_bytes,omitempty"` // that they may take
	Metered     bool               `json:"metered,omitempty"`
}

// Logged is an exchange in the store's log.
type Logged struct {
	StartedAt time.Time `json:"started_at"`
	EndedAt   time.Time `json:"ended_at"`
	Summary   Summary   `json:"summary"`
	Error     string    `json:"error,omitempty"`
}

// Status gives the state of the store; it needs no signal.
func (s *Store) Status(ctx context.Context) (Status, error) {
	status := Status{Path: s.path}
	known, err := facts(ctx, s.db)
	if err != nil {
		return status, storeError(err)
	}
	into := map[string]*string{factCentral: &status.Central, factDevice: &status.Device, factName: &status.Name,
		factWorker: &status.Worker,
		factRole:   &status.Role, factIncarnation: &status.Incarnation}
	for name, to := range into {
		*to = known[name]
	}
	status.Enrolled, status.Open = known[factToken] != "", known[factOpen] == "true"
	if known[factOffset] != "" {
		offset, err := s.offset(ctx, s.db)
		if err != nil {
			return status, err
		}
		ms := offset.By.Milliseconds()
		status.OffsetMS = &ms
	}
	err = s.db.QueryRowContext(ctx, `SELECT count(*) FILTER (WHERE state IN ('new', 'sent')), count(*) FILTER (WHERE state = 'refused'),
		count(*) FILTER (WHERE state = 'waiting') FROM outbox`).Scan(&status.Unsent, &status.Refused, &status.Waiting)
	if err != nil {
		return status, storeError(err)
	}
	if status.Collections, err = s.Collections(ctx); err != nil {
		return status, err
	}
	if status.People, err = s.People(ctx); err != nil {
		return status, err
	}
	if status.LookedUp, status.Budget, err = s.LookedUp(ctx); err != nil {
		return status, err
	}
	status.Metered = known[factMetered] == "true"
	status.Last, err = s.lastExchange(ctx)
	return status, err
}

// Log gives the latest exchanges of this store, the last one first.
func (s *Store) Log(ctx context.Context, limit int) ([]Logged, error) {
	var rows []struct {
		StartedAt string `db:"started_at"`
		EndedAt   string `db:"ended_at"`
		Summary   string `db:"summary"`
		Error     string `db:"error"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT started_at, ended_at, summary, error
			FROM exchanges ORDER BY ended_at DESC LIMIT ?`, limit); err != nil {
		return nil, storeError(err)
	}
	all := make([]Logged, len(rows))
	for n, row := range rows {
		all[n] = Logged{StartedAt: parseTime(row.StartedAt), EndedAt: parseTime(row.EndedAt), Error: row.Error}
		if err := json.Unmarshal([]byte(row.Summary), &all[n].Summary); err != nil {
			return nil, ErrDamaged
		}
	}
	return all, nil
}

func (s *Store) lastExchange(ctx context.Context) (*Logged, error) {
	all, err := s.Log(ctx, 1)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

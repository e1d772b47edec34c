package exchange

import (
	"context"
	"encoding/json"
	"time"

	"homing/core/settings"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/device/internal/people"
)

// Status is what a store says of itself.
type Status struct {
	Path        string                  `json:"path"`
	Enrolled    bool                    `json:"enrolled"`
	Central     string                  `json:"central,omitempty"`
	Device      string                  `json:"device,omitempty"`
	Name        string                  `json:"name,omitempty"`
	Worker      string                  `json:"worker,omitempty"`
	Role        string                  `json:"role,omitempty"`
	Open        bool                    `json:"open"` // central was open to everybody when last met
	Incarnation string                  `json:"incarnation"`
	Unsent      int                     `json:"unsent"`
	Refused     int                     `json:"refused"`
	Waiting     int                     `json:"waiting"`
	Collections []hold.CollectionStatus `json:"collections"`
	Last        *Logged                 `json:"last_exchange,omitempty"`
	OffsetMS    *int64                  `json:"offset_ms,omitempty"` // of the device's clock: what to add to get central's
	People      []people.Worker         `json:"people"`
	LookedUp    int64                   `json:"looked_up_bytes"`        // that records take which were looked up, about
	Budget      int64                   `json:"budget_bytes,omitempty"` // that they may take
	Metered     bool                    `json:"metered,omitempty"`
	// Settings are what central has said of how the device behaves, and SettingsAt since when it does.
	Settings   settings.Values `json:"settings,omitempty"`
	SettingsAt *time.Time      `json:"settings_at,omitempty"`
	Note       string          `json:"note,omitempty"`     // to whoever uses the device
	Outdated   string          `json:"outdated,omitempty"` // the version that central asks for at least, where this program is older
}

// Logged is an exchange in the store's log.
type Logged struct {
	StartedAt time.Time `json:"started_at"`
	EndedAt   time.Time `json:"ended_at"`
	Summary   Summary   `json:"summary"`
	Error     string    `json:"error,omitempty"`
}

// Status is [device.Store.Status].
func (s *Line) Status(ctx context.Context) (Status, error) {
	status := Status{Path: s.Where}
	known, err := file.Facts(ctx, s.DB)
	if err != nil {
		return status, file.StoreError(err)
	}
	into := map[string]*string{
		file.FactCentral:     &status.Central,
		file.FactDevice:      &status.Device,
		file.FactName:        &status.Name,
		file.FactWorker:      &status.Worker,
		file.FactRole:        &status.Role,
		file.FactIncarnation: &status.Incarnation,
	}
	for name, to := range into {
		*to = known[name]
	}
	status.Enrolled, status.Open = known[file.FactToken] != "", known[file.FactOpen] == "true"
	if known[file.FactOffset] != "" {
		offset, err := s.Offset(ctx, s.DB)
		if err != nil {
			return status, err
		}
		ms := offset.By.Milliseconds()
		status.OffsetMS = &ms
	}
	err = s.DB.QueryRowContext(ctx, countOwed).
		Scan(&status.Unsent, &status.Refused, &status.Waiting)
	if err != nil {
		return status, file.StoreError(err)
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
	kept, err := file.Settings(ctx, s.DB)
	if err != nil {
		return status, file.StoreError(err)
	}
	if status.Settings, status.Note = kept.Values, kept.Values.Text(settings.Note); kept.Digest != "" {
		status.SettingsAt = &kept.At
	}
	if least := kept.Values.Text(settings.LeastVersion); settings.Older(s.Agent, least) {
		status.Outdated = least
	}
	status.Metered = known[file.FactMetered] == "true"
	status.Last, err = s.lastExchange(ctx)
	return status, err
}

// Log is [device.Store.Log].
func (s *Line) Log(ctx context.Context, limit int) ([]Logged, error) {
	var rows []struct {
		StartedAt string `db:"started_at"`
		EndedAt   string `db:"ended_at"`
		Summary   string `db:"summary"`
		Error     string `db:"error"`
	}
	if err := s.DB.SelectContext(ctx, &rows, `SELECT started_at, ended_at, summary, error
			FROM exchanges ORDER BY ended_at DESC LIMIT ?`, limit); err != nil {
		return nil, file.StoreError(err)
	}
	all := make([]Logged, len(rows))
	for n, row := range rows {
		all[n] = Logged{
			StartedAt: file.ParseTime(row.StartedAt),
			EndedAt:   file.ParseTime(row.EndedAt),
			Error:     row.Error,
		}
		if err := json.Unmarshal([]byte(row.Summary), &all[n].Summary); err != nil {
			return nil, file.ErrDamaged
		}
	}
	return all, nil
}

func (s *Line) lastExchange(ctx context.Context) (*Logged, error) {
	all, err := s.Log(ctx, 1)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return &all[0], nil
}

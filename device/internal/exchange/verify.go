package exchange

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"

	"homing/core/fingerprint"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/device/internal/save"
	"homing/wire"
)

// Verified is how a device's copy of a collection compares with what central says it should be.
type Verified struct {
	Collection  string       `json:"collection"`
	Records     int          `json:"records"` // that both sides should hold
	Cursor      int64        `json:"cursor"`
	Head        int64        `json:"head"`
	Differences []Difference `json:"differences,omitempty"`
	Mended      int          `json:"mended,omitempty"`
}

// Difference is a record over which a device and central do not agree. What is unsent is left out of the comparison.
type Difference struct {
	Record  uuid.UUID `json:"record"`
	Label   string    `json:"label,omitempty"`
	What    string    `json:"what"`    // missing here, only here, or other values
	Here    int64     `json:"here"`    // revision
	Central int64     `json:"central"` // revision
}

// What a difference is.
const (
	MissingHere = "missing here"
	OnlyHere    = "only here"
	OtherValues = "other values"
)

// Verify is [device.Store.Verify].
func (s *Line) Verify(ctx context.Context, mere, mend bool) ([]Verified, error) {
	if err := s.Closed(ctx); err != nil {
		return nil, err // differences are named
	}
	if !mere {
		if _, err := s.Pull(ctx, nil); err != nil {
			return nil, err
		}
	}
	unlock, err := s.Lock()
	if err != nil {
		return nil, err
	}
	defer unlock()
	e := &exchange{Line: s, summary: &Summary{Exchange: s.NewID()}, watch: func(Progress) {}}
	if err := e.meet(ctx); err != nil {
		return nil, err
	}
	if e.revoked {
		return nil, file.ErrRevoked
	}
	collections, err := s.Cursors(ctx)
	if err != nil {
		return nil, err
	}
	all := []Verified{}
	for _, c := range collections {
		if !c.Loads() || !e.defined[c.Name] {
			continue
		}
		one, err := e.verify(ctx, c)
		if err != nil {
			return nil, err
		}
		if mend && len(one.Differences) > 0 {
			if err := e.fetchAnew(ctx, &one); err != nil {
				return nil, err
			}
		}
		all = append(all, one)
	}
	return all, nil
}

// heldHere is a record as central last said that it is.
type heldHere struct {
	revision    int64
	fingerprint string
	label       string
}

func (e *exchange) verify(ctx context.Context, c hold.CollectionStatus) (Verified, error) {
	result := Verified{Collection: c.Name, Cursor: c.Cursor}
	known, err := e.coverage(ctx, c.Name)
	if err != nil {
		return result, err
	}
	ask := url.Values{"covers": known.covers}
	if len(known.covers) == 0 {
		ask.Set("covers", "")
	}
	if slices.Equal(known.covers, []string{"*"}) {
		ask.Del("covers") // all that its workers hold
	}
	var there wire.Fingerprints
	if err := e.call(ctx, http.MethodGet, "/v1/fingerprints/"+c.Name+"?"+ask.Encode(), nil, &there); err != nil {
		return result, err
	}
	result.Head = there.Head
	here, sets, err := e.heldHere(ctx, c.Name)
	if err != nil {
		return result, err
	}
	for name, bucket := range there.Buckets {
		result.Records += bucket.Count
		if sets[name] == nil {
			sets[name] = &fingerprint.Set{}
		}
	}
	for name, set := range sets {
		if bucket := there.Buckets[name]; bucket.Count == set.Count() &&
			(bucket.Fingerprint == set.String() || bucket.Count == 0) {
			continue
		}
		ask.Set("bucket", name)
		var detail wire.Fingerprints
		if err := e.call(ctx, http.MethodGet, "/v1/fingerprints/"+c.Name+"?"+ask.Encode(), nil, &detail); err != nil {
			return result, err
		}
		result.Differences = append(result.Differences, differences(name, here, detail.Records)...)
	}
	slices.SortFunc(result.Differences, func(a, b Difference) int {
		return strings.Compare(a.Record.String(),
			b.Record.String())
	})
	return result, nil
}

func differences(bucket string, here map[uuid.UUID]heldHere, there []wire.Fingerprint) (all []Difference) {
	named := map[uuid.UUID]bool{}
	for _, r := range there {
		named[r.ID] = true
		held, known := here[r.ID]
		switch {
		case !known:
			all = append(all, Difference{Record: r.ID, What: MissingHere, Central: r.Revision})
		case held.fingerprint != r.Fingerprint:
			all = append(all, Difference{Record: r.ID, Label: held.label, What: OtherValues, Here: held.revision,
				Central: r.Revision})
		}
	}
	for id, held := range here {
		if fingerprint.Bucket(id) == bucket && !named[id] {
			all = append(all, Difference{Record: id, Label: held.label, What: OnlyHere, Here: held.revision})
		}
	}
	return all
}

// heldHere gives what central last said of each record: what is unsent does not count.
func (e *exchange) heldHere(ctx context.Context, name string) (map[uuid.UUID]heldHere, map[string]*fingerprint.Set,
	error) {
	c, err := e.Collection(ctx, name)
	if err != nil {
		return nil, nil, err
	}
	var rows []hold.Stored
	if err := e.DB.SelectContext(ctx, &rows,
		`SELECT `+hold.StoredColumns+` FROM records WHERE collection = ? AND revision > 0`, name); err != nil {
		return nil, nil, file.StoreError(err)
	}
	here, sets := map[uuid.UUID]heldHere{}, map[string]*fingerprint.Set{}
	for _, row := range rows {
		under, err := row.Under()
		if err != nil {
			return nil, nil, err
		}
		if under.Removed || row.Withdrawn > 0 {
			continue
		}
		id, err := file.ParseID(row.ID)
		if err != nil {
			return nil, nil, err
		}
		var one fingerprint.Set
		one.Add(id, under.Fields.JSON())
		here[id] = heldHere{revision: under.Revision, fingerprint: one.String(), label: save.Label(c, id, under.Fields)}
		bucket := fingerprint.Bucket(id)
		if sets[bucket] == nil {
			sets[bucket] = &fingerprint.Set{}
		}
		sets[bucket].Add(id, under.Fields.JSON())
	}
	return here, sets, nil
}

// fetchAnew brings in line what differs, after a backup.
func (e *exchange) fetchAnew(ctx context.Context, result *Verified) error {
	const chunk = 500
	if _, err := e.BackupBefore(ctx, "mending"); err != nil {
		return err
	}
	err := e.within(ctx, func(tx *sqlx.Tx) error {
		for _, one := range result.Differences {
			if _, err := tx.ExecContext(ctx, `UPDATE records SET lost = ?,
					under_fields = CASE WHEN pending > 0 THEN under_fields END WHERE collection = ? AND id = ?`,
				e.generation.String(), result.Collection, one.Record.String()); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for some := range slices.Chunk(result.Differences, chunk) {
		var ask wire.Held
		for _, one := range some {
			ask.Records = append(ask.Records, wire.HeldRecord{ID: one.Record})
		}
		var got wire.Refreshed
		if err := e.call(ctx, http.MethodPost, "/v1/refresh/"+result.Collection, ask, &got); err != nil {
			return err
		}
		if err := e.takeFound(ctx, result.Collection, got.Records); err != nil {
			return err
		}
		for _, r := range got.Records {
			if !r.Withdrawn {
				result.Mended++
			}
		}
	}
	return nil
}

// TurnBack is [device.Store.TurnBack].
func (s *Line) TurnBack(ctx context.Context, collection string, cursor int64) error {
	return s.Within(ctx, func(tx *sqlx.Tx) error {
		if _, err := s.Definition(ctx, tx, collection); err != nil {
			return err
		}
		var now int64
		if err := tx.GetContext(ctx, &now, `SELECT cursor FROM collections WHERE name = ?`, collection); err != nil {
			return err
		}
		if cursor < 0 || cursor > now {
			return fmt.Errorf(
				"%w: the cursor of %s is %d; it can be turned back to 0 to %d, and forward only by pulling",
				file.ErrNotAllowed,
				collection,
				now,
				now,
			)
		}
		_, err := tx.ExecContext(ctx, `UPDATE collections SET cursor = ?, loading = loading OR ? = 0 WHERE name = ?`,
			cursor, cursor, collection)
		return err
	})
}

package past

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/fleet"
	"homing/central/postgres"
	"homing/core/definition"
	"homing/core/record"
	"homing/core/rights"
	"homing/core/sight"
	"homing/wire"
)

// Accepted is a change that central has accepted, with the record that it is of.
type Accepted struct {
	Collection string    `json:"collection"`
	Record     uuid.UUID `json:"record" format:"uuid"`
	Label      string    `json:"label" doc:"What the record is called now."`
	wire.HistoryEntry
}

// AcceptedOf says which accepted changes are asked for; the zero value stands for all.
type AcceptedOf struct {
	Collection string
	By         string // author
	Device     string // its name; see AtCentral
	AtCentral  bool   // made there, and not on a device
	Batch      uuid.UUID
	Since      time.Time // received then or later
	Before     string    // where an earlier page ended
	Limit      int
}

// AcceptedPage is a page of accepted changes, the latest first.
type AcceptedPage struct {
	Changes []Accepted `json:"changes"`
	Next    string     `json:"next,omitempty" doc:"Where the next page goes on; left out when there is none."`
}

// place is where a page ends: changes that came at once are told apart by their collection and position.
type place struct {
	at         time.Time
	collection string
	position   int64
}

func (p place) String() string {
	return fmt.Sprintf("%s %s %d", p.at.UTC().Format(time.RFC3339Nano), p.collection, p.position)
}

func readPlace(text string) (p place, err error) {
	parts := strings.Fields(text)
	if len(parts) == 3 {
		p.collection = parts[1]
		if p.at, err = time.Parse(time.RFC3339Nano, parts[0]); err == nil {
			p.position, err = strconv.ParseInt(parts[2], 10, 64)
		}
	}
	if err != nil || len(parts) != 3 {
		return p, fault.Fail(fault.Invalid, "before %.80q: give what an earlier page said under next", text)
	}
	return p, nil
}

// spans are how far back is looked, one after the other, until a page is full: a summary by ranges of pages finds a
// span quickly, and no order.
var spans = []time.Duration{3 * time.Minute, time.Hour, 24 * time.Hour, 30 * 24 * time.Hour, 100 * 365 * 24 * time.Hour}

// Accepted gives changes of all records that somebody may see, the latest first. Of a page that is full, or that had
// to leave out very many, it says where to go on.
func (c *Past) Accepted(ctx context.Context, asker fleet.Person, of AcceptedOf) (AcceptedPage, error) {
	page := AcceptedPage{Changes: []Accepted{}}
	if of.Collection != "" {
		if _, err := c.db.Collection(ctx, of.Collection); err != nil {
			return page, err
		}
	}
	definitions, err := c.db.Definitions(ctx)
	if err != nil {
		return page, err
	}
	last := place{at: c.db.Now().Add(time.Minute), collection: "~"} // behind all names; what another instance receives now is not missed
	if of.Before != "" {
		if last, err = readPlace(of.Before); err != nil {
			return page, err
		}
	}
	const rounds = 20
	for range rounds {
		rows, err := c.acceptedBefore(ctx, asker, of, last, of.Limit+1)
		if err != nil {
			return page, err
		}
		for n, row := range rows {
			if len(page.Changes) == of.Limit {
				page.Next = last.String()
				return page, nil
			}
			last = place{row.ReceivedAt, row.Collection, row.Position}
			compiled := definitions[row.Collection]
			if compiled == nil {
				continue
			}
			one, seen, err := c.accepted(sight.Alone(asker), compiled, rows[n])
			if err != nil {
				return page, err
			}
			if seen {
				page.Changes = append(page.Changes, one)
			}
		}
		if len(rows) <= of.Limit {
			return page, nil
		}
	}
	page.Next = last.String()
	return page, nil
}

// acceptedRow is a version, with what its record is now.
type acceptedRow struct {
	storedVersion
	Fields      []byte     `db:"fields"`
	Computed    []byte     `db:"computed"`
	Territories fleet.Keys `db:"territories"`
}

func (c *Past) acceptedBefore(ctx context.Context, asker fleet.Person, of AcceptedOf, last place, limit int) (rows []acceptedRow, err error) {
	oldest := of.Since
	// Who covers everything needs no record to be looked at before the page is full.
	covered := "$5::text[] IS NOT NULL"
	if !slices.Contains(asker.Territories, rights.All) {
		covered = `EXISTS (SELECT 1 FROM records r WHERE r.collection = v.collection AND r.id = v.record AND ` + postgres.Covered("$5") + `)`
	}
	for _, span := range spans {
		from := last.at.Add(-span)
		if from.Before(oldest) {
			from = oldest
		}
		rows = nil
		if err := c.db.SelectContext(ctx, &rows, `
			SELECT v.collection, v.record, v.revision, v.position, v.kind, v.removed, v.base, v.delta, v.sent, v.decisions, v.incarnation,
				v.number, v.batch, v.author, v.device, v.edited_device, v.edited_at, v.uncertainty_ms, v.received_at, r.fields, r.computed,
				array_to_json(r.territories) AS territories
			FROM (SELECT v.* FROM versions v
				WHERE v.received_at >= $1 AND v.received_at <= $2 AND (v.received_at, v.collection, v.position) < ($2, $3, $4)
					AND ($6 = '' OR v.collection = $6) AND ($7 = '' OR v.author = $7) AND ($8 = '' OR v.device = $8)
					AND (NOT $9 OR v.device = '') AND ($10::uuid IS NULL OR v.batch = $10) AND `+covered+`
				ORDER BY v.received_at DESC, v.collection DESC, v.position DESC LIMIT $11) v
				JOIN records r ON r.collection = v.collection AND r.id = v.record
			ORDER BY v.received_at DESC, v.collection DESC, v.position DESC`, from, last.at, last.collection, last.position,
			asker.Territories, of.Collection, of.By, of.Device, of.AtCentral, uuid.NullUUID{UUID: of.Batch, Valid: of.Batch != uuid.Nil},
			limit); err != nil {
			return nil, err
		}
		if len(rows) == limit || !from.After(oldest) {
			return rows, nil
		}
	}
	return rows, nil
}

func (c *Past) accepted(askers sight.Askers, compiled *definition.Collection, row acceptedRow) (one Accepted, seen bool, err error) {
	var now record.Fields
	if err := json.Unmarshal(row.Fields, &now); err != nil {
		return one, false, fmt.Errorf("stored record %s: %w", row.Record, err)
	}
	if !askers.See(compiled, row.Territories, now) {
		return one, false, nil
	}
	one = Accepted{Collection: row.Collection, Record: row.Record, Label: compiled.LabelOf(now)}
	one.HistoryEntry, err = row.entry()
	return one, true, err
}

// Arrivals is how many changes arrived in a span of time.
type Arrivals struct {
	From       time.Time `json:"from" doc:"Where the span begins; it ends where the next begins."`
	Collection string    `json:"collection"`
	Changes    int64     `json:"changes"`
	Conflicted int64     `json:"conflicted,omitempty" doc:"Of these, how many met another edit."`
}

// Arrived counts the accepted changes of records that somebody covers, by when central received them. Collections
// whose rules decide record by record who may read are left out for who is bound by them. Spans without any are left out.
func (c *Past) Arrived(ctx context.Context, asker fleet.Person, since time.Time, span time.Duration) ([]Arrivals, error) {
	all := []Arrivals{}
	definitions, err := c.db.Definitions(ctx)
	if err != nil {
		return nil, err
	}
	names := []string{}
	for name, compiled := range definitions {
		if sight.Alone(asker).ReadsAll(compiled) {
			names = append(names, name)
		}
	}
	covered := "$4::text[] IS NOT NULL" // who covers everything is asked for no record
	if !slices.Contains(asker.Territories, rights.All) {
		covered = "EXISTS (SELECT 1 FROM records r WHERE r.collection = v.collection AND r.id = v.record AND " + postgres.Covered("$4") + ")"
	}
	rows := []struct {
		From       time.Time `db:"from_at"`
		Collection string    `db:"collection"`
		Changes    int64     `db:"changes"`
		Conflicted int64     `db:"conflicted"`
	}{}
	err = c.db.SelectContext(ctx, &rows, `SELECT date_bin($1::bigint * interval '1 second', v.received_at, $2) AS from_at, v.collection,
			count(*) AS changes, count(v.decisions) AS conflicted
		FROM versions v WHERE v.received_at >= $2 AND v.collection = ANY($3) AND `+covered+` GROUP BY 1, 2 ORDER BY 1, 2`,
		int64(span/time.Second), since.UTC(), names, asker.Territories)
	for _, row := range rows {
		all = append(all, Arrivals{row.From.UTC(), row.Collection, row.Changes, row.Conflicted})
	}
	return all, err
}

package finding

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"homing/central/fleet"
	"homing/core/merge"
	"homing/core/record"
	"homing/core/sight"
)

// Conflict is a field of a record that waits for a person.
type Conflict struct {
	Collection string          `json:"collection"`
	Record     uuid.UUID       `json:"record" format:"uuid"`
	Label      string          `json:"label" doc:"What the record is called."`
	Field      string          `json:"field"`
	Revision   int64           `json:"revision" doc:"The record's revision now; settling names it as its base."`
	OpenedAt   time.Time       `json:"opened_at"`
	Base       json.RawMessage `json:"base,omitempty" doc:"What the first disputing edit started from."`
	Values     []Contender     `json:"values" doc:"What central has first, then the others in the order in which they came."`
}

// Contender is one value of a conflict, with where it comes from.
type Contender struct {
	Value      json.RawMessage `json:"value,omitempty"`
	Revision   int64           `json:"revision"`
	Author     string          `json:"author"`
	Device     string          `json:"device,omitempty"`
	EditedAt   time.Time       `json:"edited_at" doc:"In central's time."`
	ReceivedAt time.Time       `json:"received_at"`
}

// Conflicts gives the open conflicts that somebody may see, the oldest first.
func (c *Finding) Conflicts(ctx context.Context, asker fleet.Person) ([]Conflict, error) {
	all, err := c.db.Definitions(ctx)
	if err != nil {
		return nil, err
	}
	var rows []struct {
		Collection  string     `db:"collection"`
		ID          uuid.UUID  `db:"id"`
		Revision    int64      `db:"revision"`
		Fields      []byte     `db:"fields"`
		Computed    []byte     `db:"computed"`
		Marks       []byte     `db:"marks"`
		Territories fleet.Keys `db:"territories"`
	}
	if err := c.db.SelectContext(ctx, &rows, `SELECT collection, id, revision, fields, computed, marks, array_to_json(territories) AS territories
		FROM records WHERE (marks->'disputes') IS NOT NULL AND NOT removed`); err != nil {
		return nil, err
	}
	conflicts := []Conflict{}
	for _, r := range rows {
		compiled := all[r.Collection]
		seen, err := sees(sight.Alone(asker), compiled, r.Territories, r.Fields)
		if err != nil {
			return nil, err
		}
		if !seen {
			continue
		}
		var fields record.Fields
		var marks merge.Marks
		if err := json.Unmarshal(withComputed(r.Fields, r.Computed), &fields); err != nil {
			return nil, fmt.Errorf("stored record %s: %w", r.ID, err)
		}
		if err := json.Unmarshal(r.Marks, &marks); err != nil {
			return nil, fmt.Errorf("stored record %s: %w", r.ID, err)
		}
		for _, name := range slices.Sorted(maps.Keys(marks.Disputes)) {
			one := Conflict{Collection: r.Collection, Record: r.ID, Label: compiled.LabelOf(fields), Field: name, Revision: r.Revision, Base: marks.Disputes[name].Base}
			if err := c.contenders(ctx, &one, centralValue(fields, name), marks.Standing(name), marks.Disputes[name]); err != nil {
				return nil, err
			}
			conflicts = append(conflicts, one)
		}
	}
	slices.SortFunc(conflicts, func(a, b Conflict) int { return a.OpenedAt.Compare(b.OpenedAt) })
	return conflicts, nil
}

// centralValue is what central has meanwhile of what is disputed.
func centralValue(fields record.Fields, name string) json.RawMessage {
	if name == merge.RecordRemoval {
		return json.RawMessage("false")
	}
	return fields.At(name)
}

// contenders finds in the history who made which value.
func (c *Finding) contenders(ctx context.Context, one *Conflict, central json.RawMessage, mark merge.Mark, open merge.Dispute) error {
	one.Values = []Contender{{Value: central, Revision: mark.Revision}}
	revisions := []int64{open.Opened, mark.Revision}
	for _, other := range open.Others {
		one.Values = append(one.Values, Contender{Value: other.Value, Revision: other.Side.Revision})
		revisions = append(revisions, other.Side.Revision)
	}
	var versions []struct {
		Revision   int64     `db:"revision"`
		Author     string    `db:"author"`
		Device     string    `db:"device"`
		EditedAt   time.Time `db:"edited_at"`
		ReceivedAt time.Time `db:"received_at"`
	}
	if err := c.db.SelectContext(ctx, &versions, `SELECT revision, author, device, edited_at, received_at FROM versions WHERE collection = $1 AND record = $2 AND revision = ANY($3)`,
		one.Collection, one.Record, revisions); err != nil {
		return err
	}
	for _, v := range versions {
		if v.Revision == open.Opened {
			one.OpenedAt = v.ReceivedAt.UTC()
		}
		for n := range one.Values {
			if one.Values[n].Revision == v.Revision {
				one.Values[n].Author, one.Values[n].Device, one.Values[n].EditedAt, one.Values[n].ReceivedAt = v.Author, v.Device, v.EditedAt.UTC(), v.ReceivedAt.UTC()
			}
		}
	}
	return nil
}

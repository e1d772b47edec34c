package memory

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"homing/core/desk"
)

// Records are all records, the removed among them, by collection and id.
func (m *Tables) Records() []desk.Held {
	var all []desk.Held
	for at, r := range m.rows {
		all = append(all, desk.Held{Key: at, Row: r.Row})
	}
	slices.SortFunc(all, func(a, b desk.Held) int {
		if a.Collection != b.Collection {
			return strings.Compare(a.Collection, b.Collection)
		}
		return slices.Compare(a.ID[:], b.ID[:])
	})
	return all
}

// History is every accepted change, in the order in which they were accepted.
func (m *Tables) History() []desk.Accepted { return m.history }

// Backup gives a copy of all that is there, for [Tables.Restore].
func (m *Tables) Backup() *Tables {
	copied := *m
	copied.definitions, copied.heads, copied.series = maps.Clone(m.definitions), maps.Clone(m.heads), maps.Clone(m.series)
	copied.left, copied.formerly = maps.Clone(m.left), maps.Clone(m.formerly)
	copied.people, copied.former = maps.Clone(m.people), maps.Clone(m.former)
	copied.history, copied.torn = slices.Clone(m.history), maps.Clone(m.torn)
	copied.rows, copied.answers = map[desk.Key]*row{}, map[uuid.UUID]map[int64]desk.Kept{}
	for at, r := range m.rows {
		kept := *r
		copied.rows[at] = &kept
	}
	for incarnation, answers := range m.answers {
		copied.answers[incarnation] = maps.Clone(answers)
	}
	return &copied
}

// backTo makes the tables what they were.
func (m *Tables) backTo(before *Tables) {
	was := *before.Backup()
	was.Heard, was.Faults, was.now = m.Heard, m.Faults, m.now
	*m = was
}

// PutBack goes back to a backup under the generation that it has, as a database does that is put back by hand.
func (m *Tables) PutBack(backup *Tables) {
	m.backTo(backup)
	for _, r := range m.rows {
		r.late = false
	}
}

// Restore goes back to a backup, under a new generation and a new source, as package postgres does with a database.
// Series go on by gap.
func (m *Tables) Restore(backup *Tables, generation, source uuid.UUID, gap int64) {
	// Last comes the one that the backup is of: only its revisions mean the same.
	all := append(slices.Clone(m.Earlier), m.Generation)
	earlier := slices.DeleteFunc(all, func(one uuid.UUID) bool { return one == backup.Generation })
	m.backTo(backup)
	m.Generation, m.Earlier, m.source = generation, append(earlier, backup.Generation), source
	for _, r := range m.rows {
		r.Restored, r.late = r.Revision, false
	}
	for series := range m.series {
		m.series[series] += gap
	}
}

// marshal writes what is known to be writable.
func marshal(value any) json.RawMessage {
	text, err := json.Marshal(value)
	if err != nil {
		panic(fmt.Sprintf("%T does not marshal: %v", value, err))
	}
	return text
}

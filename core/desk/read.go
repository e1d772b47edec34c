package desk

import (
	"errors"
	"fmt"
	"slices"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
)

// Item is one change of a batch, or the answer to what could not be read as one.
type Item struct {
	Change     change.Change
	Digest     []byte
	Unreadable *Answer
	Sealed     bool // whoever brings it does not know what it says, and needs the record that comes of it
	renamed    bool // some of its fields came under names that they no longer have
}

const maxTurned = 100 * 366 * 24 * 3600 * 1000 // milliseconds

// Read makes an item of a change as it came, with its values in their one form. A change that makes no sense harms no
// other.
func Read(c change.Change) Item {
	fields, err := c.Fields.Canonical()
	if err != nil {
		var wrong *record.FieldError
		field := ""
		if errors.As(err, &wrong) {
			field, err = wrong.Field, wrong.Err
		}
		return Unreadable(c.Number, field, err.Error())
	}
	c.Fields = fields
	if c.Collection != "" && !definition.Name.MatchString(c.Collection) {
		answer := refusal(c.Number, change.CodeUnknownCollection, "%q cannot name a collection", c.Collection)
		return Item{Unreadable: &answer}
	}
	c.EditedAt = c.EditedAt.UTC()
	if problem := problemOf(c); problem != "" {
		return Unreadable(c.Number, "", problem)
	}
	return ItemOf(c)
}

// ItemOf makes an item of a change that is known to be in order.
func ItemOf(c change.Change) Item { return Item{Change: c, Digest: c.Digest()} }

// ItemsOf makes items of changes that are known to be in order.
func ItemsOf(changes []change.Change) []Item {
	items := make([]Item, len(changes))
	for n, one := range changes {
		items[n] = ItemOf(one)
	}
	return items
}

// Unreadable is an item that only has an answer.
func Unreadable(number int64, field, message string) Item {
	answer := refusal(number, change.CodeMalformed, "%s", message)
	answer.Reasons[0].Field = field
	return Item{Unreadable: &answer}
}

func problemOf(c change.Change) string {
	foldsBadly := func(n int64) bool { return n < 1 || n >= c.Number }
	switch {
	case c.Number < 1:
		return "a change has a number of 1 or more"
	case c.Record == uuid.Nil:
		return "a change names the record by its id"
	case c.Kind != change.Add && c.Kind != change.Edit && c.Kind != change.Remove:
		return fmt.Sprintf("the kind %q is not add, edit or remove", c.Kind)
	case c.Base < 0:
		return "the base revision is 0 or more"
	case c.Stamp.IsZero():
		return "a change carries the device's stamp"
	case c.EditedAt.Year() < 1970:
		return "edited_at is missing or before 1970; set the device's clock and save the record again"
	case c.Kind == change.Remove && len(c.Fields) > 0:
		return "a removal carries no fields"
	case c.Group != nil && (c.Group.ID == uuid.Nil || c.Group.Of < 1 || c.Group.Of > change.MaxGroup):
		return fmt.Sprintf("a group has an id and 1 to %d changes", change.MaxGroup)
	case len(c.Folds) > change.MaxFolds || slices.ContainsFunc(c.Folds, foldsBadly):
		return fmt.Sprintf("a change folds at most %d others, all with lower numbers", change.MaxFolds)
	case len(c.Seen) > change.MaxSeen:
		return fmt.Sprintf("a change names at most %d others as seen", change.MaxSeen)
	case c.TurnedMS > maxTurned || c.TurnedMS < -maxTurned:
		return "no clock is turned by more than a century"
	case c.UnsureMS > maxTurned || c.UnsureMS < 0:
		return "unsure_ms is 0 to a century"
	}
	return ""
}

// present gives the items with the names that their fields have now. It comes before anything else looks at them, so
// that family, series and merge see one name only. The digests stay those of what was sent.
func present(definitions map[string]*definition.Collection, items []Item) []Item {
	out := items
	for n, it := range items {
		c := definitions[it.Change.Collection]
		if it.Unreadable != nil || c == nil {
			continue
		}
		fields := c.CurrentNames(it.Change.Fields)
		if !renames(c, it.Change.Fields, fields) {
			continue
		}
		if &out[0] == &items[0] {
			out = slices.Clone(items)
		}
		out[n].Change.Fields, out[n].renamed = fields, true
	}
	return out
}

func renames(c *definition.Collection, sent, now record.Delta) bool {
	for old := range c.Renamed {
		_, uses := sent[old]
		_, still := now[old]
		if uses && !still {
			return true
		}
	}
	return false
}

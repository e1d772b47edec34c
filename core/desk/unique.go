package desk

import (
	"cmp"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/merge"
	"homing/core/record"
)

// keyTaken refuses a second record with the same key, where keys are unique. The first is named to who may see it.
func (d *desk) keyTaken(c *definition.Collection, at Key, current *Row, next merge.State) []change.Reason {
	text := uniqueKey(c, next.Fields, next.Removed)
	if text == "" || current.Exists() && uniqueKey(c, current.Fields, current.Removed) == text {
		return nil
	}
	holder, taken := d.read.Holders[c.Definition.Collection][text]
	if !taken || holder.ID == at.ID {
		return nil
	}
	field, _ := c.Field(c.Key)
	title := cmp.Or(field.Title, field.Name)
	why := reason(change.CodeKeyTaken, "another record has the %s %s already; take another", title, text)
	if d.seen(Key{c.Definition.Collection, holder.ID}, holder.Row) {
		why = reason(change.CodeKeyTaken, "%s (%s) has the %s %s already; take another, or work on that record instead",
			c.LabelOf(holder.Row.Fields), holder.ID, title, text)
	}
	why[0].Field = c.Key
	return why
}

// uniqueKey is the text of a record's key, if others may not have it.
func uniqueKey(c *definition.Collection, fields record.Fields, removed bool) string {
	if !c.Unique || removed || len(fields[c.Key]) == 0 {
		return ""
	}
	return definition.Plain(fields[c.Key])
}

// holdKey notes which keys a record has now, and no longer has.
func (d *desk) holdKey(at Key, row *Row) {
	c := d.read.Definitions[at.Collection]
	if c == nil || !c.Unique {
		return
	}
	if was := d.read.Rows[at]; was != nil {
		if text := uniqueKey(c, was.Fields, was.Removed); text != "" && d.read.Holders[at.Collection][text].ID == at.ID {
			delete(d.read.Holders[at.Collection], text)
		}
	}
	if row == nil {
		return
	}
	if text := uniqueKey(c, row.Fields, row.Removed); text != "" {
		if d.read.Holders[at.Collection] == nil {
			d.read.Holders[at.Collection] = map[string]Holder{}
		}
		d.read.Holders[at.Collection][text] = Holder{at.ID, row}
	}
}

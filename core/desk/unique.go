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
	text := oneText(c, next.Fields, next.Removed)
	if text == "" || current.Exists() && oneText(c, current.Fields, current.Removed) == text {
		return nil
	}
	holder, taken := d.read.Holders[c.Definition.Collection][text]
	if !taken || holder.ID == at.ID {
		return nil
	}
	if c.Coverage != nil {
		return d.placeTaken(c, holder)
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

// placeTaken refuses a second record for a place and a period, under another id than the one that follows from them.
func (d *desk) placeTaken(c *definition.Collection, holder Holder) []change.Reason {
	why := reason(change.CodeKeyTaken, "there is one for this place and period already, which you may not see")
	if d.seen(Key{c.Definition.Collection, holder.ID}, holder.Row) {
		why = reason(change.CodeKeyTaken, "%s (%s) is for this place and period already; work on that record instead",
			c.LabelOf(holder.Row.Fields), holder.ID)
	}
	why[0].Field = c.Coverage.Period
	return why
}

// oneText is what no other record may have, of one that is not removed.
func oneText(c *definition.Collection, fields record.Fields, removed bool) string {
	if removed {
		return ""
	}
	return c.OneText(fields)
}

// holdKey notes which keys a record has now, and no longer has.
func (d *desk) holdKey(at Key, row *Row) {
	c := d.read.Definitions[at.Collection]
	if c == nil || c.OneFor() == nil {
		return
	}
	if was := d.read.Rows[at]; was != nil {
		if text := oneText(c, was.Fields, was.Removed); text != "" && d.read.Holders[at.Collection][text].ID == at.ID {
			delete(d.read.Holders[at.Collection], text)
		}
	}
	if row == nil {
		return
	}
	if text := oneText(c, row.Fields, row.Removed); text != "" {
		if d.read.Holders[at.Collection] == nil {
			d.read.Holders[at.Collection] = map[string]Holder{}
		}
		d.read.Holders[at.Collection][text] = Holder{at.ID, row}
	}
}

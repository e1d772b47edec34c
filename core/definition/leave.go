package definition

import (
	"homing/core/expression"
	"homing/core/rights"
)

// With which of the records that they cover somebody may do something.
const (
	WithAll  = "all"
	WithNone = "none"
	WithSome = "some" // as the rule says of each
)

// Leave is how far somebody may do one thing with the records of a collection that they cover.
type Leave struct {
	Act  string `json:"act" enum:"read,add,edit,remove"`
	With string `json:"with" enum:"all,none,some" doc:"With which of them; some: as the rule says of each."`
	Rule string `json:"rule,omitempty" doc:"The rule that decides."`
}

// Leaves says what somebody may do with the records that they cover: by role, and by the collection's rules.
func (c *Collection) Leaves(who rights.Person) []Leave {
	var all []Leave
	for _, act := range []struct {
		name, rule string
		needs      rights.Action
	}{
		{actRead, c.Access.Read, rights.ReadRecords}, {actAdd, c.Access.Add, rights.ChangeRecords},
		{actEdit, c.Access.Edit, rights.ChangeRecords}, {actRemove, c.Access.Remove, rights.ChangeRecords},
	} {
		leave := Leave{Act: act.name, With: WithAll}
		switch {
		case !who.Role.May(act.needs):
			leave.With = WithNone
		case act.rule == "" || who.Role == rights.Admin:
		default:
			leave.Rule, leave.With = act.rule, WithSome
			// A rule that speaks of the worker alone decides alike for every record.
			if _, err := expression.Compile(act.rule, "worker"); err == nil {
				if leave.With = WithAll; c.allows(act.name, who, nil, nil) != nil {
					leave.With = WithNone
				}
			}
		}
		all = append(all, leave)
	}
	return all
}

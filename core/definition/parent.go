package definition

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"homing/core/record"
)

// Parent says which collection's records the records of another belong to, and by which field.
type Parent struct {
	Collection string        `json:"collection"`
	Field      string        `json:"field" doc:"The field that holds the parent's id."`
	Removal    ParentRemoval `json:"removal" enum:"restrict,remove,keep" doc:"What the removal of a parent does: it is refused while there are children, it removes them too, or it leaves them as they are."`
}

// ParentRemoval is what the removal of a parent does to its children.
type ParentRemoval string

// The ways.
const (
	RestrictRemoval ParentRemoval = "restrict"
	RemoveChildren  ParentRemoval = "remove"
	KeepChildren    ParentRemoval = "keep"
)

var parentRemovals = []ParentRemoval{RestrictRemoval, RemoveChildren, KeepChildren}

// ParentOf gives the id of the parent that a record names, if it names one.
func (d Definition) ParentOf(fields record.Fields) (uuid.UUID, bool) {
	if d.Parent == nil {
		return uuid.Nil, false
	}
	text := Plain(fields[d.Parent.Field])
	id, err := uuid.Parse(text)
	return id, err == nil && id.String() == text // other ways to write an id would hide a child from its parent
}

// ChildrenOf gives the definitions whose parent is the named collection, by name.
func ChildrenOf(name string, all map[string]*Collection) []*Collection {
	var children []*Collection
	for _, child := range slices.Sorted(maps.Keys(all)) {
		if parent := all[child].Parent; parent != nil && parent.Collection == name {
			children = append(children, all[child])
		}
	}
	return children
}

// LeavesFirst orders collections so that each comes before its parent.
func LeavesFirst(all map[string]*Collection) []string {
	depth := func(name string) int {
		n := 0
		for c := all[name]; c != nil && c.Parent != nil && n <= len(all); c = all[c.Parent.Collection] {
			n++
		}
		return n
	}
	names := slices.Sorted(maps.Keys(all))
	slices.SortStableFunc(names, func(a, b string) int { return depth(b) - depth(a) })
	return names
}

// CheckTogether finds what is wrong with definitions as a whole: references to nothing, parents that go round in a
// circle, totals over what is no child.
func CheckTogether(all map[string]*Collection) error {
	for _, name := range slices.Sorted(maps.Keys(all)) {
		c := all[name]
		for _, field := range c.Fields {
			if field.Reference != "" && all[field.Reference] == nil {
				return fmt.Errorf("the field %s of %s refers to the collection %s, which is not defined", field.Name, name,
					field.Reference)
			}
		}
		if c.Parent != nil && all[c.Parent.Collection] == nil {
			return fmt.Errorf("the parent of %s is the collection %s, which is not defined", name, c.Parent.Collection)
		}
		if circle := circleFrom(name, all); circle != nil {
			return fmt.Errorf("the parents go round in a circle: %s; a collection cannot be its own parent or grandparent",
				strings.Join(circle, " → "))
		}
		if err := checkExpected(c, all); err != nil {
			return err
		}
		if err := checkFollowing(c, all); err != nil {
			return err
		}
		for _, child := range c.broods() {
			if all[child] == nil || all[child].Parent == nil || all[child].Parent.Collection != name {
				return fmt.Errorf("a computed field of %s uses children.%s, but %[2]s is not a collection whose parent is %[1]s",
					name, child)
			}
		}
	}
	return nil
}

func circleFrom(name string, all map[string]*Collection) []string {
	path := []string{name}
	for c := all[name]; c != nil && c.Parent != nil; c = all[c.Parent.Collection] {
		path = append(path, c.Parent.Collection)
		if c.Parent.Collection == name {
			return path
		}
		if len(path) > len(all) {
			return nil // a circle further up, which is found from there
		}
	}
	return nil
}

// Sorted are the definitions of collections by name.
func Sorted(all map[string]*Collection) []Definition {
	sorted := make([]Definition, 0, len(all))
	for _, name := range slices.Sorted(maps.Keys(all)) {
		sorted = append(sorted, all[name].Definition)
	}
	return sorted
}

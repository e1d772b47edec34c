// Package sight says who sees a record: whoever covers it by a territory, and is not kept from it by the reading rule
// of its collection. Pushes, pulls, lists and answers all ask here.
package sight

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"

	"homing/core/definition"
	"homing/core/record"
	"homing/core/rights"
)

// Askers are the people on whose behalf something is asked for: one, or all the workers of a shared device. They get
// what any of them may have.
type Askers []rights.Person

// Alone is one asker.
func Alone(who rights.Person) Askers { return Askers{who} }

// Digest stands for who they are and what they may: it is another when a reading rule may decide otherwise than before.
func (a Askers) Digest() string {
	lines := make([]string, len(a))
	for n, who := range a {
		lines[n] = who.Name + "\x00" + string(who.Role) + "\x00" +
			strings.Join(slices.Sorted(slices.Values(who.Territories)), "\x00")
	}
	slices.Sort(lines)
	sum := sha256.Sum256([]byte(strings.Join(lines, "\x01")))
	return hex.EncodeToString(sum[:8])
}

// Territories are those that any of them holds.
func (a Askers) Territories() []string {
	held := []string{}
	for _, who := range a {
		held = append(held, who.Territories...)
	}
	slices.Sort(held)
	return slices.Compact(held)
}

// ReadsAll says whether no rule keeps anything of the collection that they cover from them.
func (a Askers) ReadsAll(collection *definition.Collection) bool {
	// One whom no rule binds reads only what they cover, so with several people all must be free.
	return !slices.ContainsFunc(a, func(who rights.Person) bool { return !collection.ReadsAll(who) })
}

// See says whether any of them covers a record and may read it.
func (a Askers) See(collection *definition.Collection, territories []string, fields record.Fields) bool {
	return slices.ContainsFunc(a, func(who rights.Person) bool {
		return rights.Covers(who.Territories, territories) && (collection.ReadsAll(who) || collection.MayRead(who, fields))
	})
}

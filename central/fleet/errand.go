package fleet

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"homing/wire"
)

// AskedErrand is something that a device is asked to do, and what became of it.
type AskedErrand struct {
	wire.Errand
	By         string                    `json:"by" doc:"Who asked."`
	AskedAt    time.Time                 `json:"asked_at"`
	AnsweredAt *time.Time                `json:"answered_at,omitempty" doc:"When the device last said how it stands."`
	Done       bool                      `json:"done,omitempty"`
	Why        string                    `json:"why,omitempty" doc:"Why it is not done yet, in the device's words."`
	Verified   []wire.CollectionVerified `json:"verified,omitempty"`
}

// Errands are those of one device, one of each kind at most.
type Errands []AskedErrand

// Scan reads them from the database.
func (e *Errands) Scan(from any) error {
	switch text := from.(type) {
	case nil:
		*e = nil
		return nil
	case string:
		return json.Unmarshal([]byte(text), e)
	case []byte:
		return json.Unmarshal(text, e)
	}
	return fmt.Errorf("errands are JSON, not %T", from)
}

// Open are those that the device is to be told. One that is to be erased is told so as often as it comes: it may be a copy.
func (e Errands) Open() (open []wire.Errand) {
	for _, one := range e {
		if !one.Done || one.What == wire.ErrandErase {
			open = append(open, one.Errand)
		}
	}
	return open
}

// With gives them with one more, in place of one of the same kind.
func (e Errands) With(one AskedErrand) Errands { return append(e.Without(one.What), one) }

// Without gives them without those of a kind.
func (e Errands) Without(what string) Errands {
	return slices.DeleteFunc(slices.Clone(e), func(known AskedErrand) bool { return known.What == what })
}

// Answer notes what a device says of them, and says whether that changed anything.
func (e Errands) Answer(done []wire.ErrandDone, now time.Time) (changed bool) {
	for _, said := range done {
		for n := range e {
			if e[n].ID == said.ID {
				e[n].AnsweredAt, e[n].Done, e[n].Why, e[n].Verified, changed = &now, said.Done, said.Why, said.Verified, true
			}
		}
	}
	return changed
}

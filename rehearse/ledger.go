package rehearse

import (
	"time"

	"github.com/google/uuid"
)

// save is what a worker has saved: one value of one field, with something in it that nobody else has written.
type save struct {
	unit       int // or atCentral
	who        string
	collection string
	record     uuid.UUID
	field      string
	kind       kind
	token      string
	added      int64 // to a counter
	at         time.Time
	mayBeLost  bool // the device was lost before this came to central
	givenUp    bool // discarded, with a backup
}

// atCentral stands for a unit where something is saved at central itself, by the lead.
const (
	atCentral = -1
	lead      = "lead"
)

func (w *world) workerOf(unit int) string {
	if unit == atCentral {
		return lead
	}
	return w.devices[unit].worker
}

// deviceOf is the device that the history names for a unit.
func (w *world) deviceOf(unit int) string {
	if unit == atCentral {
		return ""
	}
	return w.devices[unit].name
}

// ledger is everything that every worker has saved, kept outside of what is rehearsed.
type ledger struct {
	saves   []*save
	tokens  map[string]*save
	made    int                 // tokens
	mended  map[touched]bool    // what was refused of a record was sent again, as one change
	lost    map[touched]bool    // it was, by a store that is lost and was restored from before that
	twice   map[touched]bool    // it was sent again once more since: by a second decision
	settled map[touched]bool    // somebody's value may have been chosen again
	had     map[string]bool     // tokens that central had when it was restored
	offered map[uuid.UUID]offer // what was lost of a record was offered as one change, dated as the last of it
}

// offer is who has offered what was lost of a record, and in which round.
type offer struct{ unit, round int }

// touched says which worker did something to which record.
type touched struct {
	unit   int
	record uuid.UUID
}

func (l *ledger) noteMended(at touched) {
	if l.lost[at] {
		l.twice[at] = true
	}
	l.mended[at] = true
}

// noteLost notes that a unit's store knows no longer what it has mended.
func (l *ledger) noteLost(unit int) {
	for at := range l.mended {
		if at.unit == unit {
			l.lost[at] = true
		}
	}
}

func (l *ledger) add(s *save) {
	l.saves = append(l.saves, s)
	if s.token != "" {
		l.tokens[s.token] = s
	}
}

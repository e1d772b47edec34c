package file

import (
	"sync"

	"github.com/google/uuid"
	"github.com/jmoiron/sqlx"
)

// Changed tells of a record whose view has changed on this device.
type Changed struct {
	Collection string    `json:"collection"`
	ID         uuid.UUID `json:"id"`
	Removed    bool      `json:"removed,omitempty"` // or withdrawn
	// Central says that an exchange brought the change; otherwise it was saved here.
	Central bool `json:"central,omitempty"`
	// Missed says that the listener should read again all that it shows: it was too slow and has missed some before this
	// one, or somebody else is signed in now, or nobody, and this one names no record.
	Missed bool `json:"missed,omitempty"`
}

// hub passes changes on to listeners. The zero value is ready.
type hub struct {
	mu        sync.Mutex
	listeners map[*listener]bool     // guarded by mu
	coming    map[*sqlx.Tx][]Changed // what transactions have changed that are under way; guarded by mu
}

type listener struct {
	out    chan Changed
	missed bool // guarded by the hub's mu
}

// patience is how many changes a listener may be behind before it misses some.
const patience = 1024

// Listen is [device.Store.Listen].
func (s *File) Listen() (changes <-chan Changed, stop func()) {
	l := &listener{out: make(chan Changed, patience)}
	s.Hub.mu.Lock()
	defer s.Hub.mu.Unlock()
	if s.Hub.listeners == nil {
		s.Hub.listeners = map[*listener]bool{}
	}
	s.Hub.listeners[l] = true
	return l.out, func() {
		s.Hub.mu.Lock()
		defer s.Hub.mu.Unlock()
		if s.Hub.listeners[l] {
			delete(s.Hub.listeners, l)
			close(l.out)
		}
	}
}

// Note keeps what a transaction changes until it is over.
func (h *hub) Note(tx *sqlx.Tx, changes ...Changed) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.listeners) == 0 || len(changes) == 0 {
		return
	}
	if h.coming == nil {
		h.coming = map[*sqlx.Tx][]Changed{}
	}
	h.coming[tx] = append(h.coming[tx], changes...)
}

// Note keeps that a transaction changes the view of a record.
func (s *File) Note(tx *sqlx.Tx, collection, record string, removed bool) error {
	id, err := ParseID(record)
	if err == nil {
		s.Hub.Note(tx, Changed{Collection: collection, ID: id, Removed: removed})
	}
	return err
}

// over ends a transaction, of an exchange or not: if it was committed, what it has changed is told, each record once
// and as it is in the end.
func (h *hub) over(tx *sqlx.Tx, committed, central bool) {
	h.mu.Lock()
	changes := h.coming[tx]
	delete(h.coming, tx)
	h.mu.Unlock()
	if !committed {
		return
	}
	type record struct {
		collection string
		id         uuid.UUID
	}
	last := map[record]int{}
	for n, c := range changes {
		last[record{c.Collection, c.ID}] = n
	}
	for n, c := range changes {
		if last[record{c.Collection, c.ID}] == n {
			c.Central = central
			h.tell(c)
		}
	}
}

func (h *hub) tell(changes ...Changed) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for l := range h.listeners {
		for _, c := range changes {
			c.Missed = c.Missed || l.missed
			select {
			case l.out <- c:
				l.missed = false
			default:
				l.missed = true
			}
		}
	}
}

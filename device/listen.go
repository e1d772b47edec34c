package device

import (
	"sync"

	"github.com/google/uuid"

	"homing/wire"
)

// Changed tells of a record whose view has changed on this device.
type Changed struct {
	Collection string    `json:"collection"`
	ID         uuid.UUID `json:"id"`
	Removed    bool      `json:"removed,omitempty"` // or withdrawn
	// Central says that an exchange brought the change; otherwise it was saved here.
	Central bool `json:"central,omitempty"`
	// Missed says that the listener was too slow and has missed some before this one: it should read again what it shows.
	Missed bool `json:"missed,omitempty"`
}

// hub passes changes on to listeners. The zero value is ready.
type hub struct {
	mu        sync.Mutex
	listeners map[*listener]bool // guarded by mu
}

type listener struct {
	out    chan Changed
	missed bool // guarded by the hub's mu
}

// patience is how many changes a listener may be behind before it misses some.
const patience = 1024

// Listen gives the changes of records that this Store makes from now on, each once: those that are saved through it
// and those that its exchanges bring. Stop ends it and closes the channel. A listener that does not keep up loses
// changes and is told so; nobody waits for it. What other processes change in the same file is not heard.
func (s *Store) Listen() (changes <-chan Changed, stop func()) {
	l := &listener{out: make(chan Changed, patience)}
	s.hub.mu.Lock()
	defer s.hub.mu.Unlock()
	if s.hub.listeners == nil {
		s.hub.listeners = map[*listener]bool{}
	}
	s.hub.listeners[l] = true
	return l.out, func() {
		s.hub.mu.Lock()
		defer s.hub.mu.Unlock()
		if s.hub.listeners[l] {
			delete(s.hub.listeners, l)
			close(l.out)
		}
	}
}

func (h *hub) tell(changes ...Changed) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for l := range h.listeners {
		for _, c := range changes {
			c.Missed = l.missed
			select {
			case l.out <- c:
				l.missed = false
			default:
				l.missed = true
			}
		}
	}
}

// tell passes on what came from central.
func (e *exchange) tell(collection string, records []wire.Record) {
	if len(records) == 0 {
		return
	}
	changes := make([]Changed, len(records))
	for n, r := range records {
		changes[n] = Changed{Collection: collection, ID: r.ID, Removed: r.Removed || r.Withdrawn, Central: true}
	}
	e.hub.tell(changes...)
}

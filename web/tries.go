package web

import (
	"crypto/sha256"
	"sync"
	"time"
)

// tries counts failed tries of something that can be guessed, by who tries. So many may fail at once; then one more
// each time that some time has passed.
type tries struct {
	burst float64
	every time.Duration
	now   func() time.Time

	mu sync.Mutex
	by map[string]level // guarded by mu
}

// level is how many tries have failed, as of a moment.
type level struct {
	failed float64
	at     time.Time
}

func newTries(burst int, every time.Duration, now func() time.Time) *tries {
	return &tries{burst: float64(burst), every: every, now: now, by: map[string]level{}}
}

// fail says that a try was wrong. Tries that were under way at once may bring more than the burst: it takes the longer
// until the next one.
func (t *tries) fail(key string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.by) > rememberCallers {
		for other := range t.by {
			if t.failed(other) == 0 {
				delete(t.by, other)
			}
		}
	}
	t.by[key] = level{t.failed(key) + 1, t.now()}
}

// spent says whether no further try may be made now. Right ones are not counted, however many there are at once.
func (t *tries) spent(key string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.failed(key)+1 > t.burst
}

func (t *tries) failed(key string) float64 {
	l, known := t.by[key]
	if !known {
		return 0
	}
	return max(0, l.failed-float64(t.now().Sub(l.at))/float64(t.every))
}

// seats bound how many things of a kind each caller has under way at once.
type seats struct {
	mu    sync.Mutex
	taken map[string]int // guarded by mu
}

func newSeats() *seats { return &seats{taken: map[string]int{}} }

// take gives a seat, if fewer than most are taken, and a function that gives it back.
func (s *seats) take(key string, most int) (leave func(), ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.taken[key] >= most {
		return nil, false
	}
	s.taken[key]++
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.taken[key]--; s.taken[key] == 0 {
			delete(s.taken, key)
		}
	}, true
}

// knownTokens are tokens that were good of late. Only these are told apart from one another before they are looked up:
// made-up ones count against the address that they come from.
type knownTokens struct {
	mu  sync.Mutex
	all map[[32]byte]struct{} // guarded by mu; hashes
}

func (k *knownTokens) add(token string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.all) > rememberCallers {
		clear(k.all)
	}
	if k.all == nil {
		k.all = map[[32]byte]struct{}{}
	}
	k.all[sha256.Sum256([]byte(token))] = struct{}{}
}

func (k *knownTokens) has(token string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	_, known := k.all[sha256.Sum256([]byte(token))]
	return known
}

func (k *knownTokens) drop(token string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.all, sha256.Sum256([]byte(token)))
}

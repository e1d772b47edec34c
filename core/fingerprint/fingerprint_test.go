package fingerprint_test

import (
	"testing"

	"github.com/google/uuid"

	"homing/core/fingerprint"
)

func TestOrderDoesNotMatterAndAnyDifferenceShows(t *testing.T) {
	a, b := uuid.UUID{1}, uuid.UUID{2}
	of := func(pairs ...any) (s fingerprint.Set) {
		for n := 0; n < len(pairs); n += 2 {
			s.Add(pairs[n].(uuid.UUID), []byte(pairs[n+1].(string)))
		}
		return s
	}
	one := of(a, `{"x":1}`, b, `{"x":2}`)
	if other := of(b, `{"x":2}`, a, `{"x":1}`); other != one || one.Count() != 2 || len(one.String()) != 12 {
		t.Errorf("%s and %s", &one, &other)
	}
	for name, other := range map[string]fingerprint.Set{
		"values exchanged": of(a, `{"x":2}`, b, `{"x":1}`), "one missing": of(a, `{"x":1}`),
		"one altered":          of(a, `{"x":1}`, b, `{"x":3}`),
		"one twice":            of(a, `{"x":1}`, b, `{"x":2}`, b, `{"x":2}`),
		"two more of the same": of(a, `{"x":1}`, b, `{"x":2}`, uuid.UUID{3}, `{}`, uuid.UUID{3}, `{}`), "none": {},
	} {
		if other == one {
			t.Errorf("%s does not show", name)
		}
	}
}

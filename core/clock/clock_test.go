package clock_test

import (
	"slices"
	"testing"
	"time"

	"homing/core/clock"
)

func TestStampsOrderAsTexts(t *testing.T) {
	stamps := []clock.Stamp{{}, {Counter: 1}, {Millis: 1}, {Millis: 255}, {Millis: 256}, {Millis: 1_795_000_000_000},
		{Millis: 1_795_000_000_000, Counter: 9}, {Millis: 1 << 47}}
	texts := make([]string, len(stamps))
	for n, s := range stamps {
		texts[n] = s.String()
		if back, err := clock.Parse(texts[n]); err != nil || back != s {
			t.Errorf("%v came back as %v (%v)", s, back, err)
		}
		if n > 0 && stamps[n-1].Compare(s) >= 0 {
			t.Errorf("%v does not come after %v", s, stamps[n-1])
		}
	}
	if !slices.IsSorted(texts) {
		t.Errorf("the texts are not in the order of the stamps: %v", texts)
	}
}

// P8: a device's stamps never go backwards, even when its clock does.
func TestNextNeverGoesBackwards(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	last := clock.At(now)
	for _, step := range []time.Duration{0, 0, -2 * time.Hour, time.Millisecond, -time.Hour * 24 * 400, 3 * time.Hour,
		-time.Second} {
		now = now.Add(step)
		next := clock.Next(last, now)
		if next.Compare(last) <= 0 {
			t.Fatalf("after a step of %s, %v does not come after %v", step, next, last)
		}
		last = next
	}
	full := clock.Stamp{Millis: 5, Counter: 1<<16 - 1}
	if next := clock.Next(full, time.UnixMilli(5)); next != (clock.Stamp{Millis: 6}) {
		t.Errorf("a full counter gave %v", next)
	}
}

func TestOffset(t *testing.T) {
	at := func(seconds float64) time.Time { return time.Unix(1_000_000, 0).Add(time.Duration(seconds * 1e9)) }
	// The device is 100 s behind; the way there takes 1 s, the work 0.5 s, the way back 3 s.
	o := clock.Measure(at(0), at(101), at(101.5), at(4.5))
	if o.By != 99*time.Second || o.Error != 2*time.Second {
		t.Errorf("measured %v ± %v, want 99s ± 2s", o.By, o.Error)
	}
	if off := 100*time.Second - o.By; off > o.Error {
		t.Errorf("the true offset lies %v off, outside of the error", off)
	}
	received := at(200)
	tests := []struct {
		name  string
		said  clock.Offset
		sent  time.Time
		taken time.Duration
	}{
		{"fits", clock.Offset{By: 100 * time.Second, Error: time.Second}, at(99.5), 100 * time.Second},
		{"under way for a minute", clock.Offset{By: 100 * time.Second, Error: time.Second}, at(40), 100 * time.Second},
		{"says its clock is right, but it is not", clock.Offset{}, at(-7000), 7200 * time.Second},
		{"claims to be far behind, to make its edits later", clock.Offset{By: 7200 * time.Second}, at(200), 0},
	}
	for _, test := range tests {
		got := test.said.Believe(test.sent, received, 2*time.Minute)
		if got.By != test.taken {
			t.Errorf("%s: took %v, want %v", test.name, got.By, test.taken)
		}
		if apart := (got.By - test.said.By).Abs(); got.Error < apart {
			t.Errorf("%s: took %v ± %v, though the device said %v", test.name, got.By, got.Error, test.said.By)
		}
	}
	// An edit dated after its receipt counts as of its receipt.
	if got := (clock.Offset{}).Correct(clock.At(at(9000)), received); got != clock.At(received) {
		t.Errorf("an edit from the future counts as of %v", got.Time())
	}
	if got := (clock.Offset{By: -time.Hour}).Correct(clock.Stamp{Millis: 5, Counter: 3}, received); got.Millis != 0 ||
		got.Counter != 3 {
		t.Errorf("a correction before 1970 gave %v", got)
	}
}

func FuzzParse(f *testing.F) {
	f.Add("0199d3a1c2b4-0003")
	f.Add("ffffffffffff-ffff")
	f.Add("+199d3a1c2b4-0003")
	f.Fuzz(func(t *testing.T, text string) {
		s, err := clock.Parse(text)
		if err != nil {
			return
		}
		if s.Millis < 0 {
			t.Errorf("%q gave a stamp before 1970", text)
		}
		if again, err := clock.Parse(s.String()); err != nil || again != s {
			t.Errorf("%q does not come back: %v %v", text, again, err)
		}
	})
}

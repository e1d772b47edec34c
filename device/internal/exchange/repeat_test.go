package exchange

import (
	"testing"
	"time"
)

func TestRetryDelayGrowsAndIsBounded(t *testing.T) {
	last := time.Duration(0)
	for failures := range 30 {
		low, high := retryDelay(failures, 10*time.Minute, 0), retryDelay(failures, 10*time.Minute, 1)
		if low < last/2 || high > 10*time.Minute || low*2 != high || high < 5*time.Second {
			t.Errorf("after %d failures between %s and %s", failures, low, high)
		}
		last = high
	}
	if got := retryDelay(10, time.Second, 1); got != time.Second {
		t.Errorf("a span of a second waits %s", got)
	}
}

func TestABadLinkIsTriedAgainAtOnce(t *testing.T) {
	wait, failed := waitAfter(Summary{}, 7, time.Hour, 1)
	if wait != 640*time.Second || failed != 8 {
		t.Errorf("after nothing came through for the eighth time: %s, %d", wait, failed)
	}
	for _, got := range []Summary{{Sent: 500}, {Received: 1}} {
		if wait, failed := waitAfter(got, 7, time.Hour, 1); wait != time.Second || failed != 0 {
			t.Errorf("after %+v: %s, %d", got, wait, failed)
		}
	}
	if wait, _ := waitAfter(Summary{Sent: 1}, 0, 100*time.Millisecond, 1); wait != 100*time.Millisecond {
		t.Errorf("a span of a tenth of a second waits %s", wait)
	}
}

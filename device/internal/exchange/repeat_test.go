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

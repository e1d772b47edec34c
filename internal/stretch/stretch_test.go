package stretch

import (
	"encoding/hex"
	"testing"
)

// What was locked up by an earlier version opens still: a secret and its salt give the key that they always gave.
func TestKeysStay(t *testing.T) {
	const want = "c0f6527466a8f4ad7a4dd1017bc5f136833956c162c977ea614cb602997b54b6"
	got := hex.EncodeToString(Key("the gate at the ford", []byte("sixteen bytes ..."), 32))
	if got != want {
		t.Errorf("the key is %s", got)
	}
	Simulate()
	if cheap := hex.EncodeToString(Key("the gate at the ford", []byte("sixteen bytes ..."), 32)); cheap == want || len(cheap) != len(want) {
		t.Errorf("a simulated key is %s", cheap)
	}
}

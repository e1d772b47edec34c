package record_test

import (
	"strings"
	"testing"

	"homing/core/record"
)

// A number has as many digits as anybody measures, and not as many as make a database stumble.
func TestNumbersHaveABound(t *testing.T) {
	for text, fine := range map[string]bool{
		strings.Repeat("9", record.MaxDigits): true, strings.Repeat("9", record.MaxDigits+1): false,
		"0." + strings.Repeat("7", record.MaxDigits): true, "0." + strings.Repeat("7", 16384): false,
		"1" + strings.Repeat("0", 250): true, "1e" + strings.Repeat("0", 2000) + "5": false,
		"1." + strings.Repeat("0", 500): true, "-" + strings.Repeat("1", 200) + "e-150": false, "12345678901234567890.5": true,
	} {
		if _, err := record.Canonical([]byte(text)); (err == nil) != fine {
			t.Errorf("%.40s with %d characters: %v", text, len(text), err)
		}
	}
}

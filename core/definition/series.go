package definition

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"github.com/google/uuid"
)

// Series is how the numbers of a series look: a text and then digits.
type Series struct {
	Prefix string
	Digits int
	First  int64
}

var series = regexp.MustCompile(`^(.{0,30}?)([0-9]{1,12})$`)

// ParseSeries reads the first number of a series, such as REP-00001.
func ParseSeries(text string) (Series, error) {
	parts := series.FindStringSubmatch(text)
	if parts == nil {
		return Series{}, fmt.Errorf("%q does not start a series: write its first number, such as REP-00001", text)
	}
	first, err := strconv.ParseInt(parts[2], 10, 64)
	if err != nil {
		return Series{}, err
	}
	return Series{Prefix: parts[1], Digits: len(parts[2]), First: max(first, 1)}, nil
}

// Format writes a number of the series. It gets longer when the digits do not suffice.
func (s Series) Format(n int64) string { return fmt.Sprintf("%s%0*d", s.Prefix, s.Digits, n) }

// Number reads what Format wrote.
func (s Series) Number(text string) (int64, bool) {
	digits, fits := strings.CutPrefix(text, s.Prefix)
	n, err := strconv.ParseInt(digits, 10, 64)
	return n, fits && err == nil && n > 0
}

// Provisional is what a device shows until central has given the number. It is made from the record's id, so that it
// stays the same, and its ~ tells it from a number.
func (s Series) Provisional(id uuid.UUID) string {
	text := id.String()
	return s.Prefix + "~" + strings.ToUpper(text[len(text)-4:])
}

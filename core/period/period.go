// Package period reckons with the periods for which something is collected: days, weeks, months, quarters and years of the
// Gregorian calendar. Each is written as a text: 2026-10-24, 2026-W43, 2026-10, 2026-Q4, 2026. Days, weeks, months and years
// are written as in ISO 8601, where a week belongs to the year that has its Thursday.
package period

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Kind is how long a period is.
type Kind string

// The kinds.
const (
	Day     Kind = "day"
	Week    Kind = "week"
	Month   Kind = "month"
	Quarter Kind = "quarter"
	Year    Kind = "year"
)

// Kinds are all of them.
var Kinds = []Kind{Day, Week, Month, Quarter, Year}

// Valid says whether k is a kind of period.
func (k Kind) Valid() bool { return slices.Contains(Kinds, k) }

// Period is one period. The zero value is none.
type Period struct {
	kind  Kind
	first time.Time // midnight UTC
}

// Years that periods may lie in: those that four digits write.
const (
	firstYear = 1000
	lastYear  = 9999
)

var written = map[Kind]*regexp.Regexp{
	Day:     regexp.MustCompile(`^(\d{4})-(\d{2})-(\d{2})$`),
	Week:    regexp.MustCompile(`^(\d{4})-W(\d{2})$`),
	Month:   regexp.MustCompile(`^(\d{4})-(\d{2})$`),
	Quarter: regexp.MustCompile(`^(\d{4})-Q(\d)$`),
	Year:    regexp.MustCompile(`^(\d{4})$`),
}

var examples = map[Kind]string{Day: "2026-10-24", Week: "2026-W43", Month: "2026-10", Quarter: "2026-Q4", Year: "2026"}

// Parse reads a period as it is written. The error says what is wrong, in words that follow the text.
func Parse(kind Kind, text string) (Period, error) {
	parts := written[kind].FindStringSubmatch(text)
	if parts == nil {
		return Period{}, fmt.Errorf("is no %s: write it as %s", kind, examples[kind])
	}
	numbers := [3]int{0, 1, 1}
	for n, part := range parts[1:] {
		numbers[n], _ = strconv.Atoi(part) // digits alone
	}
	year, second := numbers[0], numbers[1]
	if year < firstYear {
		return Period{}, fmt.Errorf("lies before the year %d", firstYear)
	}
	switch kind {
	case Day, Month:
		first := date(year, second, numbers[2])
		if second < 1 || second > 12 {
			return Period{}, fmt.Errorf("is no %s: there are 12 months", kind)
		}
		if first.Day() != numbers[2] {
			return Period{}, fmt.Errorf("is no day: %s %d has %d days", time.Month(second), year, date(year, second+1, 0).Day())
		}
		return Period{kind, first}, nil
	case Week:
		if most := weeksOf(year); second < 1 || second > most {
			return Period{}, fmt.Errorf("is no week: %d has %d weeks", year, most)
		}
		return Period{kind, firstMonday(year).AddDate(0, 0, 7*(second-1))}, nil
	case Quarter:
		if second < 1 || second > 4 {
			return Period{}, fmt.Errorf("is no quarter: a year has 4")
		}
		return Period{kind, date(year, 3*second-2, 1)}, nil
	}
	return Period{kind, date(year, 1, 1)}, nil
}

func date(year, month, day int) time.Time {
	return time.Date(year, time.Month(month), day, 0, 0, 0, 0, time.UTC)
}

// firstMonday is where the weeks of a year start: in the one that has 4 January.
func firstMonday(year int) time.Time { return Of(Week, date(year, 1, 4)).first }

func weeksOf(year int) int {
	_, week := date(year, 12, 28).ISOWeek()
	return week
}

// Of is the period of a kind in which a moment lies, by the date that it has in its own zone.
func Of(kind Kind, at time.Time) Period {
	year, month, day := at.Date()
	first := date(year, int(month), day)
	switch kind {
	case Week:
		first = first.AddDate(0, 0, -(int(first.Weekday())+6)%7)
	case Month:
		first = date(year, int(month), 1)
	case Quarter:
		first = date(year, (int(month)-1)/3*3+1, 1)
	case Year:
		first = date(year, 1, 1)
	}
	return Period{kind, first}
}

// IsZero says whether there is no period.
func (p Period) IsZero() bool { return p.kind == "" }

// First is the first day, as midnight UTC.
func (p Period) First() time.Time { return p.first }

// Last is the last day, as midnight UTC.
func (p Period) Last() time.Time { return p.Plus(1).first.AddDate(0, 0, -1) }

// Plus is the period so many later, or earlier.
func (p Period) Plus(n int) Period {
	switch p.kind {
	case Day:
		return Period{p.kind, p.first.AddDate(0, 0, n)}
	case Week:
		return Period{p.kind, p.first.AddDate(0, 0, 7*n)}
	case Month:
		return Period{p.kind, p.first.AddDate(0, n, 0)}
	case Quarter:
		return Period{p.kind, p.first.AddDate(0, 3*n, 0)}
	}
	return Period{p.kind, p.first.AddDate(n, 0, 0)}
}

// Before says whether the period is earlier than another of its kind.
func (p Period) Before(other Period) bool { return p.first.Before(other.first) }

// String writes the period as records hold it.
func (p Period) String() string {
	year, month, day := p.first.Date()
	switch p.kind {
	case Day:
		return fmt.Sprintf("%04d-%02d-%02d", year, month, day)
	case Week:
		year, week := p.first.ISOWeek()
		return fmt.Sprintf("%04d-W%02d", year, week)
	case Month:
		return fmt.Sprintf("%04d-%02d", year, month)
	case Quarter:
		return fmt.Sprintf("%04d-Q%d", year, (month+2)/3)
	case Year:
		return fmt.Sprintf("%04d", year)
	}
	return ""
}

// Say is what people call the period, in English.
func (p Period) Say() string {
	year, month, _ := p.first.Date()
	switch p.kind {
	case Day:
		return p.first.Format("Mon 2 Jan 2006")
	case Week:
		last, format := p.Last(), "2"
		if last.Month() != month {
			format = "2 Jan"
		}
		year, week := p.first.ISOWeek()
		return fmt.Sprintf("week %d of %d (%s–%s)", week, year, p.first.Format(format), last.Format("2 Jan"))
	case Month:
		return p.first.Format("January 2006")
	case Quarter:
		return fmt.Sprintf("quarter %d of %d", (month+2)/3, year)
	}
	return p.String()
}

var counted = map[Kind]*regexp.Regexp{
	Week:    regexp.MustCompile(`^(?:week |w)?(\d{1,2})(?: (?:of )?(\d{4}))?$`),
	Quarter: regexp.MustCompile(`^(?:quarter |q)(\d)(?: (?:of )?(\d{4}))?$`),
}

var monthNamed = regexp.MustCompile(`^([a-z]{3,9})(?: (\d{4}))?$`)

// Read is [Parse] for what people type: this week, last month, today, yesterday, week 43, Q4 2025, October, and a period as
// it is written. What names no year is the last one that has begun by today.
func Read(kind Kind, typed string, today time.Time) (Period, error) {
	text, now := strings.ToLower(strings.Join(strings.Fields(typed), " ")), Of(kind, today)
	switch text {
	case "this", "this " + string(kind):
		return now, nil
	case "last", "last " + string(kind):
		return now.Plus(-1), nil
	}
	if kind == Day && (text == "today" || text == "yesterday") {
		return Of(kind, today.AddDate(0, 0, len(text)/len("yesterday")*-1)), nil
	}
	if parts := monthNamed.FindStringSubmatch(text); kind == Month && parts != nil {
		for month := time.January; month <= time.December; month++ {
			if name := strings.ToLower(month.String()); strings.HasPrefix(name, parts[1]) {
				return ofYear(kind, func(year int) string { return fmt.Sprintf("%04d-%02d", year, month) }, parts[2], now)
			}
		}
	}
	if pattern := counted[kind]; pattern != nil {
		if parts := pattern.FindStringSubmatch(text); parts != nil {
			n, _ := strconv.Atoi(parts[1])
			form := map[Kind]string{Week: "%04d-W%02d", Quarter: "%04d-Q%d"}[kind]
			return ofYear(kind, func(year int) string { return fmt.Sprintf(form, year, n) }, parts[2], now)
		}
	}
	return Parse(kind, strings.ToUpper(text))
}

// ofYear reads a period of a year that was said, or of the last year in which it has begun.
func ofYear(kind Kind, write func(year int) string, said string, now Period) (Period, error) {
	if year, err := strconv.Atoi(said); err == nil {
		return Parse(kind, write(year))
	}
	year := now.first.AddDate(0, 0, 3).Year() // a week belongs to the year of its Thursday
	p, err := Parse(kind, write(year))
	if err != nil || now.Before(p) {
		return Parse(kind, write(year-1))
	}
	return p, nil
}

package period_test

import (
	"strings"
	"testing"
	"time"

	"homing/core/period"
)

func on(text string) time.Time {
	at, err := time.Parse(time.DateOnly, text)
	if err != nil {
		panic(err)
	}
	return at
}

func TestPeriodsAreReadAndWritten(t *testing.T) {
	for _, test := range []struct {
		kind                    period.Kind
		text, first, last, said string
	}{
		{period.Day, "2024-02-29", "2024-02-29", "2024-02-29", "Thu 29 Feb 2024"},
		{period.Week, "2026-W43", "2026-10-19", "2026-10-25", "week 43 of 2026 (19–25 Oct)"},
		{period.Week, "2026-W53", "2026-12-28", "2027-01-03", "week 53 of 2026 (28 Dec–3 Jan)"},
		{period.Week, "2025-W01", "2024-12-30", "2025-01-05", "week 1 of 2025 (30 Dec–5 Jan)"},
		{period.Month, "2026-02", "2026-02-01", "2026-02-28", "February 2026"},
		{period.Quarter, "2026-Q4", "2026-10-01", "2026-12-31", "quarter 4 of 2026"},
		{period.Year, "2028", "2028-01-01", "2028-12-31", "2028"},
	} {
		p, err := period.Parse(test.kind, test.text)
		if err != nil {
			t.Errorf("%s: %v", test.text, err)
			continue
		}
		if p.String() != test.text || p.First() != on(test.first) || p.Last() != on(test.last) || p.Say() != test.said {
			t.Errorf("%s is %s from %s to %s, said %q", test.text, p, p.First(), p.Last(), p.Say())
		}
		if p.Plus(5).Plus(-5) != p || !p.Before(p.Plus(1)) || p.Plus(1).First() != p.Last().AddDate(0, 0, 1) {
			t.Errorf("%s and its neighbours do not join", test.text)
		}
		for _, day := range []time.Time{p.First(), p.Last()} {
			if period.Of(test.kind, day) != p {
				t.Errorf("%s lies in %s, not in %s", day, period.Of(test.kind, day), p)
			}
		}
	}
}

func TestWhatIsNoPeriodSaysWhy(t *testing.T) {
	for _, test := range []struct {
		kind       period.Kind
		text, want string
	}{
		{period.Week, "2026-W54", "is no week: 2026 has 53 weeks"},
		{period.Week, "2025-W53", "is no week: 2025 has 52 weeks"},
		{period.Week, "2026-W00", "is no week: 2026 has 53 weeks"},
		{period.Week, "2026-43", "is no week: write it as 2026-W43"},
		{period.Day, "2026-02-29", "is no day: February 2026 has 28 days"},
		{period.Day, "2026-13-01", "is no day: there are 12 months"},
		{period.Month, "2026-13", "is no month: there are 12 months"},
		{period.Quarter, "2026-Q5", "is no quarter: a year has 4"},
		{period.Year, "26", "is no year: write it as 2026"},
		{period.Year, "0026", "lies before the year 1000"},
	} {
		if _, err := period.Parse(test.kind, test.text); err == nil || err.Error() != test.want {
			t.Errorf("%s: %v, want %s", test.text, err, test.want)
		}
	}
}

// What people type is read as of a day: 2 January 2027, a Saturday of the last week of 2026.
func TestPeriodsAreReadAsPeopleTypeThem(t *testing.T) {
	today := on("2027-01-02")
	for _, test := range []struct {
		kind        period.Kind
		typed, want string
	}{
		{period.Week, "this week", "2026-W53"}, {period.Week, "last", "2026-W52"}, {period.Week, "week 43", "2026-W43"},
		{period.Week, "W7", "2026-W07"}, {period.Week, " Week  1  of 2027 ", "2027-W01"}, {period.Week, "2026-w43", "2026-W43"},
		{period.Day, "today", "2027-01-02"}, {period.Day, "Yesterday", "2027-01-01"}, {period.Day, "2026-12-31", "2026-12-31"},
		{period.Month, "October", "2026-10"}, {period.Month, "jan", "2027-01"}, {period.Month, "sept 2025", "2025-09"}, {period.Month, "last month", "2026-12"},
		{period.Quarter, "Q4", "2026-Q4"}, {period.Quarter, "quarter 1 of 2026", "2026-Q1"}, {period.Year, "last year", "2026"}, {period.Year, "2025", "2025"},
	} {
		if p, err := period.Read(test.kind, test.typed, today); err != nil || p.String() != test.want {
			t.Errorf("%s %q is read as %s, %v; want %s", test.kind, test.typed, p, err, test.want)
		}
	}
	for _, typed := range []string{"week 54", "soon", "", "October"} {
		if p, err := period.Read(period.Week, typed, today); err == nil || !strings.HasPrefix(err.Error(), "is no week") {
			t.Errorf("%q is read as %s, %v", typed, p, err)
		}
	}
}

package propose

import (
	"regexp"
	"slices"
	"strings"
	"time"
)

// Figures say how the texts of a table are to be read: people write numbers, dates, yes and no in more ways than one.
// The zero value takes a point before decimals, dates as ISO 8601 has them or with points between, and yes and no in a few languages.
type Figures struct {
	Decimal string // what stands before decimals: point or comma; empty means a point
	Dates   string // the order of a date with strokes: dmy or mdy; empty means that it cannot be told
}

// The ways of writing.
const (
	Point = "point"
	Comma = "comma"
	DMY   = "dmy"
	MDY   = "mdy"
)

// class is how one text may be read. Some can be read in two ways, which the other texts of the table decide.
type class int

const (
	isText         class = iota
	isWhole              // 12
	isPointed            // 0.5, 1,000.50
	isComma              // 0,5, 1.000,50
	isPointGroup         // 1.000: a thousand, or one
	isCommaGroup         // 1,000: one, or a thousand
	isPercentMark        // 12%, 12.5 %
	isPercentComma       // 12,5%
	isYesNo              // yes, nein
	isISODate            // 2025-02-01
	isPointDate          // 01.02.2025
	isDayFirst           // 31/01/2025
	isMonthFirst         // 01/31/2025
	isStrokeDate         // 01/02/2025: January or February
	isTime               // 10:15
	isISOMoment          // 2025-02-01T10:15:00Z
	isPlace              // 46.5, 7.25: latitude and longitude
)

var (
	patterns = []struct {
		class   class
		pattern *regexp.Regexp
	}{
		{isWhole, regexp.MustCompile(`^[+-]?(0|[1-9][0-9]{0,14})$`)}, // no leading zeros: 007 is a text
		{isWhole, regexp.MustCompile(`^-?[1-9][0-9]{0,2}(['’  ][0-9]{3})+$`)},
		{isPointGroup, regexp.MustCompile(`^-?[1-9][0-9]{0,2}\.[0-9]{3}$`)},
		{isCommaGroup, regexp.MustCompile(`^-?[1-9][0-9]{0,2},[0-9]{3}$`)},
		{isPointed, regexp.MustCompile(`^[+-]?((0|[1-9][0-9]{0,14})|[1-9][0-9]{0,2}([,'’  ][0-9]{3})+)\.[0-9]{1,15}$`)},
		{isPointed, regexp.MustCompile(`^-?[1-9][0-9]{0,2}(,[0-9]{3}){2,}$`)},
		{isComma, regexp.MustCompile(`^[+-]?((0|[1-9][0-9]{0,14})|[1-9][0-9]{0,2}([.'’  ][0-9]{3})+),[0-9]{1,15}$`)},
		{isComma, regexp.MustCompile(`^-?[1-9][0-9]{0,2}(\.[0-9]{3}){2,}$`)},
		{isPercentMark, regexp.MustCompile(`^-?[0-9]{1,12}(\.[0-9]{1,12})? ?%$`)},
		{isPercentComma, regexp.MustCompile(`^-?[0-9]{1,12},[0-9]{1,12} ?%$`)},
		{isTime, regexp.MustCompile(`^([01]?[0-9]|2[0-3]):[0-5][0-9](:[0-5][0-9])?$`)},
		{isPlace, regexp.MustCompile(`^-?[0-9]{1,2}\.[0-9]+\s*[,;]\s*-?[0-9]{1,3}\.[0-9]+$`)},
	}
	strokes = regexp.MustCompile(`^([0-9]{1,2})/([0-9]{1,2})/([0-9]{4})$`)
	points  = regexp.MustCompile(`^([0-9]{1,2})\.\s?([0-9]{1,2})\.\s?([0-9]{4})$`)
)

// words for yes and no.
var words = map[string]bool{"true": true, "false": false, "yes": true, "no": false, "ja": true, "nein": false, "oui": true, "non": false,
	"sì": true, "sí": true, "si": true, "sim": true, "não": false, "wahr": true, "falsch": false, "vrai": true, "faux": false}

// classOf says how a text may be read.
func classOf(plain string) class {
	for _, p := range patterns {
		if p.pattern.MatchString(plain) {
			return p.class
		}
	}
	if _, is := words[strings.ToLower(plain)]; is {
		return isYesNo
	}
	switch {
	case isDate(plain):
		return isISODate
	case isMoment(plain):
		return isISOMoment
	}
	if at := points.FindStringSubmatch(plain); at != nil && dateOf(at[3], at[2], at[1]) != "" {
		return isPointDate
	}
	if at := strokes.FindStringSubmatch(plain); at != nil {
		day, month := dateOf(at[3], at[2], at[1]) != "", dateOf(at[3], at[1], at[2]) != ""
		switch {
		case day && month:
			return isStrokeDate
		case day:
			return isDayFirst
		case month:
			return isMonthFirst
		}
	}
	return isText
}

// dateOf writes a date as ISO 8601 does; empty when there is no such day.
func dateOf(year, month, day string) string {
	t, err := time.Parse("2006-1-2", year+"-"+strings.TrimLeft(month, "0")+"-"+strings.TrimLeft(day, "0"))
	if err != nil {
		return ""
	}
	return t.Format(time.DateOnly)
}

// kind is what texts of a class are, by these figures.
func (f Figures) kind(c class) kind {
	comma := f.Decimal == Comma
	switch c {
	case isWhole:
		return integer
	case isPointGroup:
		if comma {
			return integer // grouped
		}
		return number
	case isCommaGroup:
		if comma {
			return number
		}
		return integer
	case isPointed:
		if !comma {
			return number
		}
	case isComma:
		if comma {
			return number
		}
	case isPercentMark:
		return number
	case isPercentComma:
		if comma {
			return number
		}
	case isYesNo:
		return boolean
	case isISODate, isPointDate:
		return date
	case isDayFirst:
		if f.Dates == DMY {
			return date
		}
	case isMonthFirst:
		if f.Dates == MDY {
			return date
		}
	case isStrokeDate:
		if f.Dates != "" {
			return date
		}
	case isISOMoment:
		return moment
	case isPlace:
		return point
	}
	return text
}

// Number gives a text as JSON writes numbers, with all of its digits. A percentage is the number that it stands for: 12% is
// 0.12.
func (f Figures) Number(plain string) (string, bool) {
	if jsonNumber.MatchString(plain) && !(f.Decimal == Comma && classOf(plain) == isPointGroup) {
		return plain, true
	}
	c := classOf(plain)
	if k := f.kind(c); k != integer && k != number {
		return "", false
	}
	decimal, group := ".", ","
	if f.Decimal == Comma {
		decimal, group = ",", "."
	}
	percent := strings.HasSuffix(plain, "%")
	bare := strings.TrimPrefix(strings.TrimSpace(strings.TrimSuffix(plain, "%")), "+")
	bare = strings.NewReplacer(group, "", "'", "", "’", "", " ", "", " ", "").Replace(bare)
	bare = strings.Replace(bare, decimal, ".", 1)
	if percent {
		bare = hundredth(bare)
	}
	return bare, jsonNumber.MatchString(bare)
}

// hundredth divides a number as text by a hundred, without rounding.
func hundredth(plain string) string {
	sign := ""
	if strings.HasPrefix(plain, "-") {
		sign, plain = "-", plain[1:]
	}
	whole, rest, _ := strings.Cut(plain, ".")
	whole = strings.Repeat("0", max(0, 3-len(whole))) + whole
	rest = strings.TrimRight(whole[len(whole)-2:]+rest, "0")
	whole = strings.TrimLeft(whole[:len(whole)-2], "0")
	if whole == "" {
		whole = "0"
	}
	if rest == "" {
		return sign + whole
	}
	return sign + whole + "." + rest
}

// Date gives a text as ISO 8601 writes dates.
func (f Figures) Date(plain string) (string, bool) {
	if isDate(plain) {
		return plain, true
	}
	if at := points.FindStringSubmatch(plain); at != nil {
		text := dateOf(at[3], at[2], at[1])
		return text, text != ""
	}
	at := strokes.FindStringSubmatch(plain)
	if at == nil || f.Dates == "" {
		return "", false
	}
	text := dateOf(at[3], at[2], at[1])
	if f.Dates == MDY {
		text = dateOf(at[3], at[1], at[2])
	}
	return text, text != ""
}

// Settle decides how the texts of the table are to be read, as far as they tell by themselves, and gives what is to be said
// of that. What is given goes before what was recognised. Matters says by a column's heading whether it may hold numbers or
// dates; nil means that any may.
func (t *Table) Settle(given Figures, matters func(header string) bool) (f Figures, notes []string) {
	defer func() {
		t.figures = f
		t.findPlace()
		if t.place[0] != nil {
			notes = append(notes, t.place[0].Header+" and "+t.place[1].Header+" are taken for one place: latitude and longitude")
		}
	}()
	f = given
	counts := map[class]int{}
	example := map[class]string{}
	for _, c := range t.Columns {
		if matters != nil && !matters(c.Header) {
			continue
		}
		// What one column of texts happens to hold says nothing of how numbers are written elsewhere.
		for one, n := range c.classes {
			telling := false
			for _, way := range []Figures{{Point, DMY}, {Comma, DMY}, {Point, MDY}, {Comma, MDY}} {
				k := way.kind(one)
				telling = telling || k != text && join(k, c.meant(way)) == c.meant(way)
			}
			if !telling {
				continue
			}
			if counts[one] += n; example[one] == "" {
				example[one] = c.example[one]
			}
		}
	}
	commas, pointed := counts[isComma]+counts[isPercentComma], counts[isPointed]
	switch {
	case f.Decimal != "":
	case commas > 0 && pointed == 0:
		f.Decimal = Comma
		notes = append(notes, "a comma is taken to stand before decimals, as in "+firstOf(example, isComma, isPercentComma)+
			"; --decimal point says otherwise")
	case commas > 0:
		notes = append(notes, "some numbers have a comma before decimals ("+firstOf(example, isComma, isPercentComma)+") and some a point ("+
			example[isPointed]+"): those with a comma are taken for texts; --decimal comma takes the others for texts")
	case pointed == 0 && counts[isPointGroup] > 0:
		notes = append(notes, example[isPointGroup]+" is taken for a number with decimals; --decimal comma says that it is grouped")
	case pointed == 0 && counts[isCommaGroup] > 0:
		notes = append(notes, example[isCommaGroup]+" is taken for a grouped number; --decimal comma says that it has decimals")
	}
	switch {
	case f.Dates != "" || counts[isDayFirst]+counts[isMonthFirst]+counts[isStrokeDate] == 0:
	case counts[isDayFirst] > 0 && counts[isMonthFirst] == 0:
		f.Dates = DMY
		notes = append(notes, "the day is taken to come first in dates, as in "+example[isDayFirst]+"; --dates mdy says otherwise")
	case counts[isMonthFirst] > 0 && counts[isDayFirst] == 0:
		f.Dates = MDY
		notes = append(notes, "the month is taken to come first in dates, as in "+example[isMonthFirst]+"; --dates dmy says otherwise")
	default:
		notes = append(notes, "dates such as "+firstOf(example, isStrokeDate, isDayFirst)+" can be read in two ways and are taken for texts; say --dates dmy or "+
			"--dates mdy")
	}
	if counts[isPercentMark]+counts[isPercentComma] > 0 {
		notes = append(notes, "a percentage is the number that it stands for: 12% is 0.12")
	}
	return f, notes
}

func firstOf(examples map[class]string, classes ...class) string {
	at := slices.IndexFunc(classes, func(c class) bool { return examples[c] != "" })
	return examples[classes[max(at, 0)]]
}

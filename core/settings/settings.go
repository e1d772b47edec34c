// Package settings is what central may say of how devices behave: which settings there are, what each takes, and what a device goes by. None of
// them has a hold on what is unsent.
package settings

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"homing/core/definition"
)

// Values are settings by their names, each as JSON.
type Values map[string]json.RawMessage

// Told is what a device is told.
type Told struct {
	Digest string `json:"digest" doc:"Stands for the values. The device says it when it goes by them."`
	Values Values `json:"values" doc:"By name. One that a device does not know it leaves alone, and says so."`
}

// Applied is what a device says of the settings that it goes by.
type Applied struct {
	Digest  string    `json:"digest"`
	At      time.Time `json:"at" doc:"When it took them over, by its clock."`
	Unknown []string  `json:"unknown,omitempty" maxItems:"50" doc:"Names that it does not know, or values that it cannot take."`
}

// The names.
const (
	ExchangeEvery = "exchange_every"
	Listen        = "listen"
	HoldBack      = "hold_back"
	Budget        = "budget"
	Page          = "page"
	KeepLog       = "keep_log"
	LeastVersion  = "least_version"
	Note          = "note"
)

// Bounds on values.
const (
	LeastEvery, MostEvery = time.Minute, 7 * 24 * time.Hour
	LeastPage, MostPage   = 20, 1000
	MostNote              = 500 // characters
)

// Setting is one that there is.
type Setting struct {
	Name    string `json:"name"`
	About   string `json:"about"`
	Example string `json:"example" doc:"A value as one types it."`
	// check takes a value as JSON and says what is wrong with it.
	check func(json.RawMessage) error
	// text says that what is typed is a text, with or without quotes.
	text bool
}

// All are those that there are, by name.
var All = []Setting{
	{Name: Budget, About: "bytes that records which were looked up may take on a device; 0 lifts the bound", Example: "50000000", check: whole(0, 1<<50)},
	{Name: ExchangeEvery, About: "how often a device exchanges by itself", Example: "10 minutes", text: true, check: spanWithin(LeastEvery, MostEvery)},
	{Name: HoldBack, About: "whether a device that exchanges by itself waits while its link is metered", Example: "true", check: isYesOrNo},
	{Name: KeepLog, About: "how long a device keeps what its exchanges carried", Example: "30 days", text: true, check: spanWithin(24*time.Hour, 366*24*time.Hour)},
	{Name: LeastVersion, About: "the program that people are asked to have at least", Example: "1.4.0", text: true, check: isVersion},
	{Name: Listen, About: "whether a device may listen for news while it is open", Example: "false", check: isYesOrNo},
	{Name: Note, About: "a note to the people who use the device", Example: "Exchange before Friday.", text: true, check: isNote},
	{Name: Page, About: "records that a device asks for at once", Example: "200", check: whole(LeastPage, MostPage)},
}

// Names are those of all settings.
func Names() []string {
	names := make([]string, len(All))
	for n, one := range All {
		names[n] = one.Name
	}
	return names
}

func find(name string) (Setting, bool) {
	at := slices.IndexFunc(All, func(s Setting) bool { return s.Name == name })
	if at < 0 {
		return Setting{}, false
	}
	return All[at], true
}

// Check says why a value is none of a setting's, or that there is no such setting.
func Check(name string, value json.RawMessage) error {
	one, known := find(name)
	if !known {
		return fmt.Errorf("there is no setting %q%s; there are %s", name, definition.Nearest(name, Names()), strings.Join(Names(), ", "))
	}
	if err := one.check(value); err != nil {
		return fmt.Errorf("%s %w, such as %s", name, err, one.Example)
	}
	return nil
}

// Typed makes a value of what somebody types for a setting.
func Typed(name, typed string) (json.RawMessage, error) {
	value := json.RawMessage(strings.TrimSpace(typed))
	if one, known := find(name); known && one.text || !json.Valid(value) {
		var err error
		if value, err = json.Marshal(typed); err != nil {
			return nil, err
		}
	}
	return value, Check(name, value)
}

// Digest stands for values: 12 hexadecimal digits of SHA-256 over them in the order of their names; empty for none.
func (v Values) Digest() string {
	if len(v) == 0 {
		return ""
	}
	hash := sha256.New()
	for _, name := range slices.Sorted(maps.Keys(v)) {
		fmt.Fprintf(hash, "%d %s%d %s", len(name), name, len(v[name]), v[name])
	}
	return hex.EncodeToString(hash.Sum(nil)[:6])
}

// Unknown are the names that this program does not know, and those whose values it cannot take.
func (v Values) Unknown() (names []string) {
	for _, name := range slices.Sorted(maps.Keys(v)) {
		if Check(name, v[name]) != nil {
			names = append(names, name)
		}
	}
	return names
}

// into reads a value that is in order.
func (v Values) into(name string, out any) bool {
	return v[name] != nil && Check(name, v[name]) == nil && json.Unmarshal(v[name], out) == nil
}

// Span is a setting that is a time.
func (v Values) Span(name string) (time.Duration, bool) {
	var text string
	if !v.into(name, &text) {
		return 0, false
	}
	span, err := definition.ParseSpan(text)
	return span, err == nil
}

// Number is a setting that is a number.
func (v Values) Number(name string) (n int64, is bool) { return n, v.into(name, &n) }

// Is is a setting that is yes or no.
func (v Values) Is(name string) (yes, is bool) { return yes, v.into(name, &yes) }

// Text is a setting that is a text; empty where nothing is said.
func (v Values) Text(name string) (text string) {
	v.into(name, &text)
	return text
}

func whole(least, most int64) func(json.RawMessage) error {
	return func(value json.RawMessage) error {
		n, err := strconv.ParseInt(string(value), 10, 64)
		if err != nil || n < least || n > most {
			return fmt.Errorf("is a whole number from %d to %d", least, most)
		}
		return nil
	}
}

func spanWithin(least, most time.Duration) func(json.RawMessage) error {
	return func(value json.RawMessage) error {
		var text string
		span, err := time.Duration(0), json.Unmarshal(value, &text)
		if err == nil {
			span, err = definition.ParseSpan(text)
		}
		if err != nil || span < least || span > most {
			return fmt.Errorf("is a time from %s to %s", inWords(least), inWords(most))
		}
		return nil
	}
}

func inWords(span time.Duration) string {
	if day := 24 * time.Hour; span >= day {
		return fmt.Sprintf("%d days", span/day)
	}
	return fmt.Sprintf("%d minutes", span/time.Minute)
}

func isYesOrNo(value json.RawMessage) error {
	if text := string(value); text != "true" && text != "false" {
		return fmt.Errorf("is true or false")
	}
	return nil
}

func isNote(value json.RawMessage) error {
	var text string
	if json.Unmarshal(value, &text) != nil || strings.TrimSpace(text) == "" || utf8.RuneCountInString(text) > MostNote {
		return fmt.Errorf("is a text of 1 to %d characters", MostNote)
	}
	return nil
}

var version = regexp.MustCompile(`^v?\d{1,6}(\.\d{1,6}){0,3}$`)

func isVersion(value json.RawMessage) error {
	var text string
	if json.Unmarshal(value, &text) != nil || !version.MatchString(text) {
		return fmt.Errorf("is a version of numbers with points between")
	}
	return nil
}

// Older says whether a program is of an earlier version than another. What is no version is not: nobody can tell.
func Older(is, least string) bool {
	a, okA := numbers(is)
	b, okB := numbers(least)
	return okA && okB && slices.Compare(a, b) < 0
}

// numbers are those of a version, in what a program calls itself, such as homing/1.4.0 (linux).
func numbers(text string) (all []int, ok bool) {
	for _, part := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == '/' || r == '(' || r == '-' || r == '+' }) {
		if !version.MatchString(part) || !strings.Contains(part, ".") {
			continue
		}
		for digits := range strings.SplitSeq(strings.TrimPrefix(part, "v"), ".") {
			n, _ := strconv.Atoi(digits) // digits alone
			all = append(all, n)
		}
		for len(all) > 0 && all[len(all)-1] == 0 {
			all = all[:len(all)-1]
		}
		return all, true
	}
	return nil, false
}

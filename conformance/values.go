package conformance

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/core/change"
	"homing/core/clock"
	"homing/core/definition"
	"homing/core/fingerprint"
	"homing/core/record"
)

// wrong is what comes out where a value is not taken.
type wrong struct {
	Wrong bool `json:"wrong"`
}

// canonical are values and their canonical form, or that they have none.
var canonical = kind{
	about: "The canonical form of a value: in is a JSON text, out its canonical form, or wrong is true where it is not taken.",
	given: func() (all []any, err error) {
		for _, text := range []string{`1`, `1.0`, `-0`, `0.0`, `1e3`, `1E+3`, `1.50`, `100`, `1e-7`, `0.000001`, `123456789012345678901234567890`,
			`9007199254740993`, `0.1234567890123456789`, `1e400`, `-1.5e-10`, `12e1`, `"é"`, `"e\u0301"`, `"\u00e9"`, `"a\/b"`, `"\u0041"`, `"\ud83d\ude00"`,
			`"\ud800"`, `"tab\there"`, `"\u0001"`, `"\u0000"`, `"<&>"`, `"\u2028"`, `{"b":1,"a":2}`, `{"a":{"z":1,"b":[1,2.0]}}`, `{"a":1,"a":2}`, `{}`, `[]`, `[3,2,1]`,
			`[1,[2,[3]]]`, ` { "a" : 1 } `, `true`, `null`, `{"a":null}`, `[null]`, `""`, `"  "`, `1.`, `01`, `+1`, `.5`, `NaN`, `'a'`, `{"a":1,}`, `[1,]`, `"open`, ``,
			`1 2`, `{"é":1,"z":2}`, `{"\u00e9":1}`, `{"B":1,"a":2,"C":3}`, `{"10":1,"9":2}`, `{"\ud83d\ude00":1,"\uffee":2}`, `1e1000000`, `123e-2`, `5e0`, `0e5`, `-0.0`,
			`1e21`, `1e22`, `1.5e21`, `123456789012345678901`, `1234567890123456789012`, `0.00000123`, `0.000000123`, `1e-400`, `4.9e-324`, `1.7976931348623157e308`, `1.8e308`} {
			all = append(all, map[string]string{"in": text})
		}
		return all, nil
	},
	work: working(func(given struct{ In string }) (any, error) {
		out, err := record.Canonical([]byte(given.In))
		if err != nil {
			return wrong{true}, nil
		}
		return map[string]string{"out": string(out)}, nil
	}),
}

type stamping struct {
	Last  string  `json:"last,omitempty"`
	Now   int64   `json:"now,omitempty"`
	Parse *string `json:"parse,omitempty"`
}

// stamps are what comes after a stamp.
var stamps = kind{
	about: "The stamp of an event: last is the stamp given before, left out where there is none, now the clock in milliseconds since 1970; next is the stamp. " +
		"Or parse is a text, and written the stamp that it is, or wrong is true where it is none.",
	given: func() (all []any, err error) {
		random := drawing(2)
		last, now := clock.Stamp{}, int64(1_790_000_000_000)
		for range 60 {
			switch random.IntN(5) {
			case 0: // the clock stands still
			case 1:
				now -= int64(random.IntN(5000))
			default:
				now += int64(random.IntN(2000))
			}
			one := stamping{Now: now}
			if !last.IsZero() {
				one.Last = last.String()
			}
			all = append(all, one)
			last = clock.Next(last, time.UnixMilli(now))
		}
		full := clock.Stamp{Millis: 1_790_000_000_000, Counter: 0xffff}
		all = append(all, stamping{Last: full.String(), Now: full.Millis})
		for _, text := range []string{"", "0199d3a1c2b4", "0199d3a1c2b4-003", "0199D3A1C2B4-0003", "0199d3a1c2b4_0003", "0199d3a1c2b4-00030", "x199d3a1c2b4-0003",
			"0199d3a1c2b4-0003"} {
			all = append(all, stamping{Parse: &text})
		}
		return all, nil
	},
	work: working(func(given stamping) (any, error) {
		if given.Parse != nil {
			stamp, err := clock.Parse(*given.Parse)
			if err != nil {
				return wrong{true}, nil
			}
			return map[string]string{"written": stamp.String()}, nil
		}
		var last clock.Stamp
		if given.Last != "" {
			var err error
			if last, err = clock.Parse(given.Last); err != nil {
				return nil, err
			}
		}
		return map[string]string{"next": clock.Next(last, time.UnixMilli(given.Now)).String()}, nil
	}),
}

type measuring struct {
	Sent     int64       `json:"sent"`
	Received int64       `json:"received"`
	Answered int64       `json:"answered"`
	Back     int64       `json:"back"`
	Stamp    clock.Stamp `json:"stamp"`
	Receipt  int64       `json:"receipt"`
}

// offsets are measurements of clocks, and stamps corrected by them.
var offsets = kind{
	about: "What an exchange measures of a device's clock, all times in milliseconds since 1970: sent and back by the device's clock, received and answered by " +
		"central's. by is what to add to the device's clock, error how far that may be off, both in milliseconds, rounded towards zero. stamp is one of the device, corrected " +
		"what it is in central's time where the change was received at receipt.",
	given: func() (all []any, err error) {
		random := drawing(3)
		for range 40 {
			skew := int64(random.IntN(20_000_000)) - 10_000_000
			sent := int64(1_790_000_000_000) + int64(random.IntN(1_000_000_000))
			received := sent + skew + int64(random.IntN(3000))
			answered := received + int64(random.IntN(500))
			back := answered - skew + int64(random.IntN(3000))
			stamp := clock.Stamp{Millis: sent - int64(random.IntN(100_000)) + int64(random.IntN(10_000)), Counter: uint16(random.IntN(4))}
			all = append(all, measuring{sent, received, answered, back, stamp, received})
		}
		return all, nil
	},
	work: working(func(m measuring) (any, error) {
		at := time.UnixMilli
		offset := clock.Measure(at(m.Sent), at(m.Received), at(m.Answered), at(m.Back))
		return map[string]any{"by": offset.By.Milliseconds(), "error": offset.Error.Milliseconds(), "corrected": offset.Correct(m.Stamp, at(m.Receipt))}, nil
	}),
}

type printing struct {
	Records []printed `json:"records"`
}

type printed struct {
	ID     uuid.UUID       `json:"id"`
	Fields json.RawMessage `json:"fields"`
}

// fingerprints are those of sets of records.
var fingerprints = kind{
	about: "The fingerprint of a set of records, whatever their order, and the bucket of each by its id.",
	given: func() (all []any, err error) {
		random := drawing(4)
		for _, count := range []int{0, 1, 2, 5, 20} {
			one := printing{Records: []printed{}}
			for n := range count {
				one.Records = append(one.Records, printed{drawnID(random), json.RawMessage(fmt.Sprintf(`{"name":"Record %d","number":%d.5}`, n, random.IntN(1000)))})
			}
			all = append(all, one)
		}
		return all, nil
	},
	work: working(func(given printing) (any, error) {
		var set fingerprint.Set
		buckets := []string{}
		for _, r := range given.Records {
			canonical, err := record.Canonical(r.Fields)
			if err != nil {
				return nil, err
			}
			set.Add(r.ID, canonical)
			buckets = append(buckets, fingerprint.Bucket(r.ID))
		}
		return map[string]any{"count": set.Count(), "fingerprint": set.String(), "buckets": buckets}, nil
	}),
}

// digests are those of changes.
var digests = kind{
	about: "The digest of a change, in hexadecimal: what tells two changes with the same number apart.",
	given: func() (all []any, err error) {
		random := drawing(6)
		for n := range 12 {
			at := time.UnixMilli(1_790_000_000_000 + int64(random.IntN(1_000_000))).UTC()
			c := change.Change{Number: int64(1 + random.IntN(500)), Collection: "huts", Record: drawnID(random), Kind: change.Edit, Base: int64(random.IntN(5)),
				Stamp: clock.Stamp{Millis: at.UnixMilli(), Counter: uint16(random.IntN(3))}, EditedAt: at, Author: "ada",
				Fields: record.Delta{"name": {From: json.RawMessage(`"Gale"`), To: json.RawMessage(fmt.Sprintf(`"Gale %d é"`, n))}, "beds": {To: json.RawMessage(`4.5`)}, "note": {From: json.RawMessage(`"x"`)}}}
			switch n % 4 {
			case 1:
				c.Group = &change.Group{ID: drawnID(random), Of: 3}
			case 2:
				c.Seen = []change.Source{{Incarnation: drawnID(random), Number: 7}}
			case 3:
				c.Kind, c.Folds = change.Add, []int64{2, 3}
			}
			if n == 8 {
				c.Kind, c.Fields = change.Remove, nil
			}
			all = append(all, map[string]any{"change": c})
		}
		return all, nil
	},
	work: working(func(given struct{ Change change.Change }) (any, error) {
		return map[string]string{"digest": hex.EncodeToString(given.Change.Digest())}, nil
	}),
}

type numbering struct {
	Series string    `json:"series"`
	N      int64     `json:"n"`
	ID     uuid.UUID `json:"id"`
}

// numbers are those of series.
var numbers = kind{
	about: "A number of a series: the number n written as series says, and what a record without a number shows meanwhile, by its id.",
	given: func() (all []any, err error) {
		random := drawing(5)
		for _, text := range []string{"VR-00001", "A1", "0001", "2026/001", "N-9"} {
			for _, n := range []int64{1, 9, 10, 12345, 99999999} {
				all = append(all, numbering{text, n, drawnID(random)})
			}
		}
		return all, nil
	},
	work: working(func(given numbering) (any, error) {
		s, err := definition.ParseSeries(given.Series)
		if err != nil {
			return nil, err
		}
		return map[string]string{"written": s.Format(given.N), "provisional": s.Provisional(given.ID)}, nil
	}),
}

func drawnID(random interface{ Uint64() uint64 }) uuid.UUID {
	var id uuid.UUID
	for n, part := range []uint64{random.Uint64(), random.Uint64()} {
		for k := range 8 {
			id[8*n+k] = byte(part >> (8 * k))
		}
	}
	id[6], id[8] = id[6]&0x0f|0x70, id[8]&0x3f|0x80 // version 7, RFC 9562
	return id
}

package conformance

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/google/uuid"

	"homing/core/clock"
	"homing/core/definition"
	"homing/core/fingerprint"
	"homing/core/record"
)

// canonical are values and their canonical form, or that they have none.
func canonical() (file, error) {
	f := file{About: "The canonical form of a value. in is a JSON text; out is its canonical form, or wrong is true where it is not taken."}
	texts := []string{`1`, `1.0`, `-0`, `0.0`, `1e3`, `1E+3`, `1.50`, `100`, `1e-7`, `0.000001`, `123456789012345678901234567890`, `9007199254740993`,
		`0.1234567890123456789`, `1e400`, `-1.5e-10`, `12e1`, `"é"`, `"e\u0301"`, `"\u00e9"`, `"a\/b"`, `"\u0041"`, `"\ud83d\ude00"`, `"\ud800"`, `"tab\there"`,
		`"\u0001"`, `"<&>"`, `"\u2028"`, `{"b":1,"a":2}`, `{"a":{"z":1,"b":[1,2.0]}}`, `{"a":1,"a":2}`, `{}`, `[]`, `[3,2,1]`, `[1,[2,[3]]]`, ` { "a" : 1 } `,
		`true`, `null`, `{"a":null}`, `[null]`, `""`, `"  "`, `1.`, `01`, `+1`, `.5`, `NaN`, `'a'`, `{"a":1,}`, `[1,]`, `"open`, ``, `1 2`, `{"é":1,"z":2}`,
		`{"\u00e9":1}`, `{"B":1,"a":2,"C":3}`, `{"10":1,"9":2}`, `1e1000000`, `123e-2`, `5e0`, `0e5`, `-0.0`}
	for _, text := range texts {
		one := map[string]any{"in": text}
		if out, err := record.Canonical([]byte(text)); err != nil {
			one["wrong"] = true
		} else {
			one["out"] = string(out)
		}
		f.Cases = append(f.Cases, one)
	}
	return f, nil
}

// stamps are what comes after a stamp.
func stamps() (file, error) {
	f := file{About: "The stamp of an event: last is the stamp given before, empty where there is none, now the clock in milliseconds since 1970; next is the stamp. Or parse is a text, and written the stamp that it is, or wrong is true where it is none."}
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
		text := ""
		if !last.IsZero() {
			text = last.String()
		}
		next := clock.Next(last, time.UnixMilli(now))
		f.Cases = append(f.Cases, map[string]any{"last": text, "now": now, "next": next.String()})
		last = next
	}
	full := clock.Stamp{Millis: 1_790_000_000_000, Counter: 0xffff}
	f.Cases = append(f.Cases, map[string]any{"last": full.String(), "now": full.Millis, "next": clock.Next(full, time.UnixMilli(full.Millis)).String()})
	for _, text := range []string{"", "0199d3a1c2b4", "0199d3a1c2b4-003", "0199D3A1C2B4-0003", "0199d3a1c2b4_0003", "0199d3a1c2b4-00030", "x199d3a1c2b4-0003"} {
		one := map[string]any{"parse": text}
		if stamp, err := clock.Parse(text); err != nil {
			one["wrong"] = true
		} else {
			one["written"] = stamp.String()
		}
		f.Cases = append(f.Cases, one)
	}
	return f, nil
}

// offsets are measurements of clocks, and stamps corrected by them.
func offsets() (file, error) {
	f := file{About: "What an exchange measures of a device's clock, all times in milliseconds since 1970: sent and back by the device's clock, received and answered by " +
		"central's. by is what to add to the device's clock, error how far that may be off, both in milliseconds, rounded towards zero. stamp is one of the device, corrected what it is in central's time where " +
		"the change was received at receipt."}
	random := drawing(3)
	at := func(ms int64) time.Time { return time.UnixMilli(ms) }
	for range 40 {
		skew := int64(random.IntN(20_000_000)) - 10_000_000
		sent := int64(1_790_000_000_000) + int64(random.IntN(1_000_000_000))
		received := sent + skew + int64(random.IntN(3000))
		answered := received + int64(random.IntN(500))
		back := answered - skew + int64(random.IntN(3000))
		offset := clock.Measure(at(sent), at(received), at(answered), at(back))
		stamp := clock.Stamp{Millis: sent - int64(random.IntN(100_000)) + int64(random.IntN(10_000)), Counter: uint16(random.IntN(4))}
		f.Cases = append(f.Cases, map[string]any{"sent": sent, "received": received, "answered": answered, "back": back,
			"by": offset.By.Milliseconds(), "error": offset.Error.Milliseconds(), "stamp": stamp.String(), "receipt": received,
			"corrected": offset.Correct(stamp, at(received)).String()})
	}
	return f, nil
}

// fingerprints are those of sets of records.
func fingerprints() (file, error) {
	f := file{About: "The fingerprint of a set of records, whatever their order, and the bucket of each by its id."}
	random := drawing(4)
	for _, count := range []int{0, 1, 2, 5, 20} {
		var set fingerprint.Set
		records := []any{}
		for n := range count {
			id := drawnID(random)
			fields := json.RawMessage(fmt.Sprintf(`{"name":"Record %d","number":%d.5}`, n, random.IntN(1000)))
			set.Add(id, fields)
			records = append(records, map[string]any{"id": id, "fields": fields, "bucket": fingerprint.Bucket(id)})
		}
		f.Cases = append(f.Cases, map[string]any{"records": records, "count": set.Count(), "fingerprint": set.String()})
	}
	return f, nil
}

// series are numbers of series.
func series() (file, error) {
	f := file{About: "A number of a series: what series says, the number n written, and what a record without a number shows meanwhile, by its id."}
	random := drawing(5)
	for _, text := range []string{"VR-00001", "A1", "0001", "2026/001", "N-9"} {
		s, err := definition.ParseSeries(text)
		if err != nil {
			return f, err
		}
		for _, n := range []int64{1, 9, 10, 12345, 99999999} {
			id := drawnID(random)
			f.Cases = append(f.Cases, map[string]any{"series": text, "n": n, "written": s.Format(n), "id": id, "provisional": s.Provisional(id)})
		}
	}
	return f, nil
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

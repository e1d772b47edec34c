package record

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Bounds on one value. They keep a malicious or broken value from costing more than the batch that carried it.
const (
	MaxDepth  = 32      // objects and lists within one another
	MaxValue  = 1 << 20 // bytes of one canonical field
	MaxDigits = 100     // of a number; databases and programs that count with it choke on more
	maxPlain  = 21      // digits before a number is written with an exponent
	// surelyDouble is a power of ten within which every number is one that a double comes near.
	surelyDouble = 300
)

// ErrValue reports a JSON text that cannot be the value of a field; the message says why.
var ErrValue = errors.New("not a usable value")

// Canonical rewrites a JSON value so that equal values have equal bytes: no blanks, keys in order, numbers in one
// notation with all their digits. It refuses what a store somewhere on the way would alter or choke on: invalid
// UTF-8, the character U+0000, a key twice in an object, numbers beyond a double's range, more than [MaxDepth] levels
// or [MaxValue] bytes.
//
// RFC 8785 is not used since it rounds numbers to doubles: an identifier of 17 digits would come back altered.
func Canonical(raw []byte) (json.RawMessage, error) {
	if plain(raw) {
		return bytes.Clone(raw), nil
	}
	if !utf8.Valid(raw) {
		return nil, fmt.Errorf("%w: not valid UTF-8", ErrValue)
	}
	if loneSurrogate(raw) {
		return nil, fmt.Errorf("%w: a text holds half of a character (an escape from \\ud800 to \\udfff without its "+
			"other half)", ErrValue)
	}
	decoder := json.NewDecoder(bytes.NewReader(raw))
	decoder.UseNumber()
	var out bytes.Buffer
	if err := canonicalValue(decoder, &out, 0); err != nil {
		return nil, err
	}
	if decoder.More() {
		return nil, fmt.Errorf("%w: something follows the value", ErrValue)
	}
	if out.Len() > MaxValue {
		return nil, fmt.Errorf("%w: %d bytes, the most is %d", ErrValue, out.Len(), MaxValue)
	}
	return out.Bytes(), nil
}

// plain recognises what most values are, and canonical already: a text of printable ASCII without escapes, or a whole
// number.
func plain(raw []byte) bool {
	const most = 15 // digits; longer ones take the long way
	if len(raw) < 2 || len(raw) > MaxValue {
		return len(raw) == 1 && raw[0] >= '0' && raw[0] <= '9'
	}
	if raw[0] != '"' {
		if raw[0] < '1' || raw[0] > '9' || len(raw) > most {
			return false
		}
		return !slices.ContainsFunc(raw, func(b byte) bool { return b < '0' || b > '9' })
	}
	text := raw[1 : len(raw)-1]
	return raw[len(raw)-1] == '"' && !slices.ContainsFunc(text,
		func(b byte) bool { return b < ' ' || b > '~' || b == '"' || b == '\\' })
}

// loneSurrogate says whether a JSON text escapes half of a character, which would come out as another one. Two halves
// that follow each other make a character (RFC 8259, section 7).
func loneSurrogate(raw []byte) bool {
	for n := 0; n < len(raw); n++ {
		if raw[n] != '\\' {
			continue
		}
		unit, escaped := escapedUnit(raw[n:])
		if !escaped {
			n++ // whatever is escaped, it is not the start of another escape
			continue
		}
		n += len(`\ud800`) - 1
		if !utf16.IsSurrogate(unit) {
			continue
		}
		low, follows := escapedUnit(raw[n+1:])
		if !follows || utf16.DecodeRune(unit, low) == utf8.RuneError {
			return true
		}
		n += len(`\ud800`)
	}
	return false
}

// escapedUnit reads an escape such as \u00e9 at the start of a text.
func escapedUnit(text []byte) (unit rune, ok bool) {
	if len(text) < 6 || text[0] != '\\' || text[1] != 'u' {
		return 0, false
	}
	value, err := strconv.ParseUint(string(text[2:6]), 16, 16)
	return rune(value), err == nil
}

func canonicalValue(decoder *json.Decoder, out *bytes.Buffer, depth int) error {
	token, err := decoder.Token()
	if err != nil {
		return fmt.Errorf("%w: broken JSON: %v", ErrValue, err)
	}
	switch value := token.(type) {
	case nil:
		out.WriteString("null")
	case bool:
		out.WriteString(strconv.FormatBool(value))
	case json.Number:
		number, err := canonicalNumber(string(value))
		if err != nil {
			return err
		}
		out.WriteString(number)
	case string:
		return canonicalString(value, out)
	case json.Delim:
		if depth == MaxDepth {
			return fmt.Errorf("%w: nested deeper than %d levels", ErrValue, MaxDepth)
		}
		if value == '[' {
			return canonicalList(decoder, out, depth+1)
		}
		return canonicalObject(decoder, out, depth+1)
	}
	return nil
}

func canonicalList(decoder *json.Decoder, out *bytes.Buffer, depth int) error {
	out.WriteByte('[')
	for n := 0; decoder.More(); n++ {
		if n > 0 {
			out.WriteByte(',')
		}
		if err := canonicalValue(decoder, out, depth); err != nil {
			return err
		}
	}
	out.WriteByte(']')
	return closing(decoder)
}

func canonicalObject(decoder *json.Decoder, out *bytes.Buffer, depth int) error {
	type member struct {
		key   string
		value []byte
	}
	var members []member
	for decoder.More() {
		key, err := decoder.Token()
		if err != nil {
			return fmt.Errorf("%w: broken JSON: %v", ErrValue, err)
		}
		var value bytes.Buffer
		if err := canonicalValue(decoder, &value, depth); err != nil {
			return err
		}
		members = append(members, member{key.(string), value.Bytes()})
	}
	slices.SortFunc(members, func(a, b member) int { return strings.Compare(a.key, b.key) })
	out.WriteByte('{')
	for n, m := range members {
		if n > 0 {
			if members[n-1].key == m.key {
				return fmt.Errorf("%w: the key %q stands twice in one object", ErrValue, m.key)
			}
			out.WriteByte(',')
		}
		if err := canonicalString(m.key, out); err != nil {
			return err
		}
		out.WriteByte(':')
		out.Write(m.value)
	}
	out.WriteByte('}')
	return closing(decoder)
}

func closing(decoder *json.Decoder) error {
	if _, err := decoder.Token(); err != nil {
		return fmt.Errorf("%w: broken JSON: %v", ErrValue, err)
	}
	return nil
}

func canonicalString(value string, out *bytes.Buffer) error {
	if strings.ContainsRune(value, 0) {
		return fmt.Errorf("%w: the character U+0000 cannot be stored", ErrValue)
	}
	encoder := json.NewEncoder(out)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(value); err != nil {
		return fmt.Errorf("%w: %v", ErrValue, err)
	}
	out.Truncate(out.Len() - 1) // the encoder ends with a line break
	return nil
}

// canonicalNumber takes a JSON number literal apart into digits and exponent and writes it in one way: 1, 1.0, 10e-1
// and 1E0 all become 1. No digit is dropped but leading and trailing zeros.
func canonicalNumber(literal string) (string, error) {
	rest, negative := strings.CutPrefix(literal, "-")
	mantissa, exponentText, hasExponent := strings.Cut(strings.ToLower(rest), "e")
	exponent := 0
	if len(literal) > 10*MaxDigits {
		return "", fmt.Errorf("%w: the number %.40s is written with %d characters", ErrValue, literal, len(literal))
	}
	if hasExponent {
		var err error
		if exponent, err = strconv.Atoi(exponentText); err != nil {
			return "", fmt.Errorf("%w: the number %.40s is out of range", ErrValue, literal)
		}
	}
	whole, fraction, _ := strings.Cut(mantissa, ".")
	digits := strings.TrimLeft(whole+fraction, "0")
	point := len(whole) + exponent - (len(whole+fraction) - len(digits)) // where the point stands, counted from the first digit
	digits = strings.TrimRight(digits, "0")
	if digits == "" {
		return "0", nil
	}
	if len(digits) > MaxDigits {
		return "", fmt.Errorf("%w: the number %.40s has %d digits, the most is %d", ErrValue, literal, len(digits), MaxDigits)
	}
	if point > surelyDouble || point < -surelyDouble {
		// Past the range of a double, no program reads the number back.
		if value, err := strconv.ParseFloat(literal, 64); err != nil || value == 0 {
			return "", fmt.Errorf("%w: the number %.40s is out of range", ErrValue, literal)
		}
	}
	var out strings.Builder
	if negative {
		out.WriteByte('-')
	}
	switch {
	case point > maxPlain || point < -5:
		out.WriteString(digits[:1])
		if len(digits) > 1 {
			out.WriteString("." + digits[1:])
		}
		out.WriteString("e" + strconv.Itoa(point-1))
	case point <= 0:
		out.WriteString("0." + strings.Repeat("0", -point) + digits)
	case point >= len(digits):
		out.WriteString(digits + strings.Repeat("0", point-len(digits)))
	default:
		out.WriteString(digits[:point] + "." + digits[point:])
	}
	return out.String(), nil
}

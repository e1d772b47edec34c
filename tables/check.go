package tables

import (
	"encoding/json"
	"regexp"
	"strings"
)

// The forms in which PostgreSQL writes back the checks that JSON Schema has keywords for.
var (
	cast       = regexp.MustCompile(`::("[^"]+"|[a-z_]+(?: [a-z]+)*)(\([0-9, ]+\))?(\[\])?`)
	comparison = regexp.MustCompile(`^"?([A-Za-z_][A-Za-z0-9_]*)"? (>=|<=|>|<) (-?[0-9]+(?:\.[0-9]+)?)$`)
	length     = regexp.MustCompile(`^(?:char_length|length)\("?([A-Za-z_][A-Za-z0-9_]*)"?\) (>=|<=|>|<) ([0-9]+)$`)
	choice     = regexp.MustCompile(`^"?([A-Za-z_][A-Za-z0-9_]*)"? = ANY \(ARRAY\[(.*)\]\)$`)
	match      = regexp.MustCompile(`^"?([A-Za-z_][A-Za-z0-9_]*)"? ~ '((?:[^']|'')*)'$`)
	text       = regexp.MustCompile(`'((?:[^']|'')*)'`)
)

// parentheses that say nothing, once casts are gone: within those of a call, around a name, around a number, around a
// list.
var parentheses = []*regexp.Regexp{
	regexp.MustCompile(`(\()\(("?[A-Za-z_][A-Za-z0-9_]*"?)\)(\))`),
	regexp.MustCompile(`(^|[ (])\(("?[A-Za-z_][A-Za-z0-9_]*"?)\)( )`),
	regexp.MustCompile(`()\((-?[0-9.]+)\)()`),
	regexp.MustCompile(`(\()\((ARRAY\[.*\])\)(\))`),
}

// parseCheck reads a check constraint, as pg_get_constraintdef writes it, into JSON Schema keywords by column. It
// understands comparisons with numbers, lengths, lists of values and patterns, joined by AND; anything else it leaves
// alone.
func parseCheck(check string) (bounds map[string]map[string]any, understood bool) {
	inner, found := strings.CutPrefix(strings.TrimSuffix(check, " NOT VALID"), "CHECK ")
	if !found {
		return nil, false
	}
	bounds = map[string]map[string]any{}
	for _, part := range conjuncts(inner) {
		column, keyword, value, ok := keywordOf(part)
		if !ok {
			return nil, false
		}
		if bounds[column] == nil {
			bounds[column] = map[string]any{}
		}
		bounds[column][keyword] = value
	}
	return bounds, true
}

// conjuncts splits what AND joins, without the parentheses around it.
func conjuncts(condition string) []string {
	condition = strip(strings.TrimSpace(condition))
	depth, quoted := 0, false
	for n := range len(condition) {
		switch c := condition[n]; {
		case c == '\'':
			quoted = !quoted
		case quoted:
		case c == '(' || c == '[':
			depth++
		case c == ')' || c == ']':
			depth--
		case depth == 0 && strings.HasPrefix(condition[n:], " AND "):
			return append(conjuncts(condition[:n]), conjuncts(condition[n+len(" AND "):])...)
		}
	}
	return []string{condition}
}

// strip takes off parentheses that enclose the whole.
func strip(s string) string {
	for strings.HasPrefix(s, "(") && strings.HasSuffix(s, ")") {
		depth, quoted := 0, false
		for n := range len(s) {
			switch c := s[n]; {
			case c == '\'':
				quoted = !quoted
			case quoted:
			case c == '(':
				depth++
			case c == ')':
				depth--
			}
			if depth == 0 && n < len(s)-1 {
				return s
			}
		}
		s = strings.TrimSpace(s[1 : len(s)-1])
	}
	return s
}

func keywordOf(condition string) (column, keyword string, value any, ok bool) {
	plain := outsideTexts(condition)
	if parts := comparison.FindStringSubmatch(plain); parts != nil && json.Valid([]byte(parts[3])) {
		return parts[1], map[string]string{">=": "minimum", "<=": "maximum", ">": "exclusiveMinimum",
			"<": "exclusiveMaximum"}[parts[2]], json.Number(parts[3]), true
	}
	if parts := length.FindStringSubmatch(plain); parts != nil && json.Valid([]byte(parts[3])) {
		n, err := json.Number(parts[3]).Int64()
		if err != nil {
			return "", "", nil, false
		}
		switch parts[2] {
		case ">":
			return parts[1], "minLength", n + 1, true
		case ">=":
			return parts[1], "minLength", n, true
		case "<":
			return parts[1], "maxLength", n - 1, true
		}
		return parts[1], "maxLength", n, true
	}
	if parts := choice.FindStringSubmatch(plain); parts != nil {
		var values []string
		rest := text.ReplaceAllStringFunc(parts[2], func(quoted string) string {
			values = append(values, strings.ReplaceAll(quoted[1:len(quoted)-1], "''", "'"))
			return ""
		})
		return parts[1], "enum", values, len(values) > 0 && strings.Trim(rest, ", ") == ""
	}
	if parts := match.FindStringSubmatch(plain); parts != nil {
		pattern := strings.ReplaceAll(parts[2], "''", "'")
		_, err := regexp.Compile(pattern)
		return parts[1], "pattern", pattern, err == nil
	}
	return "", "", nil, false
}

// outsideTexts leaves out casts, and parentheses around single names and numbers, wherever these are not part of a
// quoted text.
func outsideTexts(condition string) string {
	pieces := text.Split(condition, -1)
	texts := text.FindAllString(condition, -1)
	var out strings.Builder
	for n, piece := range pieces {
		out.WriteString(cast.ReplaceAllString(piece, ""))
		if n < len(texts) {
			out.WriteString(texts[n])
		}
	}
	plain := out.String()
	for _, needless := range parentheses {
		plain = needless.ReplaceAllString(plain, "$1$2$3")
	}
	return plain
}

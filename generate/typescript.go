package generate

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"homing/core/definition"
)

// exact reads and writes JSON with all digits of its numbers.
//
//go:embed exact.ts
var exact string

const scriptStart = `
export interface Point { type: 'Point'; coordinates: Numeric[] }
export interface Line { type: 'LineString'; coordinates: Numeric[][] }

declare const of: unique symbol

/** The id of a record of one collection; those of another are not taken for it. A text becomes one by "as". */
export type ID<Collection extends string> = string & { readonly [of]: Collection }
`

// fromLibrary stands in place of exact: the numbers are those of the library, which reads and writes them.
const fromLibrary = `import { Exact, typed, type BrowserStore } from %s

export { Exact }

export type Numeric = number | Exact

/** A store in a browser that knows these collections. */
export function withTypes(store: BrowserStore) {
  return typed<Collections, Changes, IDs>(store)
}
`

func writeTypeScript(library string, definitions []definition.Definition) []byte {
	var out strings.Builder
	numbers := exact
	if library != "" {
		numbers = fmt.Sprintf(fromLibrary, quoted(library))
	}
	fmt.Fprintf(&out, "// %s\n%s", header, "\n"+numbers+scriptStart)
	for _, d := range definitions {
		name := typeName(d.Collection)
		fmt.Fprintf(&out, "\nexport type %sID = ID<%s>\n", name, quoted(d.Collection))
		fmt.Fprintf(&out, "\n/** A record of the collection %s, version %d, as it is read. */\nexport interface %s {\n", d.Collection, d.Version, name)
		for _, field := range d.Fields {
			mark := "?"
			if field.Required {
				mark = ""
			}
			fmt.Fprintf(&out, "  /** %s */\n  readonly %s%s: %s\n", about(field), field.Name, mark, scriptKind(field, definitions))
		}
		fmt.Fprintf(&out, "}\n\n/** What an add or an edit sets of a record of %s: nothing but what people set. What is left out stays; null clears. */\n"+
			"export interface %sChange {\n", d.Collection, name)
		for _, field := range d.Fields {
			if !settable(field) {
				continue
			}
			clears := " | null"
			if field.Required {
				clears = ""
			}
			fmt.Fprintf(&out, "  /** %s */\n  %s?: %s%s\n", about(field), field.Name, scriptKind(field, definitions), clears)
		}
		out.WriteString("}\n")
	}
	for _, all := range []struct{ name, what, suffix string }{{"Collections", "The records", ""}, {"Changes", "What changes set", "Change"}, {"IDs", "The ids", "ID"}} {
		fmt.Fprintf(&out, "\n/** %s by the name of their collection. */\nexport interface %s {\n", all.what, all.name)
		for _, d := range definitions {
			fmt.Fprintf(&out, "  %s: %s%s\n", d.Collection, typeName(d.Collection), all.suffix)
		}
		out.WriteString("}\n")
	}
	return []byte(out.String())
}

func about(field definition.Field) string {
	text := field.Title
	if _, why := field.Settable(); why != "" {
		text += "; it " + why
	}
	return oneLine(text)
}

func quoted(text string) string {
	raw, err := json.Marshal(text)
	if err != nil {
		return "string"
	}
	return string(raw)
}

func scriptKind(field definition.Field, definitions []definition.Definition) string {
	if field.Reference != "" && refersTo(field, definitions) {
		return typeName(field.Reference) + "ID"
	}
	return scriptType(field.Schema)
}

// most is up to where JavaScript's own numbers hold each whole one.
const most = 1<<53 - 1

func scriptType(schema json.RawMessage) string {
	s := definition.ShapeOf(schema)
	switch {
	case s.Ref == definition.PointURL:
		return "Point"
	case s.Ref == definition.LineURL:
		return "Line"
	case s.Choices() != nil:
		var all []string
		for _, choice := range s.Choices() {
			all = append(all, quoted(choice))
		}
		return strings.Join(all, " | ")
	case s.Type == "string":
		return "string"
	case s.Type == "integer" && s.Minimum != nil && s.Maximum != nil && *s.Minimum >= -most && *s.Maximum <= most:
		return "number"
	case s.Type == "integer" || s.Type == "number":
		return "Numeric"
	case s.Type == "boolean":
		return "boolean"
	case s.Type == "array" && len(s.Items) > 0:
		return "Array<" + scriptType(s.Items) + ">"
	case s.Type == "array":
		return "unknown[]"
	case s.Type == "object" && len(s.Properties) > 0:
		var parts []string
		for _, part := range slices.Sorted(maps.Keys(s.Properties)) {
			parts = append(parts, quoted(part)+"?: "+scriptType(s.Properties[part]))
		}
		return "{ " + strings.Join(parts, "; ") + " }"
	}
	return "unknown"
}

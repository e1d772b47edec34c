package definition

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v3"

	"homing/core/merge"
	"homing/core/record"
)

// MaxSource is the most bytes a definition file may have.
const MaxSource = 1 << 20

// SourceError says where in a definition file what is wrong.
type SourceError struct {
	File    string
	Line    int // 0 when the whole file is meant
	Message string
}

func (e *SourceError) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.Message)
	}
	return fmt.Sprintf("%s:%d: %s", e.File, e.Line, e.Message)
}

// ReadSource reads a definition file: one YAML document with the keys collection, title, description, label, key,
// fields, required, parent, access, sync, carry, attention, coverage, follow_ups and languages. File is the name that errors carry; every error is a
// [*SourceError].
func ReadSource(file string, text []byte) (Definition, error) {
	s := source{file: file}
	root, err := s.document(text)
	if err != nil {
		return Definition{}, err
	}
	d, err := s.definition(root)
	if err != nil {
		return Definition{}, err
	}
	if _, err := d.Compile(); err != nil {
		return Definition{}, s.compileError(root, err)
	}
	if err := d.Inspect(); err != nil {
		return Definition{}, s.compileError(root, err)
	}
	return d, nil
}

type source struct{ file string }

func (s source) fail(node *yaml.Node, format string, args ...any) error {
	line := 0
	if node != nil {
		line = node.Line
	}
	return &SourceError{File: s.file, Line: line, Message: fmt.Sprintf(format, args...)}
}

var yamlLine = regexp.MustCompile(`^yaml: (?:line (\d+): )?`)

func (s source) document(text []byte) (*yaml.Node, error) {
	if len(text) > MaxSource {
		return nil, s.fail(nil, "the file has %d bytes; a definition has at most %d", len(text), MaxSource)
	}
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	var doc yaml.Node
	if err := decoder.Decode(&doc); err != nil {
		if errors.Is(err, io.EOF) {
			return nil, s.fail(nil, "the file is empty; a definition starts with collection: NAME")
		}
		wrong := &SourceError{File: s.file, Message: yamlLine.ReplaceAllString(err.Error(), "")}
		if at := yamlLine.FindStringSubmatch(err.Error()); at != nil && at[1] != "" {
			wrong.Line, _ = strconv.Atoi(at[1]) // the pattern lets only digits through
		}
		return nil, wrong
	}
	if err := decoder.Decode(new(yaml.Node)); !errors.Is(err, io.EOF) {
		return nil, s.fail(nil, "the file holds more than one document; write one definition to a file")
	}
	root := doc.Content[0]
	if root.Kind != yaml.MappingNode {
		return nil, s.fail(root, "a definition is a mapping that starts with collection: NAME")
	}
	return root, nil
}

// entry is one key of a mapping with its value.
type entry struct{ key, value *yaml.Node }

// entries are the members of a mapping in order. Double keys are refused, and so are keys outside of known, if it is
// given.
func (s source) entries(node *yaml.Node, known ...string) ([]entry, error) {
	if node.Kind != yaml.MappingNode {
		return nil, s.fail(node, "a mapping is expected here")
	}
	var all []entry
	seen := map[string]int{}
	for n := 0; n < len(node.Content); n += 2 {
		key := node.Content[n]
		if first, twice := seen[key.Value]; twice {
			return nil, s.fail(key, "the key %q stands here a second time; the first is in line %d", key.Value, first)
		}
		seen[key.Value] = key.Line
		if len(known) > 0 && !slices.Contains(known, key.Value) {
			return nil, s.fail(key, "the key %q is not known here; known are %s", key.Value, strings.Join(known, ", "))
		}
		all = append(all, entry{key, node.Content[n+1]})
	}
	return all, nil
}

func (s source) yes(node *yaml.Node, what string) (is bool, err error) {
	if node.Kind != yaml.ScalarNode || node.Decode(&is) != nil {
		return false, s.fail(node, "%s is true or false", what)
	}
	return is, nil
}

func (s source) text(node *yaml.Node, what string) (string, error) {
	if node.Kind != yaml.ScalarNode || strings.TrimSpace(node.Value) == "" || node.Tag == "!!null" {
		return "", s.fail(node, "%s is a text", what)
	}
	return node.Value, nil
}

func (s source) definition(root *yaml.Node) (Definition, error) {
	d := Definition{Version: 1, Sync: Sync{Removal: merge.EditStays}}
	members, err := s.entries(root, "collection", "title", "description", "label", "key", "unique", "lists", "searched", "fields", "required", "parent",
		"access", "sync", "carry", "examples", "attention", "coverage", "follow_ups", "languages")
	if err != nil {
		return d, err
	}
	parts := map[string]*yaml.Node{}
	for _, member := range members {
		parts[member.key.Value] = member.value
	}
	for _, name := range []string{"collection", "fields"} {
		if parts[name] == nil {
			return d, s.fail(root, "the key %q is missing", name)
		}
	}
	texts := map[string]*string{"collection": &d.Collection, "title": &d.Title, "description": &d.Description,
		"label": &d.Label, "key": &d.Key}
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		if parts[name] == nil {
			continue
		}
		if *texts[name], err = s.text(parts[name], name); err != nil {
			return d, err
		}
	}
	if !Name.MatchString(d.Collection) {
		return d, s.fail(parts["collection"], "%q cannot name a collection: take a small letter, then small letters, "+
			"digits and _, at most 40", d.Collection)
	}
	if d.Title == "" {
		d.Title = titleOf(d.Collection)
	}
	if err := s.fields(&d, parts["fields"]); err != nil {
		return d, err
	}
	if parts["required"] != nil {
		if err := s.required(&d, parts["required"]); err != nil {
			return d, err
		}
	}
	if parts["parent"] != nil {
		if err := s.parent(&d, parts["parent"]); err != nil {
			return d, err
		}
	}
	if parts["access"] != nil {
		if err := s.access(&d, parts["access"]); err != nil {
			return d, err
		}
	}
	if parts["carry"] != nil {
		if err := s.carry(&d, parts["carry"]); err != nil {
			return d, err
		}
	}
	if parts["sync"] != nil {
		if err := s.sync(&d, parts["sync"]); err != nil {
			return d, err
		}
	}
	for name, into := range map[string]any{"attention": &d.Attention, "follow_ups": &d.FollowUps, "languages": &d.Languages} {
		if parts[name] != nil {
			if err := s.into(parts[name], name, into); err != nil {
				return d, err
			}
		}
	}
	if parts["coverage"] != nil {
		if err := s.coverage(&d, parts["coverage"]); err != nil {
			return d, err
		}
	}
	if parts["examples"] != nil {
		if err := s.examples(&d, parts["examples"]); err != nil {
			return d, err
		}
	}
	if _, known := d.Field(d.Key); d.Key != "" && !known {
		return d, s.fail(parts["key"], "the key %q is not a field of the collection", d.Key)
	}
	if node := parts["unique"]; node != nil {
		if d.Unique, err = s.yes(node, "unique"); err != nil {
			return d, err
		}
	}
	if d.Unique && d.Key == "" {
		return d, s.fail(parts["unique"], "unique says that the key is: name the field under key")
	}
	if node := parts["searched"]; node != nil {
		if d.Searched, err = s.yes(node, "searched"); err != nil {
			return d, err
		}
	}
	if node := parts["lists"]; node != nil {
		if node.Kind != yaml.SequenceNode {
			return d, s.fail(node, "lists is a list of field names")
		}
		for _, item := range node.Content {
			name, err := s.text(item, "lists")
			if err != nil {
				return d, err
			}
			d.Lists = append(d.Lists, name)
		}
	}
	if d.Label == "" {
		d.Label = "{" + d.Fields[0].Name + "}"
	}
	if _, err := parseLabel(d.Label, d); err != nil {
		return d, s.fail(parts["label"], "%v", err)
	}
	return d, nil
}

func titleOf(name string) string {
	words := strings.ReplaceAll(name, "_", " ")
	return strings.ToUpper(words[:1]) + words[1:]
}

func (s source) fields(d *Definition, node *yaml.Node) error {
	members, err := s.entries(node)
	if err != nil {
		return err
	}
	if len(members) == 0 {
		return s.fail(node, "a collection has at least one field")
	}
	for _, member := range members {
		name := member.key.Value
		if !Name.MatchString(name) {
			return s.fail(member.key, "%q cannot name a field: take a small letter, then small letters, digits and _, at "+
				"most 40", name)
		}
		if strings.HasPrefix(name, "homing_") {
			return s.fail(member.key, "names that start with homing_ are taken; call the field %q something else", name)
		}
		value, err := s.json(member.value, 0)
		if err != nil {
			return err
		}
		schema, isObject := value.(map[string]any)
		if !isObject {
			return s.fail(member.value, "the field %q needs a JSON Schema, such as {type: string}", name)
		}
		field := Field{Name: name, Title: titleOf(name)}
		if title, has := schema["title"].(string); has {
			field.Title = title
		}
		if reference, has := schema["reference"]; has {
			collection, isText := reference.(string)
			if !isText || !Name.MatchString(collection) {
				return s.fail(member.value, "the field %q: reference names a collection", name)
			}
			field.Reference = collection
		}
		if n := slices.IndexFunc(member.value.Content, func(c *yaml.Node) bool {
			return c.Tag == "!!null" &&
				c.Value == ""
		}); n > 0 && member.value.Style&yaml.FlowStyle != 0 {
			return s.fail(member.value, "the field %q: %q stands alone; inside braces a comma ends a text, so put an "+
				"expression with commas in quotes", name, member.value.Content[n-1].Value)
		}
		for what, into := range map[string]*string{"computed": &field.Computed, "filled": &field.Filled,
			"series": &field.Series, "when": &field.When, "period": &field.Period} {
			value, has := schema[what]
			text, isText := value.(string)
			if has && (!isText || strings.TrimSpace(text) == "") {
				return s.fail(follow(member.value, []string{what}), "the field %q: %s is a text", name, what)
			}
			*into = text
		}
		for what, into := range map[string]*bool{"local": &field.Local, "again": &field.Again} {
			value, has := schema[what]
			is, isBool := value.(bool)
			if has && !isBool {
				return s.fail(follow(member.value, []string{what}), "the field %q: %s is true or false", name, what)
			}
			*into = is
		}
		if field.Schema, err = json.Marshal(schema); err != nil {
			return s.fail(member.value, "the field %q: %v", name, err)
		}
		d.Fields = append(d.Fields, field)
	}
	return nil
}

func (s source) required(d *Definition, node *yaml.Node) error {
	if node.Kind != yaml.SequenceNode {
		return s.fail(node, "required is a list of field names")
	}
	for _, item := range node.Content {
		n := slices.IndexFunc(d.Fields, func(f Field) bool { return f.Name == item.Value })
		if n < 0 {
			return s.fail(item, "required names the field %q, which is not defined", item.Value)
		}
		d.Fields[n].Required = true
	}
	return nil
}

func (s source) parent(d *Definition, node *yaml.Node) error {
	members, err := s.entries(node, "collection", "field", "removal")
	if err != nil {
		return err
	}
	parent := Parent{Removal: RestrictRemoval}
	removal := string(parent.Removal)
	into := map[string]*string{"collection": &parent.Collection, "field": &parent.Field, "removal": &removal}
	for _, member := range members {
		if *into[member.key.Value], err = s.text(member.value, member.key.Value); err != nil {
			return err
		}
	}
	for _, what := range []string{"collection", "field"} {
		if *into[what] == "" {
			return s.fail(node, "parent: the key %q is missing; write parent: {collection: NAME, field: FIELD, removal: "+
				"restrict}", what)
		}
	}
	parent.Removal = ParentRemoval(removal)
	d.Parent = &parent
	n := slices.IndexFunc(d.Fields, func(f Field) bool { return f.Name == parent.Field })
	if n < 0 {
		return s.fail(follow(node, []string{"field"}), "parent: %q is not a field of the collection", parent.Field)
	}
	if d.Fields[n].Reference == "" {
		d.Fields[n].Reference = parent.Collection
	}
	return nil
}

func (s source) carry(d *Definition, node *yaml.Node) error {
	members, err := s.entries(node, "rename", "default", "convert", "drop")
	if err != nil {
		return err
	}
	for _, member := range members {
		value, err := s.json(member.value, 0)
		if err != nil {
			return err
		}
		text, err := json.Marshal(value)
		if err != nil {
			return s.fail(member.value, "%v", err)
		}
		into := map[string]any{"rename": &d.Carry.Rename, "default": &d.Carry.Default, "convert": &d.Carry.Convert,
			"drop": &d.Carry.Drop}[member.key.Value]
		if err := json.Unmarshal(text, into); err != nil {
			want := map[string]string{"rename": "OLD: NEW", "default": "FIELD: VALUE", "convert": "FIELD: EXPRESSION",
				"drop": "[FIELD, …]"}[member.key.Value]
			return s.fail(member.value, "%s reads %s", member.key.Value, want)
		}
	}
	for _, wrong := range d.Carry.problems(*d) {
		return s.fail(node, "%s", wrong)
	}
	return nil
}

// into reads a part of the file that says what a struct or a map of such holds.
func (s source) into(node *yaml.Node, what string, into any) error {
	value, err := s.json(node, 0)
	if err != nil {
		return err
	}
	text, err := json.Marshal(value)
	if err != nil {
		return s.fail(node, "%v", err)
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(into); err != nil {
		want := map[string]string{"attention": "a list of {when: EXPRESSION, say: WORDS, grade: urgent|soon|note}",
			"follow_ups": "a list of {name: NAME, when: EXPRESSION, set: {FIELD: EXPRESSION}, set_parent: {FIELD: EXPRESSION}, add: {collection: NAME, each: record|change, fields: {FIELD: EXPRESSION}}, depth: NUMBER}",
			"coverage":   "{place: FIELD, period: FIELD, expected: {where: EXPRESSION, from: PERIOD, until: PERIOD, due: TIME}, complete: FIELD, reopen: EXPRESSION}",
			"languages":  "LANGUAGE: {title: TEXT, description: TEXT, fields: {FIELD: {title: TEXT, description: TEXT, choices: {VALUE: TEXT}}}, attention: {WORDS: WORDS}}"}[what]
		return s.fail(node, "%s reads %s (%s)", what, want, strings.TrimPrefix(err.Error(), "json: "))
	}
	return nil
}

// coverage reads what is expected. A year is a text there, also where YAML takes it for a number.
func (s source) coverage(d *Definition, node *yaml.Node) error {
	if expected := follow(node, []string{"expected"}); expected != node && expected.Kind == yaml.MappingNode {
		for n := 1; n < len(expected.Content); n += 2 {
			if expected.Content[n].Tag == "!!int" {
				expected.Content[n].Tag = "!!str"
			}
		}
	}
	if err := s.into(node, "coverage", &d.Coverage); err != nil {
		return err
	}
	for n := range d.Fields {
		if d.Coverage != nil && d.Coverage.Complete == d.Fields[n].Name {
			d.Fields[n].Marks = true
		}
	}
	return nil
}

// examples reads records, without looking at whether they fit: that is what they are tried for.
func (s source) examples(d *Definition, node *yaml.Node) error {
	if node.Kind != yaml.SequenceNode {
		return s.fail(node, "examples is a list of records, each FIELD: VALUE")
	}
	for _, item := range node.Content {
		members, err := s.entries(item)
		if err != nil {
			return err
		}
		fields := record.Fields{}
		for _, member := range members {
			name := member.key.Value
			if _, known := d.Field(name); !known {
				return s.fail(member.key, "an example has the field %q, which is not defined", name)
			}
			value, err := s.json(member.value, 0)
			if err != nil {
				return err
			}
			raw, err := json.Marshal(value)
			if err == nil {
				raw, err = record.CanonicalField(name, raw)
			}
			if err != nil {
				return s.fail(member.value, "%v", err)
			}
			if raw != nil {
				fields[name] = raw
			}
		}
		d.Examples = append(d.Examples, fields)
	}
	return nil
}

func (s source) access(d *Definition, node *yaml.Node) error {
	rules := map[string]*string{actRead: &d.Access.Read, actAdd: &d.Access.Add, actEdit: &d.Access.Edit,
		actRemove: &d.Access.Remove}
	members, err := s.entries(node, actRead, actAdd, actEdit, actRemove)
	if err != nil {
		return err
	}
	for _, member := range members {
		if *rules[member.key.Value], err = s.text(member.value, member.key.Value); err != nil {
			return err
		}
	}
	return nil
}

func (s source) sync(d *Definition, node *yaml.Node) error {
	members, err := s.entries(node, "rules", "removal", "steps", "territory", "direction", "keep", "max_age")
	if err != nil {
		return err
	}
	for _, member := range members {
		switch member.key.Value {
		case "direction":
			d.Sync.Direction = Direction(member.value.Value)
		case "keep":
			d.Sync.Keep = Keep(member.value.Value)
		case "max_age":
			if err := s.maxAge(d, member.value); err != nil {
				return err
			}
		case "removal":
			d.Sync.Removal = merge.Removal(member.value.Value)
			if !slices.Contains(merge.Removals, d.Sync.Removal) {
				return s.fail(member.value, "%q is not a removal rule; known are %v", member.value.Value, merge.Removals)
			}
		case "steps":
			d.Sync.Steps = Steps(member.value.Value)
		case "territory":
			if d.Sync.Territory, err = s.text(member.value, "territory"); err != nil {
				return err
			}
		case "rules":
			if err := s.rules(d, member.value); err != nil {
				return err
			}
		}
	}
	return nil
}

func (s source) maxAge(d *Definition, node *yaml.Node) error {
	members, err := s.entries(node, "warn", "block")
	if err != nil {
		return err
	}
	d.Sync.MaxAge = &MaxAge{}
	for _, member := range members {
		into := map[string]*string{"warn": &d.Sync.MaxAge.Warn, "block": &d.Sync.MaxAge.Block}[member.key.Value]
		if *into, err = s.text(member.value, member.key.Value); err != nil {
			return err
		}
	}
	return nil
}

func (s source) rules(d *Definition, node *yaml.Node) error {
	members, err := s.entries(node)
	if err != nil {
		return err
	}
	for _, member := range members {
		name, _, _ := strings.Cut(member.key.Value, "/")
		if _, known := d.Field(name); !known {
			return s.fail(member.key, "rules name the field %q, which is not defined", name)
		}
		if !slices.Contains(merge.RuleNames, merge.Rule(member.value.Value)) {
			return s.fail(member.value, "%q is not a merge rule; known are %v", member.value.Value, merge.RuleNames)
		}
		if d.Sync.Rules == nil {
			d.Sync.Rules = map[string]merge.Rule{}
		}
		d.Sync.Rules[member.key.Value] = merge.Rule(member.value.Value)
	}
	return nil
}

// json turns a YAML node into what JSON would hold. Dates stay texts, as written.
func (s source) json(node *yaml.Node, depth int) (any, error) {
	if depth > 32 {
		return nil, s.fail(node, "nested deeper than 32 levels")
	}
	switch node.Kind {
	case yaml.MappingNode:
		members, err := s.entries(node)
		if err != nil {
			return nil, err
		}
		object := map[string]any{}
		for _, member := range members {
			if object[member.key.Value], err = s.json(member.value, depth+1); err != nil {
				return nil, err
			}
		}
		return object, nil
	case yaml.SequenceNode:
		list := make([]any, len(node.Content))
		for n, item := range node.Content {
			var err error
			if list[n], err = s.json(item, depth+1); err != nil {
				return nil, err
			}
		}
		return list, nil
	case yaml.ScalarNode:
		return s.scalar(node)
	default:
		return nil, s.fail(node, "anchors and aliases are not read here; write the value out")
	}
}

func (s source) scalar(node *yaml.Node) (any, error) {
	switch node.Tag {
	case "!!int", "!!float":
		if json.Valid([]byte(node.Value)) {
			return json.Number(node.Value), nil
		}
		return nil, s.fail(node, "%q is not a number that JSON can hold", node.Value)
	case "!!bool":
		return strings.EqualFold(node.Value, "true"), nil
	case "!!null":
		return nil, nil
	default:
		return node.Value, nil
	}
}

// compileError finds the line that a schema error is about.
func (s source) compileError(root *yaml.Node, err error) error {
	var rule *ruleError
	if errors.As(err, &rule) {
		return s.fail(follow(root, rule.path), "%v", err)
	}
	var invalid *jsonschema.ValidationError
	var schema *jsonschema.SchemaValidationError
	if errors.As(err, &schema) && errors.As(schema.Err, &invalid) {
		for len(invalid.Causes) > 0 {
			invalid = invalid.Causes[0]
		}
		path := invalid.InstanceLocation
		return s.fail(follow(root, path), "%s: %s", strings.Join(path, "/"), invalid.ErrorKind.LocalizedString(english))
	}
	if _, fragment, found := strings.Cut(err.Error(), schemaURL+"#"); found {
		pointer := strings.Fields(strings.NewReplacer(`"`, " ", "'", " ").Replace(fragment))
		if len(pointer) > 0 {
			return s.fail(follow(root, strings.Split(strings.Trim(pointer[0], "/"), "/")), "%v", err)
		}
	}
	return s.fail(follow(root, []string{"properties"}), "%v", err)
}

// follow walks a path of the record's schema through the file as far as it goes.
func follow(root *yaml.Node, path []string) *yaml.Node {
	node := root
	for n, step := range path {
		if n == 0 && step == "properties" {
			step = "fields"
		}
		next := (*yaml.Node)(nil)
		switch node.Kind {
		case yaml.MappingNode:
			for k := 0; k < len(node.Content); k += 2 {
				if node.Content[k].Value == step {
					next = node.Content[k+1]
				}
			}
		case yaml.SequenceNode:
			if index, err := strconv.Atoi(step); err == nil && index < len(node.Content) {
				next = node.Content[index]
			}
		}
		if next == nil {
			break
		}
		node = next
	}
	return node
}

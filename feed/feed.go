// Package feed says what goes from central to other systems: which collections, which of their records, which fields under which
// names, and where to. A feed is written as a YAML file ([Read]) and kept as JSON.
package feed

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"go.yaml.in/yaml/v3"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/expression"
	"homing/core/record"
)

// Feed is what goes where.
type Feed struct {
	Name        string                `json:"feed" yaml:"feed"`
	Title       string                `json:"title,omitempty" yaml:"title"`
	Sees        string                `json:"sees" yaml:"sees" doc:"The worker whose territories and reading rules bound what it carries, or all."`
	Collections map[string]Collection `json:"collections" yaml:"collections"`
	To          To                    `json:"to" yaml:"to"`
}

// Collection is what of a collection goes.
type Collection struct {
	When   string            `json:"when,omitempty" yaml:"when" doc:"CEL expression over record: only records for which it holds. One that cannot be worked out counts as false."`
	Fields map[string]string `json:"fields,omitempty" yaml:"fields" doc:"The fields that go, and what they are called there; all under their own names if left out."`
	Called string            `json:"called,omitempty" yaml:"called" doc:"What the collection is called there; its own name if left out."`
}

// To is the destination: one of them.
type To struct {
	Hook   *Hook   `json:"hook,omitempty" yaml:"hook"`
	Files  *Files  `json:"files,omitempty" yaml:"files"`
	Tables *Tables `json:"tables,omitempty" yaml:"tables"`
}

// Hook is an address to which each record is posted as a CloudEvent (CloudEvents 1.0, JSON), signed.
type Hook struct {
	URL    string `json:"url" yaml:"url"`
	Secret string `json:"secret" yaml:"secret" doc:"The name of the secret with which requests are signed."`
}

// Files are files in a folder, each of which is there whole or not at all.
type Files struct {
	Folder string `json:"folder" yaml:"folder" doc:"Within the folder that central was started with for feeds."`
	Form   string `json:"form" yaml:"form" enum:"ndjson,csv,geojson"`
	Every  string `json:"every,omitempty" yaml:"every" doc:"How long records are gathered for a file, such as 10m; a minute if left out."`
	Most   int    `json:"most,omitempty" yaml:"most" doc:"Records to a file at most; 10,000 if left out."`
}

// Tables are tables of another PostgreSQL database, one to a collection.
type Tables struct {
	Database string `json:"database" yaml:"database" doc:"The name of the secret that holds the database's connection URL."`
	Schema   string `json:"schema,omitempty" yaml:"schema" doc:"public if left out."`
	Rows     string `json:"rows,omitempty" yaml:"rows" enum:"record,change" doc:"What a row is: a record, kept up to date, which is meant if left out; or a change, with what the record was after it."`
	Removed  string `json:"removed,omitempty" yaml:"removed" enum:"delete,mark" doc:"What becomes of the row of a record that is gone: it is deleted (or left out), or marked."`
}

// SeesAll stands for a feed that no worker's rights bound.
const SeesAll = "all"

// The forms of files.
var forms = []string{"ndjson", "csv", "geojson"}

const (
	usualEvery = time.Minute
	usualMost  = 10_000
	highest    = 100_000
)

// Read reads a feed file. Every error is a [*definition.SourceError].
func Read(file string, text []byte) (Feed, error) {
	fail := func(format string, args ...any) error {
		return &definition.SourceError{File: file, Message: fmt.Sprintf(format, args...)}
	}
	if len(text) > definition.MaxSource {
		return Feed{}, fail("the file has %d bytes; a feed has at most %d", len(text), definition.MaxSource)
	}
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	decoder.KnownFields(true)
	var f Feed
	if err := decoder.Decode(&f); err != nil {
		if errors.Is(err, io.EOF) {
			return f, fail("the file is empty; a feed starts with feed: NAME")
		}
		return f, atLine(file, err)
	}
	if err := decoder.Decode(new(yaml.Node)); !errors.Is(err, io.EOF) {
		return f, fail("the file holds more than one document; write one feed to a file")
	}
	if err := f.Check(); err != nil {
		return f, fail("%v", err)
	}
	return f, nil
}

var yamlLine = regexp.MustCompile(`line (\d+): (.*)`)

// atLine is what the YAML reader says is wrong, with its line.
func atLine(file string, err error) error {
	wrong := &definition.SourceError{File: file, Message: strings.TrimPrefix(err.Error(), "yaml: ")}
	if at := yamlLine.FindStringSubmatch(err.Error()); at != nil {
		wrong.Line, _ = strconv.Atoi(at[1]) // the pattern lets only digits through
		wrong.Message = strings.NewReplacer("in type feed.", "in ", "not found", "is not known").Replace(at[2])
	}
	return wrong
}

var secretName = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,39}$`)

// SecretName says whether a secret may be called so.
func SecretName(name string) bool { return secretName.MatchString(name) }

// Check finds what the feed alone shows to be wrong.
func (f Feed) Check() error {
	ways := 0
	for _, is := range []bool{f.To.Hook != nil, f.To.Files != nil, f.To.Tables != nil} {
		if is {
			ways++
		}
	}
	switch {
	case !definition.Name.MatchString(f.Name):
		return fmt.Errorf("feed: %q cannot name a feed: take a small letter, then small letters, digits and _, at most 40", f.Name)
	case f.Sees == "":
		return fmt.Errorf("sees is missing: name the worker whose rights bound what the feed carries, or write all")
	case len(f.Collections) == 0:
		return fmt.Errorf("collections are missing: write collections: {NAME: {}}")
	case ways != 1:
		return fmt.Errorf("to names one destination: hook, files or tables")
	}
	called := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(f.Collections)) {
		there := f.Called(name)
		if !definition.Name.MatchString(there) {
			return fmt.Errorf("collections/%s/called: %q cannot be a name there", name, there)
		}
		if other := called[there]; other != "" {
			return fmt.Errorf("collections/%s: %s is called %s there, too", name, other, there)
		}
		called[there] = name
		taken := map[string]string{}
		for _, field := range slices.Sorted(maps.Keys(f.Collections[name].Fields)) {
			now := f.Collections[name].Fields[field]
			if !definition.Name.MatchString(now) || strings.HasPrefix(now, "homing_") {
				return fmt.Errorf("collections/%s/fields/%s: %q cannot be a name there: small letters, digits and _, and not homing_ at the start", name, field, now)
			}
			if taken[now] != "" {
				return fmt.Errorf("collections/%s/fields/%s: %s is called %s there, too", name, field, taken[now], now)
			}
			taken[now] = field
		}
	}
	return f.To.check()
}

func (t To) check() error {
	switch {
	case t.Hook != nil:
		address, err := url.Parse(t.Hook.URL)
		if err != nil || address.Host == "" || address.Scheme != "https" && address.Scheme != "http" || address.User != nil {
			return fmt.Errorf("to/hook/url: %q is no address: write https://HOST/PATH, without a password", t.Hook.URL)
		}
		if !SecretName(t.Hook.Secret) {
			return fmt.Errorf("to/hook/secret: name the secret that signs, which homing feeds secret keeps")
		}
	case t.Files != nil:
		if !filepath.IsLocal(t.Files.Folder) {
			return fmt.Errorf("to/files/folder: %q is not a folder within the one that central has for feeds", t.Files.Folder)
		}
		if !slices.Contains(forms, t.Files.Form) {
			return fmt.Errorf("to/files/form: %q is not a form: take %s", t.Files.Form, strings.Join(forms, ", "))
		}
		if every, err := time.ParseDuration(t.Files.Every); t.Files.Every != "" && (err != nil || every < time.Second || every > 24*time.Hour) {
			return fmt.Errorf("to/files/every: %q is not a time from 1s to 24h, such as 10m", t.Files.Every)
		}
		if t.Files.Most < 0 || t.Files.Most > highest {
			return fmt.Errorf("to/files/most: take 1 to %d records", highest)
		}
	case t.Tables != nil:
		if !SecretName(t.Tables.Database) {
			return fmt.Errorf("to/tables/database: name the secret that holds the connection URL, which homing feeds secret keeps")
		}
		if !definition.Name.MatchString(t.Tables.SchemaName()) {
			return fmt.Errorf("to/tables/schema: %q cannot name a schema", t.Tables.Schema)
		}
		if !slices.Contains([]string{"", "delete", "mark"}, t.Tables.Removed) {
			return fmt.Errorf("to/tables/removed: %q is neither delete nor mark", t.Tables.Removed)
		}
		if !slices.Contains([]string{"", "record", "change"}, t.Tables.Rows) {
			return fmt.Errorf("to/tables/rows: %q is neither record nor change", t.Tables.Rows)
		}
		if t.Tables.EachChange() && t.Tables.Removed != "" {
			return fmt.Errorf("to/tables/removed: with rows: change, a removal is a row of its own; leave removed out")
		}
	}
	return nil
}

// SchemaName is the schema of the tables.
func (t Tables) SchemaName() string {
	if t.Schema == "" {
		return "public"
	}
	return t.Schema
}

// EachChange says that there is a row to each change.
func (t Tables) EachChange() bool { return t.Rows == "change" }

// EachChange says that what goes is each accepted change, and not each record as it is now.
func (f Feed) EachChange() bool { return f.To.Tables != nil && f.To.Tables.EachChange() }

// Gathers is how long records are gathered for a file.
func (f Files) Gathers() time.Duration {
	if every, err := time.ParseDuration(f.Every); err == nil {
		return every
	}
	return usualEvery
}

// AtMost is how many records go into a file.
func (f Files) AtMost() int {
	if f.Most == 0 {
		return usualMost
	}
	return f.Most
}

// Called is what a collection is called there.
func (f Feed) Called(collection string) string {
	if called := f.Collections[collection].Called; called != "" {
		return called
	}
	return collection
}

// Item is a record on its way, as it is there: what it says, or that it is gone.
type Item struct {
	Collection string // as it is called there
	Record     uuid.UUID
	Revision   int64
	Gone       bool
	Values     map[string]json.RawMessage // by the names there; those without a value are missing
	EditedAt   time.Time
	Author     string
	Change     *Change // the change after which it is so, where each change goes; nil where it is the record, or where all its changes go away
}

// Change is what an item says of one accepted change.
type Change struct {
	Kind       change.Kind
	Changed    []string // the fields that it changed, by the names there
	Device     string   // its name; empty for what was made at central
	ReceivedAt time.Time
}

// Column is a field as it is there.
type Column struct {
	Name  string
	Field definition.Field
}

// Shaped is a feed's part of one collection, ready for use.
type Shaped struct {
	Called  string
	Columns []Column // in the order of the definition
	c       *definition.Collection
	when    *expression.Program
	names   []string
	// counting are totals over other records, which move without their own.
	counting map[string]bool
}

// Shape makes a feed's part of a collection ready. It says what is not there.
func (f Feed) Shape(c *definition.Collection) (*Shaped, error) {
	d := c.Definition
	part := f.Collections[d.Collection]
	s := &Shaped{Called: f.Called(d.Collection), c: c, counting: c.Counting()}
	for _, field := range d.Fields {
		s.names = append(s.names, field.Name)
		name, asked := part.Fields[field.Name]
		if len(part.Fields) == 0 {
			name, asked = field.Name, !field.Local && !s.counting[field.Name]
		}
		if asked {
			s.Columns = append(s.Columns, Column{name, field})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(part.Fields)) {
		field, known := d.Field(name)
		if !known {
			return nil, fmt.Errorf("the feed %s: %s has no field %q%s", f.Name, d.Collection, name, definition.Nearest(name, s.names))
		}
		if field.Local {
			return nil, fmt.Errorf("the feed %s: the field %s of %s stays on devices, and central never has it", f.Name, name, d.Collection)
		}
		if s.counting[name] {
			return nil, fmt.Errorf("the feed %s: the field %s of %s counts other records, and moves without its own; let those go, and count there", f.Name, name, d.Collection)
		}
	}
	if part.When != "" {
		if err := d.CheckCondition(part.When); err != nil {
			return nil, fmt.Errorf("the feed %s, when of %s: %w", f.Name, d.Collection, err)
		}
		var err error
		if s.when, err = expression.Compile(part.When, "record"); err != nil {
			return nil, fmt.Errorf("the feed %s, when of %s: %w", f.Name, d.Collection, err)
		}
	}
	return s, nil
}

// Values are what of a record goes, by the names there; fits says whether it goes at all. What is worked out of the record alone goes as well;
// totals over other records do not, since they move without it.
func (s *Shaped) Values(fields record.Fields) (values map[string]json.RawMessage, fits bool, err error) {
	all := maps.Clone(fields)
	if all == nil {
		all = record.Fields{}
	}
	if s.c.Computes() {
		computed, _ := s.c.Compute(fields, nil) // what cannot be worked out has no value
		maps.DeleteFunc(computed, func(name string, _ json.RawMessage) bool { return s.counting[name] })
		maps.Copy(all, computed)
	}
	if s.when != nil {
		seen, err := expression.Values(all, s.names)
		if err != nil {
			return nil, false, err
		}
		if fits, err := s.when.Bool(map[string]any{"record": seen}); err != nil || !fits {
			return nil, false, nil
		}
	}
	values = map[string]json.RawMessage{}
	for _, column := range s.Columns {
		if value := all[column.Field.Name]; value != nil {
			values[column.Name] = value
		}
	}
	return values, true, nil
}

// Changed are the fields that a change touched, by the names there; a part of a nested field counts as the field.
func (s *Shaped) Changed(delta record.Delta) []string {
	changed := []string{}
	for _, column := range s.Columns {
		for name := range delta {
			if field, _, _ := strings.Cut(name, "/"); field == column.Field.Name {
				changed = append(changed, column.Name)
				break
			}
		}
	}
	return changed
}

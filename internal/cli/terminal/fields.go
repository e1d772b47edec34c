package terminal

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/urfave/cli/v3"

	"homing/core/definition"
	"homing/core/merge"
	"homing/core/period"
	"homing/core/record"
)

// FieldFlags set the fields of a record on the command line.
func FieldFlags(clearing bool) []cli.Flag {
	flags := []cli.Flag{
		&cli.StringSliceFlag{Name: "set", Usage: "`FIELD=VALUE`, as the field's type reads it; FIELD/PART=VALUE sets a part of a nested field, and a field that refers to a record takes its id, " +
			"key or label; may be given several times",
			Config: cli.StringConfig{TrimSpace: false}},
		&cli.StringFlag{Name: "fields", Usage: "`FILE` with a JSON object of fields, - for standard input"},
	}
	if clearing {
		flags = append(flags, &cli.StringSliceFlag{Name: "clear", Usage: "`FIELD` to leave without a value"})
	}
	return flags
}

// Surroundings are what a command line is read in.
type Surroundings struct {
	// Refer gives the id of the record of a collection that a text means: its id, its key or its label.
	Refer func(collection, text string) (uuid.UUID, error)
	// Now gives the fields of the record that is edited; nil for a new one.
	Now func() (record.Fields, error)
}

// FieldsFrom reads what the flags set, by the types of the definition. Cleared fields are null.
func FieldsFrom(c *cli.Command, d *definition.Collection, around Surroundings) (map[string]json.RawMessage, error) {
	fields := map[string]json.RawMessage{}
	if file := c.String("fields"); file != "" {
		text, err := ReadAll(file)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(text, &fields); err != nil || fields == nil {
			return nil, Coded(fmt.Errorf("%s does not hold a JSON object of fields: %v", file, err), ExitRefused)
		}
	}
	for _, text := range c.StringSlice("set") {
		name, value, found := strings.Cut(text, "=")
		name = strings.TrimSpace(name)
		if !found || name == "" {
			return nil, Usage(fmt.Errorf("--set %q: write FIELD=VALUE", text))
		}
		field, known := d.FieldAt(name)
		if !known {
			return nil, Coded(fmt.Errorf("%s has no field %q; it has %s", d.Definition.Collection, name,
				strings.Join(FieldNames(d.Definition), ", ")), ExitRefused)
		}
		if field.Reference != "" && around.Refer != nil {
			if _, err := uuid.Parse(value); err != nil && strings.TrimSpace(value) != "" {
				id, err := around.Refer(field.Reference, value)
				if err != nil {
					return nil, fmt.Errorf("--set %s: %w", name, err)
				}
				value = id.String()
			}
		}
		if kind := period.Kind(field.Period); kind.Valid() && strings.TrimSpace(value) != "" {
			p, err := period.Read(kind, value, time.Now())
			if err != nil {
				return nil, Coded(fmt.Errorf("--set %s: %q %w", name, value, err), ExitRefused)
			}
			value = p.String()
		}
		raw, err := typed(field, value)
		if err != nil {
			return nil, Coded(err, ExitRefused)
		}
		if whole, part, nested := strings.Cut(name, "/"); nested {
			if err := setPart(fields, whole, part, raw, around); err != nil {
				return nil, err
			}
			continue
		}
		fields[name] = raw
	}
	for _, name := range c.StringSlice("clear") {
		if _, known := d.FieldAt(name); !known {
			return nil, Coded(fmt.Errorf("%s has no field %q; it has %s", d.Definition.Collection, name,
				strings.Join(FieldNames(d.Definition), ", ")), ExitRefused)
		}
		if whole, part, nested := strings.Cut(name, "/"); nested {
			if err := setPart(fields, whole, part, nil, around); err != nil {
				return nil, err
			}
			continue
		}
		fields[name] = json.RawMessage("null")
	}
	if len(fields) == 0 {
		return nil, Usage(fmt.Errorf("which fields? Give --set FIELD=VALUE or --fields FILE (see %s --help)",
			c.FullName()))
	}
	return fields, nil
}

// setPart sets one part of a nested field, or clears it; the other parts are as they are now.
func setPart(fields map[string]json.RawMessage, whole, part string, value json.RawMessage, around Surroundings) error {
	if fields[whole] == nil && around.Now != nil {
		now, err := around.Now()
		if err != nil {
			return err
		}
		fields[whole] = now[whole]
	}
	parts := map[string]json.RawMessage{}
	if len(fields[whole]) > 0 && string(fields[whole]) != "null" {
		if err := json.Unmarshal(fields[whole], &parts); err != nil {
			return Coded(fmt.Errorf("%s holds no parts that could be set one by one", whole), ExitRefused)
		}
	}
	if parts[part] = value; value == nil {
		delete(parts, part)
	}
	text, err := json.Marshal(parts)
	if len(parts) == 0 {
		text = []byte("null")
	}
	fields[whole] = text
	return err
}

// ReadAll reads a file, or standard input for -.
func ReadAll(file string) ([]byte, error) {
	if file == "-" {
		return io.ReadAll(os.Stdin)
	}
	return os.ReadFile(file)
}

// FieldNames are the names of the fields of a definition.
func FieldNames(d definition.Definition) []string {
	names := make([]string, len(d.Fields))
	for n, field := range d.Fields {
		names[n] = field.Name
	}
	return names
}

// typed reads a value from the command line as the field's schema says: a text as it stands, anything else as JSON. A
// point may be written as latitude and longitude with a comma, as maps show it.
func typed(field definition.Field, value string) (json.RawMessage, error) {
	shape := field.Shape()
	var lat, lon json.Number
	if shape.Ref == definition.PointURL {
		if before, after, both := strings.Cut(value, ","); both {
			lat, lon = json.Number(strings.TrimSpace(before)), json.Number(strings.TrimSpace(after))
			if json.Valid([]byte(lat)) && json.Valid([]byte(lon)) {
				return json.Marshal(map[string]any{"type": "Point", "coordinates": []json.Number{lon, lat}})
			}
		}
	}
	texts := shape.Type == "string" || shape.Type == nil &&
		slices.ContainsFunc(shape.Enum, func(v json.RawMessage) bool { return v[0] == '"' })
	if kinds, several := shape.Type.([]any); several {
		texts = slices.Contains(kinds, any("string"))
	}
	if texts {
		return json.Marshal(value)
	}
	if !json.Valid([]byte(value)) {
		return nil, fmt.Errorf("the field %s cannot read %q: write it as JSON, such as 3.5, true or [1, 2]", field.Name,
			value)
	}
	return json.RawMessage(value), nil
}

// SettlingValue reads the value that a disputed field is to have.
func SettlingValue(d *definition.Collection, name, text string) (json.RawMessage, error) {
	if name == merge.RecordRemoval {
		switch text {
		case "true", "removed":
			return json.RawMessage("true"), nil
		case "false", "stays":
			return json.RawMessage("false"), nil
		}
		return nil, Usage(fmt.Errorf("%q: say removed or stays", text))
	}
	field, known := d.FieldAt(name)
	if !known {
		return nil, Coded(fmt.Errorf("%s has no field %q", d.Definition.Collection, name), ExitNotFound)
	}
	return typed(field, text)
}

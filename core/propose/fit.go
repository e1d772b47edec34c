package propose

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
)

// GeometryField is what the geometry of a GeoJSON feature is called as a column.
const GeometryField = "location"

// Fit says which column of a table goes into which field of a collection.
type Fit struct {
	Target  definition.Definition
	Figures Figures
	Fields  map[string]definition.Field // by heading
	// The headings of the two columns that hold a place, and the field that it goes into; empty where there are none.
	Latitude, Longitude, Place string
}

// Fit finds the field of each column, by its name or its title. An error says which column is no field, and what fields there are.
func (t *Table) Fit(d definition.Definition, figures Figures) (Fit, error) {
	f := Fit{Target: d, Figures: figures, Fields: map[string]definition.Field{}}
	latitude, longitude := t.PlaceColumns()
	for _, column := range t.Columns {
		if column.Header == latitude || column.Header == longitude {
			if _, own := d.Field(column.Field); !own {
				if field, known := placeField(d); known {
					f.Latitude, f.Longitude, f.Place = latitude, longitude, field.Name
					continue
				}
			}
		}
		field, known := FieldOf(d, column.Header, column.Field)
		if !known {
			var there []string
			for _, field := range d.Fields {
				there = append(there, field.Name)
			}
			return f, fmt.Errorf("the column %q is no field of %s; it has %s", column.Header, d.Collection, strings.Join(there, ", "))
		}
		f.Fields[column.Header] = field
	}
	return f, nil
}

// FieldOf finds the field of a column: by the name that the heading becomes, or by its title.
func FieldOf(d definition.Definition, header, name string) (definition.Field, bool) {
	if field, known := d.Field(name); known {
		return field, true
	}
	for _, other := range d.Fields {
		if strings.EqualFold(other.Title, header) {
			return other, true
		}
	}
	if header == GeometryField {
		return placeField(d)
	}
	return definition.Field{}, false
}

// Matters says whether it matters how the texts of a column are read, for a collection that there is already.
func Matters(d definition.Definition) func(header string) bool {
	return func(header string) bool {
		field, known := FieldOf(d, header, FieldName(header))
		shape := field.Shape()
		return !known || shape.IsNumber() || shape.Format == "date"
	}
}

// anyRecord stands in for the id of a record that central is to find by its key.
const anyRecord = `"00000000-0000-7000-8000-000000000000"`

// Wrong says what is wrong with the values of a row, and gives the record that they make.
func Wrong(c *definition.Collection, values map[string]json.RawMessage) (record.Fields, []change.Reason) {
	fields := record.Fields{}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		value, err := record.CanonicalField(name, values[name])
		if err != nil {
			return nil, []change.Reason{{Field: name, Code: change.CodeInvalidValue, Message: err.Error()}}
		}
		if field, _ := c.Field(name); value != nil && field.Reference != "" {
			value = json.RawMessage(anyRecord)
		}
		if value != nil {
			fields[name] = value
		}
	}
	return fields, c.Validate(fields)
}

// placeField is the first field that holds a place: where the geometry of a feature goes.
func placeField(d definition.Definition) (definition.Field, bool) {
	for _, field := range d.Fields {
		if strings.Contains(string(field.Schema), definition.PointURL) ||
			strings.Contains(string(field.Schema), definition.LineURL) {
			return field, true
		}
	}
	return definition.Field{}, false
}

// Has says whether a column goes into a field.
func (f Fit) Has(name string) bool {
	for _, field := range f.Fields {
		if field.Name == name {
			return true
		}
	}
	return false
}

// Values makes the fields of a row. A cell without value is null, which clears the field of a record that is there
// already. What is worked out, filled in by central, or stays on devices is not for a table to say.
func (f Fit) Values(cells map[string]Value) map[string]json.RawMessage {
	values := map[string]json.RawMessage{}
	for header, field := range f.Fields {
		if value := f.Figures.Convert(field, cells[header]); value != nil {
			values[field.Name] = value
		} else {
			values[field.Name] = json.RawMessage("null")
		}
	}
	if f.Place != "" {
		values[f.Place] = f.placeOf(cells)
	}
	for name := range values {
		field, _ := f.Target.Field(name)
		if field.Computed != "" || field.Filled != "" || field.Local {
			delete(values, name)
		}
	}
	return values
}

// placeOf makes a place of the two columns that hold it.
func (f Fit) placeOf(cells map[string]Value) json.RawMessage {
	latitude, longitude := strings.TrimSpace(cells[f.Latitude].Text), strings.TrimSpace(cells[f.Longitude].Text)
	if latitude == "" && longitude == "" {
		return json.RawMessage("null")
	}
	north, is := f.Figures.Number(latitude)
	east, too := f.Figures.Number(longitude)
	if is && too {
		return Place(north, east)
	}
	text, err := json.Marshal(latitude + ", " + longitude) // the check says what is wrong with it
	if err != nil {
		return json.RawMessage("null")
	}
	return text
}

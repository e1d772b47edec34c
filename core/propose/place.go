package propose

import (
	"encoding/json"
	"regexp"
)

// PlaceField is the field that two columns of latitude and longitude become.
const PlaceField = "location"

var (
	latitudes  = regexp.MustCompile(`^(lat|latitude|breite|breitengrad|.*_lat|.*_latitude)$`)
	longitudes = regexp.MustCompile(`^(lon|lng|long|longitude|laenge|laengengrad|.*_lon|.*_lng|.*_longitude)$`)
)

// findPlace finds two columns that are latitude and longitude, unless a column is called like what they would become.
func (t *Table) findPlace() {
	var found [2]*Column
	for _, c := range t.Columns {
		k := c.meant(t.figures)
		if c.Field == PlaceField {
			return
		}
		for n, names := range []*regexp.Regexp{latitudes, longitudes} {
			if found[n] == nil && (k == number || k == integer) && names.MatchString(c.Field) {
				found[n] = c
			}
		}
	}
	if found[0] != nil && found[1] != nil {
		t.place = found
	}
}

func (t *Table) isPlace(c *Column) bool { return c == t.place[0] || c == t.place[1] }

// PlaceColumns are the headings of latitude and longitude; empty where no two columns are a place.
func (t *Table) PlaceColumns() (latitude, longitude string) {
	if t.place[0] == nil {
		return "", ""
	}
	return t.place[0].Header, t.place[1].Header
}

// Place is a point (RFC 7946, section 3.1.2) of two numbers as JSON has them.
func Place(latitude, longitude string) json.RawMessage {
	return json.RawMessage(`{"type":"Point","coordinates":[` + longitude + `,` + latitude + `]}`)
}

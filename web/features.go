package web

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/google/uuid"

	"homing/central/fault"
	"homing/central/finding"
	"homing/core/definition"
	"homing/core/query"
	"homing/core/record"
	"homing/wire"
)

// featuresPath is where programs for maps find the collections that have places, as OGC API – Features, part 1 (OGC 17-069r4) has
// it: its classes core, OpenAPI 3.0 and GeoJSON.
const featuresPath = "/features"

// The media types of the standard.
const (
	typeGeoJSON = "application/geo+json"
	typeOpenAPI = "application/vnd.oai.openapi+json;version=3.0"
)

var featureClasses = []string{
	"http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/core",
	"http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/oas30",
	"http://www.opengis.net/spec/ogcapi-features-1/1.0/conf/geojson",
}

// The coordinates of GeoJSON, longitude first, and times as people count them.
const (
	crs84     = "http://www.opengis.net/def/crs/OGC/1.3/CRS84"
	gregorian = "http://www.opengis.net/def/uom/ISO-8601/0/Gregorian"
)

// How many features a page has.
const (
	usualFeatures = 100
	mostFeatures  = query.MaxLimit
)

// webLink is a link of the standard's (RFC 8288).
type webLink struct {
	Href  string `json:"href"`
	Rel   string `json:"rel"`
	Type  string `json:"type,omitempty"`
	Title string `json:"title,omitempty"`
}

// FeaturesIn is what every request for features brings. It is exported to the API description, which only looks into exported parts.
type FeaturesIn struct {
	base string // where the features lie, as whoever asks has written it
	at   string // the path and question that was asked
	ask  url.Values
}

// Resolve notes the address as it was asked for, and refuses parameters that mean nothing here, as the standard demands.
func (in *FeaturesIn) Resolve(ctx huma.Context) []error {
	scheme := "http"
	if callerOf(ctx.Context()).secure {
		scheme = "https"
	}
	address := ctx.URL()
	in.base = scheme + "://" + ctx.Host() + featuresPath
	in.at = scheme + "://" + ctx.Host() + address.RequestURI()
	in.ask = address.Query()
	return nil
}

// only refuses parameters outside of those that are known.
func (in *FeaturesIn) only(known ...string) error {
	for _, name := range slices.Sorted(maps.Keys(in.ask)) {
		if !slices.Contains(known, name) {
			return asked("the parameter %q is not known here; known are %s", name, strings.Join(known, ", "))
		}
		if len(in.ask[name]) > 1 {
			return asked("the parameter %q stands there more than once", name)
		}
	}
	if f := in.ask.Get("f"); f != "" && f != "json" && f != "geojson" {
		return asked("the form %q is not one that this has: take json", f)
	}
	return nil
}

// asked is a wrong question: the standard answers 400 to all of them.
func asked(format string, args ...any) error {
	return huma.Error400BadRequest(fmt.Sprintf(format, args...))
}

// featuresOut is an answer of the standard's.
type featuresOut struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

func featured(kind string, body any) (*featuresOut, error) {
	text, err := json.Marshal(body)
	return &featuresOut{kind, text}, err
}

type features struct {
	*Server
}

func (s *Server) registerFeatures() {
	f := features{s}
	op := func(path, id, summary, kind string) huma.Operation {
		op := s.operation(http.MethodGet, featuresPath+path, id, summary, readers)
		op.Security = append(op.Security, map[string][]string{"password": {}})
		op.Responses = map[string]*huma.Response{"200": {Description: summary,
			Content: map[string]*huma.MediaType{kind: {Schema: &huma.Schema{Type: huma.TypeObject}}}}}
		return op
	}
	type collectionIn struct {
		FeaturesIn
		Collection string `path:"collection"`
	}
	type itemIn struct {
		FeaturesIn
		Collection string    `path:"collection"`
		ID         uuid.UUID `path:"id" format:"uuid"`
	}
	add(s, op("", "features", "Where the features of programs for maps begin (OGC API – Features)", wire.JSON), f.landing)
	add(s, op("/conformance", "features-conformance", "The classes of the standard that this conforms to", wire.JSON),
		func(_ context.Context, in *FeaturesIn) (*featuresOut, error) {
			if err := in.only("f"); err != nil {
				return nil, err
			}
			return featured(wire.JSON, map[string]any{"conformsTo": featureClasses})
		})
	add(s, op("/api", "features-api", "The features' own description, in OpenAPI 3.0", typeOpenAPI), f.describe)
	add(s, op("/collections", "feature-collections", "The collections that have places", wire.JSON), f.collections)
	add(s, op("/collections/{collection}", "feature-collection", "One of them", wire.JSON),
		func(ctx context.Context, in *collectionIn) (*featuresOut, error) {
			return f.collection(ctx, &in.FeaturesIn, in.Collection)
		})
	add(s, op("/collections/{collection}/items", "features-items", "A page of its features", typeGeoJSON),
		func(ctx context.Context, in *collectionIn) (*featuresOut, error) {
			return f.items(ctx, &in.FeaturesIn, in.Collection)
		})
	add(s, op("/collections/{collection}/items/{id}", "feature", "One feature", typeGeoJSON),
		func(ctx context.Context, in *itemIn) (*featuresOut, error) {
			return f.item(ctx, &in.FeaturesIn, in.Collection, in.ID)
		})
}

func (f features) landing(_ context.Context, in *FeaturesIn) (*featuresOut, error) {
	if err := in.only("f"); err != nil {
		return nil, err
	}
	return featured(wire.JSON, map[string]any{"title": "Homing", "description": "The collections of this central that have places.",
		"links": []webLink{
			{in.base, "self", wire.JSON, "This page"},
			{in.base + "/api", "service-desc", typeOpenAPI, "What can be asked here"},
			{in.base + "/conformance", "conformance", wire.JSON, "The classes of the standard that this conforms to"},
			{in.base + "/collections", "data", wire.JSON, "The collections"},
		}})
}

// placed is a collection that has places.
type placed struct {
	definition.Definition
	place string // the field that holds them: the first that holds a point or a line
	when  string // the field that says when; empty where there is none
}

func placedOf(d definition.Definition) (p placed, has bool) {
	p.Definition = d
	for _, field := range d.Fields {
		shape := field.Shape()
		switch {
		case field.Local || field.Computed != "":
		case p.place == "" && (shape.Ref == definition.PointURL || shape.Ref == definition.LineURL):
			p.place = field.Name
		case p.when == "" && (shape.Format == "date" || shape.Format == "date-time"):
			p.when = field.Name
		}
	}
	return p, p.place != ""
}

// of is a collection by name; one without places is none.
func (f features) of(ctx context.Context, name string) (placed, error) {
	compiled, err := f.central.Collection(ctx, name)
	if err != nil {
		return placed{}, err
	}
	p, has := placedOf(compiled.Definition)
	if !has {
		return p, fault.Fail(fault.NotFound, "the collection %s has no places", name)
	}
	return p, nil
}

// feature collections as the standard describes them.
type featureCollection struct {
	ID          string        `json:"id"`
	Title       string        `json:"title"`
	Description string        `json:"description,omitempty"`
	Extent      *featureReach `json:"extent,omitempty"`
	ItemType    string        `json:"itemType"`
	CRS         []string      `json:"crs"`
	Links       []webLink     `json:"links"`
}

type featureReach struct {
	Spatial spatialReach `json:"spatial"`
}

type spatialReach struct {
	BBox [][4]float64 `json:"bbox"`
	CRS  string       `json:"crs"`
}

func (f features) about(ctx context.Context, in *FeaturesIn, p placed) (featureCollection, error) {
	at := in.base + "/collections/" + p.Collection
	one := featureCollection{ID: p.Collection, Title: p.Title, Description: p.Description, ItemType: "feature", CRS: []string{crs84},
		Links: []webLink{{at, "self", wire.JSON, p.Title}, {at + "/items", "items", typeGeoJSON, "The features of " + p.Title}}}
	area, err := f.central.Extent(ctx, who(ctx).Person, p.Collection, p.place)
	if area != nil {
		one.Extent = &featureReach{spatialReach{[][4]float64{{area.West, area.South, area.East, area.North}}, crs84}}
	}
	return one, err
}

func (f features) collections(ctx context.Context, in *FeaturesIn) (*featuresOut, error) {
	if err := in.only("f"); err != nil {
		return nil, err
	}
	overviews, err := f.central.Overviews(ctx, who(ctx).Person)
	if err != nil {
		return nil, err
	}
	all := []featureCollection{}
	for _, o := range overviews {
		p, has := placedOf(o.Definition)
		if !has {
			continue
		}
		one, err := f.about(ctx, in, p)
		if err != nil {
			return nil, err
		}
		all = append(all, one)
	}
	return featured(wire.JSON, map[string]any{"links": []webLink{{in.at, "self", wire.JSON, "The collections"}}, "collections": all})
}

func (f features) collection(ctx context.Context, in *FeaturesIn, name string) (*featuresOut, error) {
	if err := in.only("f"); err != nil {
		return nil, err
	}
	p, err := f.of(ctx, name)
	if err != nil {
		return nil, err
	}
	one, err := f.about(ctx, in, p)
	if err != nil {
		return nil, err
	}
	return featured(wire.JSON, one)
}

// feature is a record as GeoJSON (RFC 7946, section 3.2).
type feature struct {
	Type       string                     `json:"type"`
	ID         uuid.UUID                  `json:"id"`
	Geometry   json.RawMessage            `json:"geometry"`
	Properties map[string]json.RawMessage `json:"properties"`
	Links      []webLink                  `json:"links,omitempty"`
}

func (p placed) feature(r wire.Record) (feature, error) {
	fields, err := record.Parse(r.Fields)
	one := feature{Type: "Feature", ID: r.ID, Geometry: fields[p.place], Properties: map[string]json.RawMessage{}}
	if one.Geometry == nil {
		one.Geometry = json.RawMessage("null")
	}
	for _, field := range p.Fields { // a program that draws a table of them wants all columns in each
		switch value := fields[field.Name]; {
		case field.Name == p.place || field.Local:
		case value == nil:
			one.Properties[field.Name] = json.RawMessage("null")
		default:
			one.Properties[field.Name] = value
		}
	}
	return one, err
}

// filters are the fields by which features can be asked for.
func (p placed) filters() (names []string) {
	for _, field := range p.Fields {
		shape := field.Shape()
		taken := slices.Contains([]string{"limit", "bbox", "datetime", "after", "f"}, field.Name)
		if shape.Ref == "" && shape.Type != "object" && shape.Type != "array" && !field.Local && !taken {
			names = append(names, field.Name)
		}
	}
	return names
}

func (f features) items(ctx context.Context, in *FeaturesIn, name string) (*featuresOut, error) {
	p, err := f.of(ctx, name)
	if err != nil {
		return nil, err
	}
	what, err := p.looked(in)
	if err != nil {
		return nil, err
	}
	listing, err := f.central.Look(ctx, who(ctx).Person, name, what)
	if err != nil {
		return nil, wrongly(err)
	}
	links := []webLink{{in.at, "self", typeGeoJSON, "This page"},
		{in.base + "/collections/" + name, "collection", wire.JSON, p.Title}}
	all := make([]feature, len(listing.Records))
	for n, r := range listing.Records {
		if all[n], err = p.feature(r); err != nil {
			return nil, err
		}
	}
	if len(all) > 0 && (listing.More || listing.Total > int64(len(all))) {
		next := maps.Clone(in.ask)
		next.Set("after", all[len(all)-1].ID.String())
		links = append(links, webLink{in.base + "/collections/" + name + "/items?" + next.Encode(), "next", typeGeoJSON, "The next page"})
	}
	body := map[string]any{"type": "FeatureCollection", "features": all, "links": links, "numberReturned": len(all),
		"timeStamp": time.Now().UTC().Format(time.RFC3339)}
	if !listing.More && what.After == "" {
		body["numberMatched"] = listing.Total
	}
	return featured(typeGeoJSON, body)
}

// wrongly makes what is wrong with a question what the standard wants it to be.
func wrongly(err error) error {
	if known := fault.Explain(err); known != nil && known.Kind == fault.Invalid {
		return asked("%s", known.Message)
	}
	return err
}

func (f features) item(ctx context.Context, in *FeaturesIn, name string, id uuid.UUID) (*featuresOut, error) {
	if err := in.only("f"); err != nil {
		return nil, err
	}
	p, err := f.of(ctx, name)
	if err != nil {
		return nil, err
	}
	r, err := f.central.Record(ctx, who(ctx).Person, name, id)
	if err == nil && r.Removed {
		err = fault.Fail(fault.NotFound, "the record %s of %s was removed", id, name)
	}
	if err != nil {
		return nil, err
	}
	one, err := p.feature(r)
	one.Links = []webLink{{in.at, "self", typeGeoJSON, "This feature"}, {in.base + "/collections/" + name, "collection", wire.JSON, p.Title}}
	if err != nil {
		return nil, err
	}
	return featured(typeGeoJSON, one)
}

// looked reads the question of a page.
func (p placed) looked(in *FeaturesIn) (what finding.Looked, err error) {
	filters := p.filters()
	if err := in.only(append([]string{"limit", "bbox", "datetime", "after", "f"}, filters...)...); err != nil {
		return what, err
	}
	what.Limit, what.After = usualFeatures, in.ask.Get("after")
	if text, given := in.ask["limit"]; given {
		n, err := strconv.Atoi(text[0])
		if err != nil || n < 1 {
			return what, asked("limit %.40q: take a number of 1 or more", text[0])
		}
		what.Limit = min(n, mostFeatures)
	}
	if text, given := in.ask["bbox"]; given {
		if what.Within, err = p.area(text[0]); err != nil {
			return what, err
		}
	}
	if text, given := in.ask["datetime"]; given {
		if what.During, err = p.span(text[0]); err != nil {
			return what, err
		}
	}
	for _, name := range filters {
		if value, given := in.ask[name]; given {
			what.Where = append(what.Where, name+"="+value[0])
		}
	}
	return what, nil
}

// area reads a box: west, south, east, north, or with the lowest and highest height, which is not looked at.
func (p placed) area(text string) (*finding.Area, error) {
	sides := strings.Split(text, ",")
	if len(sides) == 6 {
		sides = []string{sides[0], sides[1], sides[3], sides[4]}
	}
	area, err := finding.ReadArea(p.place + ":" + strings.Join(sides, ","))
	if err != nil || area.South > area.North {
		return nil, asked("bbox %.80q: write WEST,SOUTH,EAST,NORTH in degrees, south first", text)
	}
	return area, nil
}

// span reads a time (RFC 3339), or two with a stroke between them, of which one may be open: "..", or nothing. Features of a collection
// that knows no time are of all times.
func (p placed) span(text string) (*finding.Span, error) {
	wrong := asked("datetime %.80q: write a time such as 2026-05-01T12:00:00Z, or two with a stroke between them; .. is an open end", text)
	moment := func(text string, last bool) (time.Time, error) {
		if at, err := time.Parse(time.DateOnly, text); err == nil {
			if last {
				at = at.AddDate(0, 0, 1).Add(-time.Microsecond)
			}
			return at, nil
		}
		return time.Parse(time.RFC3339, text)
	}
	from, to, two := strings.Cut(text, "/")
	span := finding.Span{Field: p.when}
	var err error
	if !two {
		to = from
	}
	open := func(text string) bool { return two && (text == "" || text == "..") }
	if !open(from) {
		if span.From, err = moment(from, false); err != nil {
			return nil, wrong
		}
	}
	if !open(to) {
		if span.To, err = moment(to, true); err != nil {
			return nil, wrong
		}
	}
	if open(from) && open(to) || !span.To.IsZero() && span.From.After(span.To) {
		return nil, wrong
	}
	if p.when == "" {
		return nil, nil
	}
	return &span, nil
}

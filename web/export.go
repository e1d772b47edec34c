package web

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"homing/central/finding"
	"homing/core/definition"
	"homing/core/query"
	"homing/core/record"
	"homing/core/rights"
	"homing/sheet"
	"homing/wire"
)

var exportTypes = map[string]string{"csv": "text/csv; charset=utf-8", "ndjson": "application/x-ndjson", "geojson": "application/geo+json",
	"xlsx": "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"}

func (s *Server) registerExport() {
	type exportIn struct {
		LookedFor
		Format string `query:"format" enum:"csv,xlsx,ndjson,geojson" default:"csv"`
	}
	need := readers
	need.long = true
	op := s.operation(http.MethodGet, "/v1/export/{collection}", "export", "All records that fit, as a file", need)
	content := map[string]*huma.MediaType{}
	for _, kind := range exportTypes {
		content[kind] = &huma.MediaType{Schema: &huma.Schema{Type: huma.TypeString}}
	}
	op.Responses = map[string]*huma.Response{"200": {Description: "The file. A connection that ends early means that it is not whole.", Content: content}}
	huma.Register(s.api, op, func(ctx context.Context, in *exportIn) (*huma.StreamResponse, error) {
		what, err := in.looked()
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		compiled, err := s.central.Collection(ctx, in.Collection)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		asker := who(ctx).Person
		first, err := s.exported(ctx, asker, in.Collection, what, nil) // what is wrong with the question is said before a file begins
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		return &huma.StreamResponse{Body: func(out huma.Context) {
			s.export(out, compiled.Definition, in.Format, first, func(last *finding.Listing) (finding.Listing, error) {
				return s.exported(ctx, asker, in.Collection, what, last)
			})
		}}, nil
	})
}

// exported is the page that follows another; the first one follows none.
func (s *Server) exported(ctx context.Context, asker rights.Person, collection string, what finding.Looked,
	last *finding.Listing) (finding.Listing, error) {
	what.Limit = query.MaxLimit
	if last != nil && what.Sort == "" {
		what.After = last.Records[len(last.Records)-1].ID.String()
	} else if last != nil {
		what.Offset = last.Offset + len(last.Records)
	}
	return s.central.Look(ctx, asker, collection, what)
}

func (s *Server) export(ctx huma.Context, d definition.Definition, format string, page finding.Listing,
	next func(*finding.Listing) (finding.Listing, error)) {
	_, w := humachi.Unwrap(ctx)
	name := fmt.Sprintf("%s-%s.%s", d.Collection, time.Now().UTC().Format(time.DateOnly), format)
	w.Header().Set("Content-Type", exportTypes[format])
	w.Header().Set("Content-Disposition", `attachment; filename="`+name+`"`)
	to := bufio.NewWriterSize(w, 64<<10)
	out, err := sheet.NewWriter(to, format, d)
	for err == nil {
		for _, r := range page.Records {
			if err = writeRecord(out, r); err != nil {
				break
			}
		}
		http.NewResponseController(w).SetWriteDeadline(time.Now().Add(time.Minute)) // as long as somebody reads
		if err != nil || len(page.Records) < query.MaxLimit {
			break
		}
		page, err = next(&page)
	}
	if err == nil {
		err = out.Close()
	}
	if err == nil {
		err = to.Flush()
	}
	if err != nil {
		s.log.Warn("an export broke off", "collection", d.Collection, "error", err)
		panic(http.ErrAbortHandler) // whoever reads must not take it for whole
	}
}

func writeRecord(to sheet.Writer, r wire.Record) error {
	fields, err := record.Parse(r.Fields)
	if err != nil {
		return err
	}
	return to.Write(r.ID.String(), fields)
}

package web

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"homing/central/fault"
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
		asker, err := s.central.SeenAs(ctx, who(ctx).Person, in.As)
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		first, err := s.exported(ctx, asker, in.Collection, what, nil) // what is wrong with the question is said before a file begins
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		e := export{definition: compiled.Definition, format: in.Format, first: first,
			next: func(last *finding.Listing) (finding.Listing, error) {
				return s.exported(ctx, asker, in.Collection, what, last)
			}}
		if _, err := sheet.NewWriter(io.Discard, in.Format, compiled.Definition); err != nil {
			return nil, s.problem(ctx, fault.Fail(fault.Invalid, "%v", err))
		}
		if in.Format != "xlsx" {
			return &huma.StreamResponse{Body: func(out huma.Context) { s.sendFile(out, e) }}, nil
		}
		// A workbook is written when all of it is known, and not every text goes into one: what is wrong is said in place of a file.
		book, err := os.CreateTemp("", "homing-export-")
		if err != nil {
			return nil, s.problem(ctx, err)
		}
		defer os.Remove(book.Name()) // it stays as long as it is open
		if err := e.write(book, func() {}); err != nil {
			return nil, s.problem(ctx, errors.Join(fault.Fail(fault.Invalid, "the workbook cannot be written: %v", err), book.Close()))
		}
		return &huma.StreamResponse{Body: func(out huma.Context) {
			defer book.Close()
			w, _ := s.fileStarts(out, e)
			_, err := book.Seek(0, io.SeekStart)
			if err == nil {
				_, err = io.Copy(w, book)
			}
			s.fileEnds(e, err)
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

// export is what goes into a file.
type export struct {
	definition definition.Definition
	format     string
	first      finding.Listing
	next       func(*finding.Listing) (finding.Listing, error)
}

// write writes the file, and says after each page that it is under way.
func (e export) write(to io.Writer, under func()) error {
	out, err := sheet.NewWriter(to, e.format, e.definition)
	page := e.first
	for err == nil {
		for _, r := range page.Records {
			if err = writeRecord(out, r); err != nil {
				return err
			}
		}
		under()
		if len(page.Records) < query.MaxLimit {
			break
		}
		page, err = e.next(&page)
	}
	if err != nil {
		return err
	}
	return out.Close()
}

// fileStarts says what file comes.
func (s *Server) fileStarts(ctx huma.Context, e export) (w http.ResponseWriter, alive func()) {
	_, w = humachi.Unwrap(ctx)
	name := fmt.Sprintf("%s-%s.%s", e.definition.Collection, time.Now().UTC().Format(time.DateOnly), e.format)
	w.Header().Set("Content-Type", exportTypes[e.format])
	w.Header().Set("Content-Disposition", `attachment; filename="`+name+`"`)
	alive = func() { http.NewResponseController(w).SetWriteDeadline(time.Now().Add(time.Minute)) } // as long as somebody reads
	alive()
	return w, alive
}

// fileEnds breaks the connection of a file that is not whole: whoever reads must not take it for one.
func (s *Server) fileEnds(e export, err error) {
	if err != nil {
		s.log.Warn("an export broke off", "collection", e.definition.Collection, "error", err)
		panic(http.ErrAbortHandler)
	}
}

func (s *Server) sendFile(ctx huma.Context, e export) {
	w, alive := s.fileStarts(ctx, e)
	to := bufio.NewWriterSize(w, 64<<10)
	err := e.write(to, alive)
	if err == nil {
		err = to.Flush()
	}
	s.fileEnds(e, err)
}

func writeRecord(to sheet.Writer, r wire.Record) error {
	fields, err := record.Parse(r.Fields)
	if err != nil {
		return err
	}
	return to.Write(r.ID.String(), fields)
}

package web

import (
	"compress/gzip"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"

	"github.com/go-chi/chi/v5/middleware"
	fastgzip "github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"homing/web/problem"
)

// compressAnswers compresses JSON and the files of both faces for who accepts it.
func compressAnswers() func(http.Handler) http.Handler {
	compressor := middleware.NewCompressor(5, "application/json", "application/problem+json", "text/html", "text/css",
		"text/javascript", "image/svg+xml", "application/wasm", "application/manifest+json")
	gzips, zstds := &sync.Pool{New: newGzip}, &sync.Pool{New: newZstd}
	compressor.SetEncoder("gzip", func(io.Writer, int) io.Writer { return &latePacker{pool: gzips} })
	compressor.SetEncoder("zstd", func(io.Writer, int) io.Writer { return &latePacker{pool: zstds} })
	return compressor.Handler
}

func newGzip() any {
	encoder, _ := fastgzip.NewWriterLevel(io.Discard, 5) // fails only for another level
	return encoder
}

func newZstd() any {
	encoder, _ := zstd.NewWriter(io.Discard, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
		zstd.WithWindowSize(1<<18), zstd.WithLowerEncoderMem(true)) // fails only for bad options
	return encoder
}

type packer interface {
	io.WriteCloser
	Reset(to io.Writer)
	Flush() error
}

// latePacker takes a compressor when there is something to write, and gives it back at the end. A compressor holds
// most of a mebibyte, and requests spend most of their time waiting for the database, or for news to tell.
type latePacker struct {
	pool *sync.Pool
	to   io.Writer
	held packer // nil while nothing is written
}

// Reset begins anew. A compressor that is held still, since whoever wrote came to no end, is not used again.
func (p *latePacker) Reset(to io.Writer) { p.to, p.held = to, nil }

// Write compresses.
func (p *latePacker) Write(text []byte) (int, error) {
	if p.held == nil {
		p.held = p.pool.Get().(packer)
		p.held.Reset(p.to)
	}
	return p.held.Write(text)
}

// Flush sends what was written.
func (p *latePacker) Flush() error {
	if p.held == nil {
		return nil
	}
	return p.held.Flush()
}

// Close ends what was written, and lets go of the compressor.
func (p *latePacker) Close() error {
	if p.held == nil {
		return nil
	}
	err := p.held.Close()
	p.held.Reset(io.Discard)
	p.pool.Put(p.held)
	p.held, p.to = nil, nil
	return err
}

var unzstds = sync.Pool{New: func() any {
	reader, _ := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true),
		zstd.WithDecoderMaxWindow(8<<20)) // fails only for bad options
	return reader
}}

// decompressBody reads gzip and zstd bodies. The bound on a body counts what comes out, so a small body cannot swell.
func (s *Server) decompressBody(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var body io.ReadCloser
		switch encoding := strings.ToLower(r.Header.Get("Content-Encoding")); encoding {
		case "", "identity":
			next.ServeHTTP(w, r)
			return
		case "gzip":
			reader, err := gzip.NewReader(r.Body)
			if err != nil {
				problem.Write(w, r, http.StatusBadRequest, "the body says that it is gzip, but is not")
				return
			}
			body = reader
		case "zstd":
			reader := unzstds.Get().(*zstd.Decoder)
			defer unzstds.Put(reader)
			if err := reader.Reset(r.Body); err != nil {
				problem.Write(w, r, http.StatusBadRequest, "the body says that it is zstd, but is not")
				return
			}
			defer reader.Reset(nil)
			body = io.NopCloser(reader)
		default:
			w.Header().Set("Accept-Encoding", "gzip, zstd")
			problem.Write(w, r, http.StatusUnsupportedMediaType, fmt.Sprintf("bodies compressed with %q are not read here; "+
				"take gzip or zstd", encoding))
			return
		}
		defer body.Close()
		r.Body = body
		r.ContentLength = -1
		r.Header.Del("Content-Encoding")
		next.ServeHTTP(w, r)
	})
}

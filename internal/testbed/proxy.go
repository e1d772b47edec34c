package testbed

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/klauspost/compress/zstd"
)

// Fault is what a proxy does with a request.
type Fault int

// The faults.
const (
	Pass        Fault = iota
	CutBefore         // the request never arrives
	CutAfter          // the request arrives and is worked on, but the answer is lost
	CutHalfway        // half of the answer arrives
	Twice             // the request arrives twice; the second answer is passed on
	Unavailable       // 503 in between, as of a gateway
	Hold              // the request is worked on, and the answer held back until the device goes away
)

// Proxy stands between devices and central.
type Proxy struct {
	*httptest.Server
	Hits atomic.Int64  // requests for which choose was asked
	Held chan struct{} // gets one for each answer that is held back
}

// NewProxy passes requests on to a central, and for each asks what is to go wrong with it.
func NewProxy(t testing.TB, target string, choose func(*http.Request) Fault) *Proxy {
	p := &Proxy{Held: make(chan struct{}, 100)}
	p.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.Hits.Add(1)
		fault := choose(r)
		body, err := io.ReadAll(r.Body)
		if err != nil || fault == CutBefore {
			panic(http.ErrAbortHandler)
		}
		if fault == Unavailable {
			http.Error(w, "bad gateway", http.StatusServiceUnavailable)
			return
		}
		status, header, answer, err := pass(r, target, body)
		if fault == Twice && err == nil {
			status, header, answer, err = pass(r, target, body)
		}
		if fault == Hold {
			p.Held <- struct{}{}
			<-r.Context().Done()
		}
		if err != nil || fault == CutAfter || fault == Hold {
			panic(http.ErrAbortHandler)
		}
		for name, values := range header {
			w.Header()[name] = values
		}
		w.WriteHeader(status)
		if fault == CutHalfway {
			w.Write(answer[:len(answer)/2])
			http.NewResponseController(w).Flush()
			panic(http.ErrAbortHandler)
		}
		w.Write(answer)
	}))
	t.Cleanup(p.Close)
	return p
}

// CarriesBatch says whether a request brings central changes: as a batch, or on a trip.
func CarriesBatch(r *http.Request) bool {
	if r.URL.Path != "/v1/trips" {
		return r.URL.Path == "/v1/batches"
	}
	body, err := io.ReadAll(r.Body)
	r.Body = io.NopCloser(bytes.NewReader(body))
	if r.Header.Get("Content-Encoding") == "zstd" {
		if reader, fails := zstd.NewReader(nil); fails == nil {
			body, _ = reader.DecodeAll(body, nil) // what cannot be read brings nothing
			reader.Close()
		}
	}
	return err == nil && bytes.Contains(body, []byte(`"batch":`))
}

// InTurn lets one after the other of some faults befall requests that bring changes; all later ones pass.
func InTurn(faults ...Fault) func(*http.Request) Fault {
	var next atomic.Int64
	return func(r *http.Request) Fault {
		if !CarriesBatch(r) {
			return Pass
		}
		if at := int(next.Add(1)) - 1; at < len(faults) {
			return faults[at]
		}
		return Pass
	}
}

func pass(r *http.Request, target string, body []byte) (int, http.Header, []byte, error) {
	request, err := http.NewRequestWithContext(context.WithoutCancel(r.Context()), r.Method, target+r.URL.RequestURI(),
		bytes.NewReader(body))
	if err != nil {
		return 0, nil, nil, err
	}
	request.Header = r.Header.Clone()
	// The transport must leave the answer compressed as it is.
	response, err := (&http.Transport{DisableCompression: true, DisableKeepAlives: true}).RoundTrip(request)
	if err != nil {
		return 0, nil, nil, err
	}
	defer response.Body.Close()
	answer, err := io.ReadAll(response.Body)
	return response.StatusCode, response.Header, answer, err
}

// Package link makes calls to central over HTTP: with a token, compressed, bounded in time, and with errors that say
// whether central was reached, what it refused and when to come again.
package link

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"homing/wire"
)

// ErrUnreachable says that central did not answer, or that the connection broke off before the answer was whole.
// Whether central has done what was asked is not known.
var ErrUnreachable = errors.New("central cannot be reached")

// ErrSlow says that central was not done in time. It is an [ErrUnreachable], too.
var ErrSlow = fmt.Errorf("%w: it was not done in time", ErrUnreachable)

// Problem is central's refusal of a call.
type Problem struct {
	wire.ProblemDetails
	RetryAfter time.Duration // 0 when central does not say
}

func (p *Problem) Error() string { return p.Detail }

// Link is how to reach central. It is safe for use by several goroutines.
type Link struct {
	base  string
	token string
	http  *http.Client
	agent string
}

// Patience bounds one call, so that a link that has gone dead does not hold an exchange for ever.
const Patience = 2 * time.Minute

const (
	compressFrom = 1 << 10   // bytes; smaller bodies do not gain
	maxAnswer    = 256 << 20 // bytes after decompression
	tries        = 4         // for calls that central asks to repeat
	maxWait      = 15 * time.Second
)

// ErrInTheClear says that what is sent could be read on the way.
var ErrInTheClear = errors.New("over plain HTTP to another machine, passwords, tokens and records can be read on the way")

// How says how a link may be made.
type How struct {
	InTheClear bool // over plain HTTP to another machine, too
}

// New makes a link to the central at a URL such as http://127.0.0.1:8400. Token may be empty. Over plain HTTP to
// another machine it is made only if that is allowed; otherwise the error is an [ErrInTheClear].
func New(base, token, agent string, how How) (*Link, error) {
	u, err := url.Parse(strings.TrimSuffix(strings.TrimSpace(base), "/"))
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the address of a central; write it like http://127.0.0.1:8400", base)
	}
	if u.Scheme == "http" && !thisMachine(u.Hostname()) && !how.InTheClear {
		return nil, fmt.Errorf("%w: take https://%s, or allow it with --in-the-clear (HOMING_IN_THE_CLEAR=true) where nobody else "+
			"is on the way", ErrInTheClear, u.Host)
	}
	return &Link{base: u.String(), token: token, agent: agent,
		http: &http.Client{Timeout: Patience, CheckRedirect: sameOrigin}}, nil
}

func thisMachine(host string) bool {
	address, err := netip.ParseAddr(host)
	return strings.EqualFold(host, "localhost") || err == nil && address.IsLoopback()
}

// sameOrigin follows no redirect to another origin: what is sent is for central alone.
func sameOrigin(next *http.Request, before []*http.Request) error {
	if first := before[0].URL; next.URL.Scheme != first.Scheme || next.URL.Host != first.Host {
		return fmt.Errorf("it sends elsewhere, to %s://%s; give that address if it is the one of central", next.URL.Scheme, next.URL.Host)
	}
	if len(before) > 5 {
		return errors.New("it sends on and on")
	}
	return nil
}

// Over makes calls go over a transport other than the network, if it is not nil.
func (l *Link) Over(transport http.RoundTripper) {
	if transport != nil {
		l.http.Transport = transport
	}
}

// Wait bounds each call, if the bound is not 0.
func (l *Link) Wait(patience time.Duration) {
	if patience > 0 {
		l.http.Timeout = patience
	}
}

func slow(err error) bool {
	var net interface{ Timeout() bool }
	return errors.As(err, &net) && net.Timeout()
}

// Base is the address of central.
func (l *Link) Base() string { return l.base }

// Traffic is what a call cost, in bytes on the wire without headers.
type Traffic struct{ Sent, Received int }

// Text takes the body of an answer as it is.
type Text []byte

// Call sends in, if it is not nil, as JSON and reads the answer into out, if that is not nil: JSON, or
// anything into a [*Text]. When central says that it is
// busy, the call waits as told and tries again a few times. Errors wrap [ErrUnreachable] or are a [*Problem].
func (l *Link) Call(ctx context.Context, method, path string, headers map[string]string, in, out any) (Traffic, error) {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return Traffic{}, err
		}
	}
	var all Traffic
	for try := 1; ; try++ {
		traffic, err := l.once(ctx, method, path, headers, body, out)
		all.Sent, all.Received = all.Sent+traffic.Sent, all.Received+traffic.Received
		var problem *Problem
		if !errors.As(err, &problem) || problem.RetryAfter == 0 || problem.RetryAfter > maxWait || try == tries {
			return all, err
		}
		select {
		case <-time.After(problem.RetryAfter):
		case <-ctx.Done():
			return all, err
		}
	}
}

func (l *Link) once(ctx context.Context, method, path string, headers map[string]string, body []byte,
	out any) (Traffic, error) {
	var traffic Traffic
	packed, encoding := pack(body)
	request, err := http.NewRequestWithContext(ctx, method, l.base+path, bytes.NewReader(packed))
	if err != nil {
		return traffic, err
	}
	if body != nil {
		request.Header.Set("Content-Type", wire.JSON)
	}
	if encoding != "" {
		request.Header.Set("Content-Encoding", encoding)
	}
	request.Header.Set("Accept-Encoding", "zstd, gzip")
	request.Header.Set("User-Agent", l.agent)
	request.Header.Set(wire.HeaderVersion, wire.Version)
	if l.token != "" {
		request.Header.Set("Authorization", "Bearer "+l.token)
	}
	for name, value := range headers {
		request.Header.Set(name, value)
	}
	response, err := l.http.Do(request)
	if slow(err) && ctx.Err() == nil {
		return traffic, fmt.Errorf("%w at %s", ErrSlow, l.base)
	}
	if err != nil {
		return traffic, fmt.Errorf("%w at %s: %v", ErrUnreachable, l.base, plain(err))
	}
	defer response.Body.Close()
	traffic.Sent = len(packed)
	counted := &counter{from: response.Body}
	text, err := unpack(counted, response.Header.Get("Content-Encoding"))
	traffic.Received = counted.n
	if slow(err) && ctx.Err() == nil {
		return traffic, fmt.Errorf("%w at %s", ErrSlow, l.base)
	}
	if err != nil {
		return traffic, fmt.Errorf("%w: the answer broke off: %v", ErrUnreachable, plain(err))
	}
	if response.StatusCode >= 300 {
		return traffic, problemOf(response, text)
	}
	if whole, as := out.(*Text); as {
		*whole = text
	} else if out != nil {
		if err := json.Unmarshal(text, out); err != nil {
			return traffic, fmt.Errorf("%s did not answer like a central: %v", l.base, err)
		}
	}
	return traffic, nil
}

// plain leaves out what the caller knows: method and address.
func plain(err error) error {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		return wrapped.Err
	}
	return err
}

func problemOf(response *http.Response, text []byte) error {
	p := &Problem{}
	if err := json.Unmarshal(text, &p.ProblemDetails); err != nil || p.Detail == "" {
		p.ProblemDetails = wire.ProblemDetails{Status: response.StatusCode, Title: response.Status,
			Detail: fmt.Sprintf("the answer was %s, and not from a central; check the address", response.Status)}
	}
	if seconds, err := strconv.Atoi(response.Header.Get("Retry-After")); err == nil && seconds > 0 {
		p.RetryAfter = time.Duration(seconds) * time.Second
	}
	return p
}

var packer, _ = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithEncoderConcurrency(1)) // fails only for bad options

func pack(body []byte) (packed []byte, encoding string) {
	if len(body) < compressFrom {
		return body, ""
	}
	return packer.EncodeAll(body, nil), "zstd"
}

func unpack(from io.Reader, encoding string) ([]byte, error) {
	switch encoding {
	case "zstd":
		reader, err := zstd.NewReader(from, zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, err
		}
		defer reader.Close()
		from = reader
	case "gzip":
		reader, err := gzip.NewReader(from)
		if err != nil {
			return nil, err
		}
		from = reader
	}
	text, err := io.ReadAll(io.LimitReader(from, maxAnswer+1))
	if err == nil && len(text) > maxAnswer {
		err = fmt.Errorf("the answer is larger than %d bytes", maxAnswer)
	}
	return text, err
}

type counter struct {
	from io.Reader
	n    int
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.from.Read(p)
	c.n += n
	return n, err
}

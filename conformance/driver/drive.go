package driver

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os/exec"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"homing/core/definition"
	"homing/device"
)

// Command is how a program is started.
type Command struct {
	Args     []string      // its path or name, and its arguments
	Patience time.Duration // how long it may take over one ask; 0 means a minute
}

func (c Command) patience() time.Duration {
	if c.Patience == 0 {
		return time.Minute
	}
	return c.Patience
}

// ErrDied says that a program ended, hangs, or writes what is no answer.
var ErrDied = errors.New("the program does not answer as it should")

// Program is a program that is driven. It is used by one goroutine at a time.
type Program struct {
	name     string
	patience time.Duration
	command  *exec.Cmd
	in       io.WriteCloser
	lines    chan []byte
	errors   *tail
	asks     int
	clock    func() Clock
	heard    func(device.Changed)
	ended    chan struct{}
	over     error // once it is over
}

// Start starts a program.
func Start(ctx context.Context, command Command) (*Program, error) {
	if len(command.Args) == 0 {
		return nil, errors.New("which program is to be driven?")
	}
	p := &Program{name: command.Args[0], patience: command.patience(), errors: &tail{}, lines: make(chan []byte), ended: make(chan struct{}),
		clock: func() Clock { return Clock{} }, heard: func(device.Changed) {}}
	p.command = exec.CommandContext(ctx, command.Args[0], command.Args[1:]...)
	p.command.Stderr = p.errors
	p.command.WaitDelay = time.Second
	var err error
	if p.in, err = p.command.StdinPipe(); err != nil {
		return nil, err
	}
	out, err := p.command.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := p.command.Start(); err != nil {
		return nil, fmt.Errorf("%s: %w", p.name, err)
	}
	go func() {
		defer close(p.lines)
		lines := bufio.NewScanner(out)
		lines.Buffer(make([]byte, 64<<10), longest)
		for lines.Scan() {
			select {
			case p.lines <- bytes.Clone(lines.Bytes()):
			case <-p.ended:
				return
			}
		}
	}()
	return p, nil
}

// Kill ends the program as a power cut would.
func (p *Program) Kill() error {
	if p.over != nil {
		return nil
	}
	p.over = ErrDied
	close(p.ended)
	p.command.Process.Kill() // it may be over already
	p.command.Wait()         // says that it was killed
	return nil
}

// died ends the program and says why.
func (p *Program) died(why string) error {
	p.Kill()
	if text := strings.TrimSpace(p.errors.String()); text != "" {
		why += "; it wrote: " + text
	}
	p.over = fmt.Errorf("%w: %s: %s", ErrDied, p.name, why)
	return p.over
}

// do asks for one thing. Done takes what comes of it, unless it is nil.
func (p *Program) do(ctx context.Context, what string, with With, done any) error {
	if p.over != nil {
		return p.over
	}
	p.asks++
	ask := Ask{Ask: p.asks, Do: what, Clock: p.clock(), With: with}
	line, err := json.Marshal(ask)
	if err != nil {
		return err
	}
	if _, err := p.in.Write(append(line, '\n')); err != nil {
		return p.died("it ended before " + what)
	}
	late := time.NewTimer(p.patience)
	defer late.Stop()
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-late.C:
			return p.died(fmt.Sprintf("nothing came of %s in %s", what, p.patience))
		case line, more := <-p.lines:
			var said Said
			switch {
			case !more:
				return p.died("it ended in the middle of " + what)
			case json.Unmarshal(line, &said) != nil:
				return p.died(fmt.Sprintf("a line that is no JSON object of the protocol, in %s: %.200s", what, line))
			case said.Changed != nil:
				p.heard(*said.Changed)
				continue
			case said.Ask != ask.Ask || said.Done == nil && said.Failed == nil:
				return p.died(fmt.Sprintf("ask %d is to be answered by done or failed, and what came is %.200s", ask.Ask, line))
			case said.Failed != nil:
				return said.Failed.err(with.Collection)
			case done == nil:
				return nil
			}
			if err := json.Unmarshal(said.Done, done); err != nil {
				return p.died(fmt.Sprintf("what came of %s cannot be read: %v: %.200s", what, err, said.Done))
			}
			return nil
		}
	}
}

// WorkOut asks what comes out of a case of vectors.
func (p *Program) WorkOut(ctx context.Context, of string, given json.RawMessage) (out json.RawMessage, err error) {
	return out, p.do(ctx, DoWorkOut, With{Of: of, Case: given}, &out)
}

// tail keeps the end of what a program writes beside the protocol.
type tail struct {
	mu   sync.Mutex
	text []byte
}

func (t *tail) Write(text []byte) (int, error) {
	const kept = 2000
	t.mu.Lock()
	defer t.mu.Unlock()
	t.text = append(t.text, text...)
	t.text = t.text[max(len(t.text)-kept, 0):]
	return len(text), nil
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return string(t.text)
}

// Store is a local store that a program of its own works on. Its methods are those of [device.Store]; it is used by one
// goroutine at a time.
type Store struct {
	p       *Program
	path    string
	network *network
	changes chan device.Changed
	known   map[string]*definition.Collection // by the text of the definition
}

// Open starts a program and lets it open a store. Of the options it gets the clocks, ids, and the transport: its
// requests come here, and go on over that.
func Open(ctx context.Context, command Command, path string, o device.Options) (*Store, error) {
	s := &Store{path: path, changes: make(chan device.Changed, 1000), known: map[string]*definition.Collection{}}
	var err error
	if s.p, s.network, err = begin(ctx, command, o); err != nil {
		return nil, err
	}
	s.p.heard = func(told device.Changed) {
		select {
		case s.changes <- told:
		default:
			<-s.changes
			s.changes <- device.Changed{Missed: true}
		}
	}
	if err := s.p.do(ctx, DoOpen, With{Path: path, Network: s.network.address(), IDs: idsFrom(o)}, nil); err != nil {
		return nil, errors.Join(err, s.Kill())
	}
	return s, nil
}

// Restore lets a program make a store of a backup.
func Restore(ctx context.Context, command Command, backup, path string, o device.Options) error {
	p, network, err := begin(ctx, command, o)
	if err != nil {
		return err
	}
	defer network.close()
	defer p.Kill()
	return p.do(ctx, DoRestore, With{Backup: backup, Path: path, Network: network.address(), IDs: idsFrom(o)}, nil)
}

func begin(ctx context.Context, command Command, o device.Options) (*Program, *network, error) {
	n, err := listen(o)
	if err != nil {
		return nil, nil, err
	}
	p, err := Start(context.WithoutCancel(ctx), command)
	if err != nil {
		n.close()
		return nil, nil, err
	}
	p.clock = n.clock
	return p, n, nil
}

// idsFrom are digits that ids of the program end in, so that they follow from where the ids here come from.
func idsFrom(o device.Options) string {
	id := o.NewID()
	return strings.ReplaceAll(id.String(), "-", "")[20:]
}

// Kill ends the program as a power cut would.
func (s *Store) Kill() error {
	s.network.close()
	return s.p.Kill()
}

// Close lets the program close the store, and ends it.
func (s *Store) Close() error {
	err := s.p.do(context.Background(), DoClose, With{}, nil)
	return errors.Join(err, s.Kill())
}

// Listen gives the changes of records that the program tells of. There is one listener.
func (s *Store) Listen() (<-chan device.Changed, func()) { return s.changes, func() {} }

func (s *Store) Enrol(ctx context.Context, central, code, name string) error {
	return s.p.do(ctx, DoEnrol, With{Central: central, Code: code, Name: name}, nil)
}

func (s *Store) Exchange(ctx context.Context, _ func(device.Progress)) (sum device.Summary, err error) {
	return sum, s.p.do(ctx, DoExchange, With{}, &sum)
}

func (s *Store) Push(ctx context.Context, _ func(device.Progress)) (sum device.Summary, err error) {
	return sum, s.p.do(ctx, DoPush, With{}, &sum)
}

func (s *Store) Pull(ctx context.Context, _ func(device.Progress)) (sum device.Summary, err error) {
	return sum, s.p.do(ctx, DoPull, With{}, &sum)
}

func (s *Store) Add(ctx context.Context, collection string, fields device.Fields) (r device.Record, err error) {
	return r, s.p.do(ctx, DoAdd, With{Collection: collection, Fields: fields}, &r)
}

// Edit edits, as somebody who had saw before them, or what the device has now where it is nil.
func (s *Store) Edit(ctx context.Context, collection string, id uuid.UUID, fields device.Fields,
	saw *device.Record) (r device.Record, err error) {
	return r, s.p.do(ctx, DoEdit, With{Collection: collection, ID: id, Fields: fields, Saw: saw}, &r)
}

// Remove removes, as somebody who had saw before them, or what the device has now where it is nil.
func (s *Store) Remove(ctx context.Context, collection string, id uuid.UUID, saw *device.Record) error {
	return s.p.do(ctx, DoRemove, With{Collection: collection, ID: id, Saw: saw}, nil)
}

func (s *Store) Together(ctx context.Context, steps []Step) (made []device.Record, err error) {
	return made, s.p.do(ctx, DoTogether, With{Steps: steps}, &made)
}

func (s *Store) Complete(ctx context.Context, collection string, id uuid.UUID) (r device.Record, err error) {
	return r, s.p.do(ctx, DoComplete, With{Collection: collection, ID: id}, &r)
}

func (s *Store) Reopen(ctx context.Context, collection string, id uuid.UUID) (r device.Record, err error) {
	return r, s.p.do(ctx, DoReopen, With{Collection: collection, ID: id}, &r)
}

func (s *Store) Settle(ctx context.Context, collection string, id uuid.UUID, field string,
	value any) (r device.Record, err error) {
	raw, err := json.Marshal(value)
	if err != nil {
		return r, err
	}
	return r, s.p.do(ctx, DoSettle, With{Collection: collection, ID: id, Field: field, Value: raw}, &r)
}

func (s *Store) Review(ctx context.Context) (queue []device.Queued, err error) {
	return queue, s.p.do(ctx, DoReview, With{}, &queue)
}

func (s *Store) SendAgain(ctx context.Context, number int64) (r device.Record, err error) {
	return r, s.p.do(ctx, DoSendAgain, With{Number: number}, &r)
}

func (s *Store) Discard(ctx context.Context, number int64, backup string) error {
	return s.p.do(ctx, DoDiscard, With{Number: number, Path: backup}, nil)
}

func (s *Store) Get(ctx context.Context, collection string, id uuid.UUID) (r device.Record, err error) {
	return r, s.p.do(ctx, DoGet, With{Collection: collection, ID: id}, &r)
}

func (s *Store) Find(ctx context.Context, collection string, ask Find) (found device.Found, err error) {
	return found, s.p.do(ctx, DoFind, With{Collection: collection, Find: &ask}, &found)
}

// LookUp asks central for records of a collection that is kept on demand or never.
func (s *Store) LookUp(ctx context.Context, collection string, ask Find) (found device.Found, err error) {
	return found, s.p.do(ctx, DoLookUp, With{Collection: collection, Find: &ask}, &found)
}

// Verify compares what is loaded with central, and fetches anew what differs if asked.
func (s *Store) Verify(ctx context.Context, mend bool) (all []device.Verified, err error) {
	return all, s.p.do(ctx, DoVerify, With{Mend: mend}, &all)
}

func (s *Store) Collections(ctx context.Context) (all []device.CollectionStatus, err error) {
	return all, s.p.do(ctx, DoCollections, With{}, &all)
}

func (s *Store) Collection(ctx context.Context, name string) (*definition.Collection, error) {
	var text json.RawMessage
	if err := s.p.do(ctx, DoDefinition, With{Collection: name}, &text); err != nil {
		return nil, err
	}
	if c := s.known[string(text)]; c != nil {
		return c, nil
	}
	var def definition.Definition
	if err := json.Unmarshal(text, &def); err != nil {
		return nil, s.p.died("a definition that cannot be read: " + err.Error())
	}
	c, err := def.Compile()
	if err == nil {
		s.known[string(text)] = c
	}
	return c, err
}

func (s *Store) Fingerprint(ctx context.Context, collection string) (held Held, err error) {
	return held, s.p.do(ctx, DoFingerprint, With{Collection: collection}, &held)
}

func (s *Store) People(ctx context.Context) (all []device.Worker, err error) {
	return all, s.p.do(ctx, DoPeople, With{}, &all)
}

func (s *Store) SetSecret(ctx context.Context, old, secret string) error {
	return s.p.do(ctx, DoSetSecret, With{Old: old, Secret: secret}, nil)
}

func (s *Store) SignIn(ctx context.Context, name, secret string) error {
	return s.p.do(ctx, DoSignIn, With{Name: name, Secret: secret}, nil)
}

func (s *Store) SignOut(ctx context.Context) (unsent int, err error) {
	return unsent, s.p.do(ctx, DoSignOut, With{}, &unsent)
}

func (s *Store) Join(ctx context.Context, code, secret string) (name string, err error) {
	return name, s.p.do(ctx, DoJoin, With{Code: code, Secret: secret}, &name)
}

func (s *Store) LostRecords(ctx context.Context) (lost []device.LostRecord, err error) {
	return lost, s.p.do(ctx, DoLost, With{}, &lost)
}

func (s *Store) OfferLost(ctx context.Context, collection string, id uuid.UUID) error {
	return s.p.do(ctx, DoOfferLost, With{Collection: collection, ID: id}, nil)
}

func (s *Store) DropLost(ctx context.Context, collection string, id uuid.UUID, backup string) error {
	return s.p.do(ctx, DoDropLost, With{Collection: collection, ID: id, Path: backup}, nil)
}

func (s *Store) Backup(ctx context.Context, path string) error {
	return s.p.do(ctx, DoBackUp, With{Path: path}, nil)
}

func (s *Store) Backups(ctx context.Context) (paths []string, err error) {
	return paths, s.p.do(ctx, DoBackups, With{}, &paths)
}

// network takes the requests of a program and passes them on over a transport.
type network struct {
	listener net.Listener
	server   *http.Server
	options  device.Options
}

func listen(o device.Options) (*network, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	n := &network{listener: listener, options: o}
	n.server = &http.Server{Handler: n, ReadHeaderTimeout: time.Minute}
	go n.server.Serve(listener) // until close
	return n, nil
}

func (n *network) address() string { return "http://" + n.listener.Addr().String() }

func (n *network) close() { n.server.Close() }

func (n *network) clock() Clock {
	boot, since := n.options.Tick()
	return Clock{Now: n.options.Now(), Boot: boot, Since: since}
}

// ServeHTTP passes a request on. What the transport says is lost is never answered.
func (n *network) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		panic(http.ErrAbortHandler) // the program was killed
	}
	out := r.Clone(r.Context())
	out.Body, out.RequestURI = io.NopCloser(bytes.NewReader(body)), ""
	out.URL.Scheme, out.URL.Host = "https", "central.invalid"
	if r.ContentLength == 0 {
		out.Body = nil
	}
	response, err := n.options.Transport.RoundTrip(out)
	if err != nil {
		panic(http.ErrAbortHandler) // closes the connection without an answer
	}
	defer response.Body.Close()
	for name, values := range response.Header {
		w.Header()[name] = values
	}
	if clock, err := json.Marshal(n.clock()); err == nil {
		w.Header().Set(ClockHeader, string(clock))
	}
	w.WriteHeader(response.StatusCode)
	io.Copy(w, response.Body) // who does not read on was killed
}

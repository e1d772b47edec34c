package driver

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"homing/core/query"
	"homing/device"
)

// longest is how long a line may be, in bytes.
const longest = 64 << 20

// driven is a program around package device.
type driven struct {
	out   *json.Encoder
	store *device.Store
	hears <-chan device.Changed
	stop  func()
	over  http.RoundTripper
	work  WorkOut

	mu    sync.Mutex
	clock Clock // guarded by mu
	ids   string
	made  int // ids
}

// WorkOut gives what comes out of a case of vectors, by the name of their file.
type WorkOut func(of string, given json.RawMessage) (any, error)

// Serve does what comes on in, until it ends, and says on out what came of it. Requests to central go over the
// transport, or the machine's network where it is nil.
func Serve(ctx context.Context, in io.Reader, out io.Writer, over http.RoundTripper, work WorkOut) error {
	if over == nil {
		over = http.DefaultTransport
	}
	d := &driven{out: json.NewEncoder(out), over: over, work: work}
	defer func() { d.shut() }() // the end of the input is the end of the device, as a kill is
	lines := bufio.NewScanner(in)
	lines.Buffer(make([]byte, 64<<10), longest)
	for lines.Scan() {
		var ask Ask
		decoder := json.NewDecoder(bytes.NewReader(lines.Bytes()))
		decoder.UseNumber()
		said := Said{}
		if err := decoder.Decode(&ask); err != nil {
			said.Failed = &Failure{Name: NameOther, Message: "this line is no ask: " + err.Error()}
		} else {
			d.set(ask.Clock)
			done, err := d.do(ctx, ask.Do, ask.With)
			if err == nil {
				said.Done, err = json.Marshal(done)
			}
			if err != nil {
				said.Done, said.Failed = nil, fail(err)
			}
		}
		said.Ask = ask.Ask
		if err := errors.Join(d.tell(), d.out.Encode(said)); err != nil {
			return err
		}
	}
	return lines.Err()
}

// tell passes on what the device tells its apps of.
func (d *driven) tell() error {
	for {
		select {
		case told, more := <-d.hears:
			if !more {
				return nil
			}
			if err := d.out.Encode(Said{Changed: &told}); err != nil {
				return err
			}
		default:
			return nil
		}
	}
}

func (d *driven) shut() error {
	if d.store == nil {
		return nil
	}
	d.stop()
	err := d.store.Close()
	d.store, d.hears = nil, nil
	return err
}

func (d *driven) set(clock Clock) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if clock.Boot != "" {
		d.clock = clock
	}
}

func (d *driven) options(with With) (device.Options, error) {
	network, err := url.Parse(with.Network)
	if err != nil || with.Network == "" && with.Path == "" {
		return device.Options{}, fmt.Errorf("the address of the network %q: %v", with.Network, err)
	}
	d.ids, d.made = with.IDs, 0
	return device.Options{
		Now:       func() time.Time { d.mu.Lock(); defer d.mu.Unlock(); return d.clock.Now },
		Tick:      func() (string, time.Duration) { d.mu.Lock(); defer d.mu.Unlock(); return d.clock.Boot, d.clock.Since },
		NewID:     d.newID,
		Transport: &by{d, network},
	}, nil
}

// newID makes a UUIDv7 of the device's time, the digits that were given, and a count.
func (d *driven) newID() uuid.UUID {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.made++
	var id uuid.UUID
	at := uint64(d.clock.Now.UnixMilli())
	for n := range 6 {
		id[n] = byte(at >> (40 - 8*n))
	}
	tail := fmt.Sprintf("%s%06x", d.ids, d.made)
	tail = strings.Repeat("0", max(18-len(tail), 0)) + tail
	for n := range 9 {
		digits, _ := strconv.ParseUint(tail[len(tail)-18+2*n:][:2], 16, 8) // checked by open
		id[7+n] = byte(digits)
	}
	id[6], id[8] = 0x70|id[7]>>4, id[8]&0x3f|0x80
	return id
}

// by sends requests to the network that was given, and reads the clock off what comes back.
type by struct {
	d       *driven
	network *url.URL
}

func (b *by) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.URL.Scheme, r.URL.Host, r.Host = b.network.Scheme, b.network.Host, b.network.Host
	r.URL.Path = strings.TrimSuffix(b.network.Path, "/") + r.URL.Path
	response, err := b.d.over.RoundTrip(r)
	if err != nil {
		return nil, err
	}
	var clock Clock
	if json.Unmarshal([]byte(response.Header.Get(ClockHeader)), &clock) == nil {
		b.d.set(clock)
	}
	return response, nil
}

func (d *driven) do(ctx context.Context, what string, with With) (any, error) {
	switch what {
	case DoOpen:
		return struct{}{}, d.open(ctx, with)
	case DoRestore:
		options, err := d.options(with)
		if err != nil {
			return nil, err
		}
		return struct{}{}, device.Restore(ctx, with.Backup, with.Path, options)
	case DoWorkOut:
		return d.work(with.Of, with.Case)
	}
	if d.store == nil {
		return nil, errors.New("no store is open")
	}
	s := d.store
	switch what {
	case DoClose:
		return struct{}{}, d.shut()
	case DoEnrol:
		return struct{}{}, s.Enrol(ctx, with.Central, with.Code, with.Name)
	case DoExchange:
		return s.Exchange(ctx, nil)
	case DoPush:
		return s.Push(ctx, nil)
	case DoPull:
		return s.Pull(ctx, nil)
	case DoBackUp:
		return struct{}{}, s.Backup(ctx, with.Path)
	case DoBackups:
		return s.Backups()
	case DoPeople:
		return s.People(ctx)
	case DoSetSecret:
		return struct{}{}, s.SetSecret(ctx, with.Old, with.Secret)
	case DoSignIn:
		return struct{}{}, s.SignIn(ctx, with.Name, with.Secret)
	case DoSignOut:
		return s.SignOut(ctx)
	case DoJoin:
		return s.Join(ctx, with.Code, with.Secret)
	case DoLost:
		return s.LostRecords(ctx)
	case DoOfferLost:
		return struct{}{}, s.OfferLost(ctx, with.Collection, with.ID)
	case DoDropLost:
		return struct{}{}, s.DropLost(ctx, with.Collection, with.ID, with.Path)
	case DoCollections:
		return s.Collections(ctx)
	case DoDefinition:
		c, err := s.Collection(ctx, with.Collection)
		if err != nil {
			return nil, err
		}
		return c.Definition, nil
	case DoFingerprint:
		set, err := s.Fingerprint(ctx, with.Collection)
		return Held{Count: set.Count(), Fingerprint: set.String()}, err
	}
	return d.save(ctx, what, with)
}

// save does what changes or reads records.
func (d *driven) save(ctx context.Context, what string, with With) (any, error) {
	var options []device.SaveOption
	if with.Saw != nil {
		options = append(options, device.Saw(*with.Saw))
	}
	s := d.store
	switch what {
	case DoAdd:
		return s.Add(ctx, with.Collection, with.Fields)
	case DoEdit:
		return s.Edit(ctx, with.Collection, with.ID, with.Fields, options...)
	case DoRemove:
		return struct{}{}, s.Remove(ctx, with.Collection, with.ID, options...)
	case DoTogether:
		return Together(ctx, s, with.Steps)
	case DoComplete:
		return s.Complete(ctx, with.Collection, with.ID)
	case DoReopen:
		return s.Reopen(ctx, with.Collection, with.ID)
	case DoSettle:
		return s.Settle(ctx, with.Collection, with.ID, with.Field, with.Value)
	case DoReview:
		return s.Review(ctx)
	case DoSendAgain:
		return s.SendAgain(ctx, with.Number)
	case DoDiscard:
		return struct{}{}, s.Discard(ctx, with.Number, with.Path)
	case DoGet:
		return s.Get(ctx, with.Collection, with.ID)
	case DoFind:
		return s.Find(ctx, with.Collection, with.Find.ask())
	case DoLookUp:
		return s.LookUp(ctx, with.Collection, with.Find.ask())
	case DoVerify:
		return s.Verify(ctx, false, with.Mend)
	}
	return nil, fmt.Errorf("%w: %s", ErrUnknown, what)
}

// ask is the question as a store takes it.
func (f *Find) ask() query.Ask {
	if f == nil {
		return query.Ask{}
	}
	return query.Ask{Where: f.Where, Search: f.Search, Sort: f.Sort, Limit: f.Limit, Offset: f.Offset}
}

func (d *driven) open(ctx context.Context, with With) error {
	if strings.Trim(with.IDs, "0123456789abcdef") != "" || len(with.IDs) > 12 {
		return fmt.Errorf("ids %q: take up to 12 small hexadecimal digits", with.IDs)
	}
	if err := d.shut(); err != nil {
		return err
	}
	options, err := d.options(with)
	if err != nil {
		return err
	}
	if d.store, err = device.Open(ctx, with.Path, options); err != nil {
		return err
	}
	d.hears, d.stop = d.store.Listen()
	return nil
}

// Together adds records that stand or fall together.
func Together(ctx context.Context, s *device.Store, steps []Step) (made []device.Record, err error) {
	err = s.Group(ctx, func(g *device.Group) error {
		for _, step := range steps {
			fields := device.Fields{}
			for name, value := range step.Fields {
				fields[name] = value
			}
			for name, earlier := range step.Refers {
				if earlier < 0 || earlier >= len(made) {
					return fmt.Errorf("there is no step %d before this one", earlier)
				}
				fields[name] = made[earlier].ID.String()
			}
			r, err := g.Add(step.Collection, fields)
			if err != nil {
				return err
			}
			made = append(made, r)
		}
		return nil
	})
	return made, err
}

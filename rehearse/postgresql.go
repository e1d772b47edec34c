package rehearse

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"homing/central"
	"homing/central/changes"
	"homing/central/fault"
	"homing/core/definition"
	"homing/core/desk"
	"homing/core/rights"
	"homing/service"
	"homing/web"
	"homing/wire"
)

// onPostgreSQL is the real central with its HTTP door, on a database. Only its clock is that of the rehearsal, and
// requests reach it by a call.
type onPostgreSQL struct {
	w       *world
	central *central.Central
	door    *web.Server
	backup  string // file; empty until there is one
}

func newOnPostgreSQL(w *world) (*onPostgreSQL, error) {
	p := &onPostgreSQL{w: w}
	w.newID() // as many ids as in memory, so that the same seed tells much the same story
	w.newID()
	if err := p.open(); err != nil {
		return nil, err
	}
	_, err := p.central.Define(context.Background(), lead, w.definitions())
	if err != nil {
		return nil, err
	}
	return p, nil
}

func (p *onPostgreSQL) open() (err error) {
	if p.central, err = central.Open(context.Background(),
		central.Options{Database: p.w.options.Database, Connections: 2,
			Now: func() time.Time { return p.w.now }}); err != nil {
		return err
	}
	p.door = web.New(p.central, web.Options{})
	return nil
}

func (p *onPostgreSQL) answer(_ *unit, r *http.Request, body []byte) *http.Response {
	asked := r.Clone(context.Background()) // what has been sent goes on, even when the device is killed
	asked.Body, asked.ContentLength, asked.RequestURI = io.NopCloser(bytes.NewReader(body)), int64(len(body)),
		r.URL.RequestURI()
	asked.RemoteAddr = "127.0.0.1:1"
	if query := r.URL.Query(); strings.HasPrefix(r.URL.Path, "/v1/changes/") {
		query.Set("limit", strconv.Itoa(mostInPage))
		asked.URL.RawQuery = query.Encode()
	}
	if strings.HasSuffix(r.URL.Path, "/batches") {
		asked.Header.Del("Accept-Encoding") // the answers are counted
	}
	got := &answered{header: http.Header{}, status: http.StatusOK}
	p.door.ServeHTTP(got, asked)
	if strings.HasSuffix(r.URL.Path, "/batches") && got.status == http.StatusOK {
		var answers wire.Answers
		if json.Unmarshal(got.body.Bytes(), &answers) == nil {
			p.w.note(answers)
		}
	}
	return &http.Response{StatusCode: got.status, Status: http.StatusText(got.status), Header: got.header, Request: r,
		Body: io.NopCloser(&got.body)}
}

// answered keeps what the door answers.
type answered struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (a *answered) Header() http.Header                  { return a.header }
func (a *answered) WriteHeader(status int)               { a.status = status }
func (a *answered) Write(text []byte) (n int, err error) { return a.body.Write(text) }

func (p *onPostgreSQL) join(d *unit) (string, error) {
	if err := p.central.AddWorker(context.Background(), d.worker, rights.Worker, "", d.held...); err != nil {
		return "", err
	}
	code, _, err := p.central.IssueCode(context.Background(), central.Everything(lead), d.worker, 0)
	return code, err
}

func (p *onPostgreSQL) hold(d *unit) error {
	return p.central.HoldTerritories(context.Background(), d.worker, d.held)
}

func (p *onPostgreSQL) promote(d *unit) error {
	return p.central.SetRole(context.Background(), d.worker, d.role)
}

func (p *onPostgreSQL) invite(d *unit, guest rights.Person) error {
	ctx := context.Background()
	err := p.central.AddWorker(ctx, guest.Name, guest.Role, "", guest.Territories...)
	if known := fault.Explain(err); known != nil && known.Kind == fault.Clash { // they were here before
		err = errors.Join(p.central.SetRole(ctx, guest.Name, guest.Role),
			p.central.HoldTerritories(ctx, guest.Name, guest.Territories))
	}
	if err != nil {
		return err
	}
	code, _, err := p.central.IssueCode(ctx, central.Everything(lead), guest.Name, 0)
	if err != nil {
		return err
	}
	at, err := p.deviceOf(d)
	if err != nil {
		return err
	}
	_, err = p.central.Join(ctx, at, code)
	if known := fault.Explain(err); known != nil && known.Kind == fault.Clash {
		return nil // the backup has them on it
	}
	return err
}

func (p *onPostgreSQL) code(guest string) (string, error) {
	code, _, err := p.central.IssueCode(context.Background(), central.Everything(lead), guest, 0)
	return code, err
}

func (p *onPostgreSQL) dismiss(d *unit, guest string) error {
	at, err := p.deviceOf(d)
	if err != nil {
		return err
	}
	err = p.central.Leave(context.Background(), at.ID, guest)
	if known := fault.Explain(err); known != nil && known.Kind == fault.NotFound {
		return nil // a restored central has never heard of them
	}
	return err
}

func (p *onPostgreSQL) deviceOf(d *unit) (central.Device, error) {
	all, err := p.central.Devices(context.Background(), d.worker)
	if err != nil || len(all) == 0 {
		return central.Device{}, errors.Join(fmt.Errorf("central has no device of %s", d.worker), err)
	}
	return all[0], nil
}

func (p *onPostgreSQL) rows(collection, key string, rows []changes.TableRow) ([]changes.Row, error) {
	return p.central.PutRows(context.Background(), central.Everything(lead), collection, key, rows)
}

// putBack is not rehearsed here: restoring a dump takes seconds, and a test of its own does it.
func (p *onPostgreSQL) putBack() (bool, error) { return false, nil }

func (p *onPostgreSQL) define(d definition.Definition) error {
	_, err := p.central.Define(context.Background(), lead, []definition.Definition{d})
	return err
}

func (p *onPostgreSQL) direct(write changes.Write) (wire.Answer, error) {
	return p.central.Direct(context.Background(), central.Everything(lead), write)
}

func (p *onPostgreSQL) whole() ([]desk.Held, []desk.Accepted, error) {
	return p.central.Whole(context.Background())
}

func (p *onPostgreSQL) backUp() error {
	p.backup = filepath.Join(p.w.folder, "central.backup")
	return service.Backup(context.Background(), p.w.options.Database, "", p.backup)
}

func (p *onPostgreSQL) restore() (bool, error) {
	if p.backup == "" {
		return false, nil
	}
	if err := p.central.Close(); err != nil {
		return false, err
	}
	if _, err := service.Restore(context.Background(), p.w.options.Database, "", p.backup,
		filepath.Join(p.w.folder, "central-before.backup")); err != nil {
		return false, err
	}
	p.w.newID()
	p.w.newID()
	return true, p.open()
}

func (p *onPostgreSQL) close() error { return p.central.Close() }

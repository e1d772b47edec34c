package proof_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"

	"homing/conformance"
	"homing/conformance/driver"
	"homing/conformance/proof"
	"homing/core/change"
	"homing/wire"
)

// mistaken names the mistake that this test's own program makes when it is started to be driven.
const mistaken = "HOMING_DRIVEN_MISTAKE"

func TestMain(m *testing.M) {
	mistake, driven := os.LookupEnv(mistaken)
	if !driven {
		os.Exit(m.Run())
	}
	in := io.Reader(os.Stdin)
	work := conformance.WorkOut
	switch mistake {
	case "hangs":
		time.Sleep(time.Hour)
	case "writes nonsense":
		fmt.Println("Hello! Here I am.")
	case "dies":
		os.Exit(3)
	case "numbers are doubles":
		work = func(of string, given json.RawMessage) (any, error) {
			var read any
			if err := json.Unmarshal(given, &read); err != nil { // numbers become doubles
				return nil, err
			}
			text, err := json.Marshal(read)
			if err != nil {
				return nil, err
			}
			return conformance.WorkOut(of, text)
		}
	case "a copy goes on under the same numbers":
		in = restoring(os.Stdin)
	}
	if err := driver.Serve(context.Background(), in, os.Stdout, &tampered{mistake: mistake}, work); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// restoring does what is asked about backups itself: a restored store is the file as it was.
func restoring(from io.Reader) io.Reader {
	in, out := io.Pipe()
	go func() {
		defer out.Close()
		lines := bufio.NewScanner(from)
		lines.Buffer(nil, 64<<20)
		for lines.Scan() {
			var ask driver.Ask
			if json.Unmarshal(lines.Bytes(), &ask) == nil && ask.Do == driver.DoRestore {
				text, err := os.ReadFile(ask.With.Backup)
				if err == nil {
					err = os.WriteFile(ask.With.Path, text, 0o600)
				}
				fmt.Printf(`{"ask":%d,"done":{"failed":%t}}`+"\n", ask.Ask, err != nil)
				continue
			}
			out.Write(append(lines.Bytes(), '\n'))
		}
	}()
	return in
}

// tampered is a way to central on which a mistake is made that a device could make.
type tampered struct {
	mistake  string
	revision map[string]int64 // the latest of each record that came
	fields   map[string]map[string]json.RawMessage
	again    map[int64]bool // numbers that were sent before
}

var unzstd, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1)) // fails only for bad options

// doubles is a mistake in how JSON is read.
func doubles(text []byte) []byte {
	var read any
	if json.Unmarshal(text, &read) != nil {
		return text
	}
	out, err := json.Marshal(read)
	if err != nil {
		return text
	}
	return out
}

func (t *tampered) RoundTrip(r *http.Request) (*http.Response, error) {
	r.Header.Set("Accept-Encoding", "identity")
	var body []byte
	if r.Body != nil {
		var err error
		if body, err = io.ReadAll(r.Body); err != nil {
			return nil, err
		}
	}
	if r.Header.Get("Content-Encoding") == "zstd" {
		var err error
		if body, err = unzstd.DecodeAll(body, nil); err != nil {
			return nil, err
		}
		r.Header.Del("Content-Encoding")
	}
	body, shift := t.sent(r.URL.Path, body)
	r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	if len(body) == 0 {
		r.Body = nil
	}
	response, err := http.DefaultTransport.RoundTrip(r)
	if err != nil {
		if made := t.silence(r, body); made != nil {
			return made, nil
		}
		return nil, err
	}
	text, err := io.ReadAll(response.Body)
	if err != nil {
		return nil, err
	}
	text = t.got(text, shift)
	response.Body, response.ContentLength = io.NopCloser(bytes.NewReader(text)), int64(len(text))
	response.Header.Del("Content-Length")
	return response, nil
}

// sent is what goes out in place of a request. Shift is what was added to the numbers of changes.
func (t *tampered) sent(path string, body []byte) (made []byte, shift int64) {
	if t.mistake == "numbers are doubles" {
		return doubles(body), 0
	}
	var batch wire.Batch
	var trip wire.Trip
	switch {
	case strings.HasSuffix(path, "/batches") && json.Unmarshal(body, &batch) == nil:
		shift = t.tamper(&batch)
		body, _ = json.Marshal(batch) // it was read from JSON
	case strings.HasSuffix(path, "/trips") && json.Unmarshal(body, &trip) == nil && trip.Batch != nil:
		shift = t.tamper(trip.Batch)
		if t.mistake == "the clock is trusted" && trip.Clock != nil {
			trip.Clock.OffsetMS, trip.Clock.ErrorMS = 0, 0
		}
		body, _ = json.Marshal(trip)
	}
	return body, shift
}

func (t *tampered) tamper(batch *wire.Batch) (shift int64) {
	if t.mistake == "the clock is trusted" {
		batch.Clock.OffsetMS, batch.Clock.ErrorMS = 0, 0
		batch.Clock.SentAt = time.Time{}
	}
	for n, raw := range batch.Changes {
		var c change.Change
		if json.Unmarshal(raw, &c) != nil || c.Number == 0 {
			continue // sealed
		}
		switch t.mistake {
		case "what was not answered gets a new number":
			if t.again[c.Number] && shift == 0 {
				shift = 1000
			}
			if t.again == nil {
				t.again = map[int64]bool{}
			}
			t.again[c.Number] = true
			c.Number += shift
		case "an edit is based on what has come since":
			if known := t.revision[c.Record.String()]; known > c.Base && c.Kind == change.Edit {
				c.Base = known
				for name, edit := range c.Fields {
					edit.From = t.fields[c.Record.String()][name]
					c.Fields[name] = edit
				}
			}
		case "groups are taken apart":
			c.Group = nil
		case "turned clocks go unnoticed":
			c.TurnedMS = 0
		default:
			continue
		}
		batch.Changes[n], _ = json.Marshal(c) // it was read from JSON
	}
	return shift
}

// got is what comes in in place of an answer.
func (t *tampered) got(text []byte, shift int64) []byte {
	if t.mistake == "numbers are doubles" {
		return doubles(text)
	}
	var whole map[string]json.RawMessage
	if json.Unmarshal(text, &whole) != nil {
		return text
	}
	if t.mistake == "what was not answered gets a new number" && shift > 0 {
		return bytes.ReplaceAll(text, []byte(`"number":100`), []byte(`"number":`)) // of the first few
	}
	page := func(raw json.RawMessage) json.RawMessage {
		var one map[string]json.RawMessage
		var records []map[string]json.RawMessage
		if json.Unmarshal(raw, &one) != nil || json.Unmarshal(one["records"], &records) != nil {
			return raw
		}
		records = slices.DeleteFunc(records, func(r map[string]json.RawMessage) bool {
			id := strings.Trim(string(r["id"]), `"`)
			var revision int64
			json.Unmarshal(r["revision"], &revision) // 0 where it is none
			if t.revision == nil {
				t.revision, t.fields = map[string]int64{}, map[string]map[string]json.RawMessage{}
			}
			t.revision[id] = revision
			var fields map[string]json.RawMessage
			json.Unmarshal(r["fields"], &fields) // none of a removal
			t.fields[id] = fields
			return t.mistake == "withdrawals are left out" && string(r["withdrawn"]) == "true" ||
				t.mistake == "removals are left out" && string(r["removed"]) == "true"
		})
		if t.mistake == "the cursor goes before the records" && len(records) > 3 {
			records = records[1:]
		}
		one["records"], _ = json.Marshal(records) // it was read from JSON
		out, _ := json.Marshal(one)
		return out
	}
	var pages []json.RawMessage
	switch {
	case whole["records"] != nil:
		return page(text)
	case json.Unmarshal(whole["pages"], &pages) == nil:
		for n := range pages {
			pages[n] = page(pages[n])
		}
		whole["pages"], _ = json.Marshal(pages)
		text, _ = json.Marshal(whole)
	}
	return text
}

// silence makes an answer where none came.
func (t *tampered) silence(r *http.Request, body []byte) *http.Response {
	if t.mistake != "silence is taken for an answer" {
		return nil
	}
	var batch wire.Batch
	var trip wire.Trip
	var made any
	switch {
	case strings.HasSuffix(r.URL.Path, "/batches") && json.Unmarshal(body, &batch) == nil:
		made = applied(batch)
	case strings.HasSuffix(r.URL.Path, "/trips") && json.Unmarshal(body, &trip) == nil && trip.Batch != nil:
		answers := applied(*trip.Batch)
		made = map[string]any{"received_at": time.Now(), "answered_at": time.Now(), "max_changes": 100, "max_bytes": 1 << 20, "answers": answers}
	default:
		return nil
	}
	text, err := json.Marshal(made)
	if err != nil {
		return nil
	}
	return &http.Response{StatusCode: http.StatusOK, Header: http.Header{}, Body: io.NopCloser(bytes.NewReader(text)), Request: r}
}

func applied(batch wire.Batch) wire.Answers {
	all := wire.Answers{Batch: batch.ID}
	for _, raw := range batch.Changes {
		var c change.Change
		if json.Unmarshal(raw, &c) != nil {
			continue
		}
		all.Answers = append(all.Answers, wire.Answer{Number: c.Number, Answer: change.Applied, Revision: c.Base + 1, Stamp: c.Stamp})
	}
	return all
}

func prove(t *testing.T, mistake string, o proof.Options) []proof.Result {
	t.Helper()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	o.Driver.Args = []string{"/usr/bin/env", mistaken + "=" + mistake, self}
	results, err := proof.Run(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	return results
}

// Our own device proves itself through the line protocol as any other does.
func TestOurOwnDeviceConforms(t *testing.T) {
	for _, r := range prove(t, "none", proof.Options{First: 1, Seeds: 4}) {
		if !r.Holds() || r.Cases == 0 || r.Left {
			t.Errorf("%s, %s: %d of %d, %s\n%s", r.Part, r.Name, r.Held, r.Cases, strings.Join(r.Wrong, "\n"), strings.Join(r.Story, "\n"))
		}
	}
}

// A device that makes a mistake is caught, and by the situation that is about it.
func TestMistakesAreCaught(t *testing.T) {
	for mistake, by := range map[string]string{
		"silence is taken for an answer":          "a request that is lost",
		"what was not answered gets a new number": "an answer that is lost",
		"an edit is based on what has come since": "a form that was open over a pull",
		"the clock is trusted":                    "a fast clock does not win",
		"turned clocks go unnoticed":              "a clock that is turned between a save and its exchange",
		"groups are taken apart":                  "records that stand or fall together",
		"withdrawals are left out":                "a record that is withdrawn",
		"removals are left out":                   "a removal that comes",
		"the cursor goes before the records":      "a first load in several pages",
		"a copy goes on under the same numbers":   "restored from a backup",
		"numbers are doubles":                     "values keep all their digits",
	} {
		t.Run(mistake, func(t *testing.T) {
			t.Parallel()
			results := prove(t, mistake, proof.Options{Parts: []string{proof.Situations}, Only: by})
			if len(results) != 1 || results[0].Holds() || results[0].Left || len(results[0].Story) == 0 {
				t.Errorf("%+v", results)
			} else {
				t.Logf("%s: %s", by, results[0].Wrong[0])
			}
		})
	}
	t.Run("in the vectors", func(t *testing.T) {
		results := prove(t, "numbers are doubles", proof.Options{Parts: []string{proof.Vectors}})
		caught := slices.IndexFunc(results, func(r proof.Result) bool { return r.Name == "schemas" && !r.Holds() })
		if caught < 0 {
			t.Errorf("%+v", results)
		}
	})
	t.Run("in fleets", func(t *testing.T) {
		t.Parallel()
		results := prove(t, "what was not answered gets a new number", proof.Options{Parts: []string{proof.Fleets}, First: 1, Seeds: 3})
		if len(results) != 1 || results[0].Holds() || len(results[0].Story) == 0 || !strings.HasPrefix(results[0].Wrong[0], "seed ") {
			t.Errorf("%+v", results)
		}
	})
}

// A program that hangs, dies or says what is no answer is named as that, at once and for each thing that it was asked.
func TestProgramsThatDoNotAnswer(t *testing.T) {
	for mistake, says := range map[string]string{"hangs": "nothing came of", "dies": "ended", "writes nonsense": "no JSON object of the protocol"} {
		t.Run(mistake, func(t *testing.T) {
			t.Parallel()
			patience := time.Minute // a busy machine may take a while to start it
			if mistake == "hangs" {
				patience = 300 * time.Millisecond
			}
			results := prove(t, mistake, proof.Options{Driver: driver.Command{Patience: patience}, Parts: []string{proof.Vectors, proof.Fleets},
				First: 1, Seeds: 3})
			for _, r := range results {
				if r.Holds() || r.Held > 0 || !strings.Contains(r.Wrong[len(r.Wrong)-1], says) {
					t.Errorf("%s: %+v", r.Name, r)
				}
			}
			if len(results) != len(conformance.Names())+1 {
				t.Errorf("%d results", len(results))
			}
		})
	}
	if _, err := proof.Run(t.Context(), proof.Options{Driver: driver.Command{Args: []string{"/nowhere/driver"}}}); err == nil || errors.Is(err, driver.ErrDied) {
		t.Errorf("a program that is not there: %v", err)
	}
}

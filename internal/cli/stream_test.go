package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"homing/central"
	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
)

const readings = `
collection: readings
label: "{n}"
required: [n]
fields:
  n: {type: integer}
  level: {type: number, maximum: 100}
  big: {type: integer}
sync: {direction: up, keep: never} # what central has, the box lets go of
`

// box is a command that takes readings from its standard input.
type box struct {
	cmd      *exec.Cmd
	in       io.WriteCloser
	out, err bytes.Buffer
}

func startBox(t *testing.T, store string, more ...string) *box {
	t.Helper()
	path, env := testbed.Program(t)
	b := &box{cmd: exec.Command(path, append([]string{"local", "add", "readings", "--stream", "--json", "--store", store}, more...)...)}
	b.cmd.Env, b.cmd.Stdout, b.cmd.Stderr = append(os.Environ(), env...), &b.out, &b.err
	var err error
	b.in, err = b.cmd.StdinPipe()
	testbed.Must(t, err)
	testbed.Must(t, b.cmd.Start())
	return b
}

// ends closes what the producer writes to, and gives what the box says in the end.
func (b *box) ends(t *testing.T) (sum struct{ Saved, Refused, Unsent int }, code int) {
	t.Helper()
	b.in.Close()
	b.cmd.Wait() // the code says how it went
	if err := json.Unmarshal(b.out.Bytes(), &sum); err != nil {
		t.Fatalf("%v: %s%s", err, &b.out, &b.err)
	}
	return sum, b.cmd.ProcessState.ExitCode()
}

func streamStore(t *testing.T, bed *testbed.Bed) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "box.db")
	store, err := device.Open(t.Context(), path, device.Options{})
	testbed.Must(t, err)
	testbed.Must(t, store.Enrol(t.Context(), bed.URL(), bed.Code("worker"), "Counter"))
	testbed.Exchange(t, store)
	testbed.Must(t, store.Close())
	return path
}

// atCentralBy is how often central has each reading.
func atCentralBy(t *testing.T, bed *testbed.Bed) map[string]int {
	t.Helper()
	all := map[string]int{}
	for offset := 0; ; offset += 1000 {
		listing, err := bed.Central.List(t.Context(), central.Everything("admin"), "readings", query.Ask{Limit: 1000, Offset: offset})
		testbed.Must(t, err)
		for _, r := range listing.Records {
			var fields struct{ N json.Number }
			testbed.Must(t, json.Unmarshal(r.Fields, &fields))
			all[fields.N.String()]++
		}
		if len(listing.Records) < 1000 {
			return all
		}
	}
}

// A box streams thousands of lines, some of which are no records; what is wrong is told and left out, the rest comes home once, and the box holds on to nothing that
// central has.
func TestAStream(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(readings)
	path := streamStore(t, bed)
	b := startBox(t, path, "--exchange-every", "200ms")
	for n := range 3000 {
		line := fmt.Sprintf(`{"n": %d, "level": %d.5, "big": 9007199254740993}`, n, n%90)
		switch n {
		case 100:
			line = `{"n": 100, "level": 500}`
		case 200:
			line = `{"n": 200, "level"`
		case 300:
			line = `{"n": "` + strings.Repeat("x", 5<<20) + `"}`
		case 400:
			line = `{"level": 1}`
		case 500:
			line = `[500]`
		case 600:
			line = ""
		case 700:
			line = `{"n": 700, "colour": "red"}`
		}
		fmt.Fprintln(b.in, line)
	}
	sum, code := b.ends(t)
	if sum.Saved != 2993 || sum.Refused != 6 || sum.Unsent != 0 || code != 4 {
		t.Errorf("%+v, exit %d\n%s", sum, code, &b.err)
	}
	for _, want := range []string{"line 101: ", "must be at most 100", "line 201: it is not a JSON object", "line 301: it has more than", "line 401: ", "line 501: it is not", "line 701: "} {
		if !strings.Contains(b.err.String(), want) {
			t.Errorf("it does not say %q:\n%s", want, &b.err)
		}
	}
	got := atCentralBy(t, bed)
	for n, times := range got {
		if times != 1 {
			t.Errorf("%s is there %d times", n, times)
		}
	}
	if len(got) != 2993 {
		t.Errorf("central has %d", len(got))
	}
	store, err := device.Open(t.Context(), path, device.Options{})
	testbed.Must(t, err)
	defer store.Close()
	found, err := store.Find(t.Context(), "readings", query.Ask{Limit: 10})
	testbed.Must(t, err)
	if len(found.Records) > 0 {
		t.Errorf("the box holds %v still", found.Records)
	}
	listing, err := bed.Central.List(t.Context(), central.Everything("admin"), "readings", query.Ask{Where: []string{"n=5"}})
	testbed.Must(t, err)
	if !strings.Contains(string(listing.Records[0].Fields), "9007199254740993") {
		t.Errorf("a number changed on its way: %s", listing.Records[0].Fields)
	}
}

// The box is killed while it streams, and there is no link: what it had saved is there once, in the order of the lines, and goes on behind it.
func TestAStreamIsKilled(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(readings)
	path := streamStore(t, bed)
	next := 0
	for range 2 {
		b := startBox(t, path, "--exchange-every", "0")
		go func(from int) {
			for n := from; n < from+200_000; n++ {
				if _, err := fmt.Fprintf(b.in, `{"n": %d}`+"\n", n); err != nil {
					return // the box is gone
				}
			}
		}(next)
		time.Sleep(700 * time.Millisecond)
		testbed.Must(t, b.cmd.Process.Kill())
		b.cmd.Wait() // says that it was killed
		store, err := device.Open(t.Context(), path, device.Options{})
		testbed.Must(t, err)
		status, err := store.Status(t.Context())
		testbed.Must(t, err)
		testbed.Must(t, store.Close())
		if int(status.Unsent) <= next {
			t.Fatalf("nothing was saved: %d, after %d", status.Unsent, next)
		}
		t.Logf("%d saved", int(status.Unsent)-next)
		next = int(status.Unsent) // each line up to here, and none twice
	}
	b := startBox(t, path, "--exchange-every", "100ms")
	fmt.Fprintf(b.in, `{"n": %d}`+"\n", next)
	if sum, code := b.ends(t); sum.Unsent != 0 || code != 0 {
		t.Errorf("%+v, exit %d: %s", sum, code, &b.err)
	}
	got := atCentralBy(t, bed)
	for n := range next + 1 {
		if got[fmt.Sprint(n)] != 1 {
			t.Fatalf("%d is there %d times, of %d", n, got[fmt.Sprint(n)], next)
		}
	}
}

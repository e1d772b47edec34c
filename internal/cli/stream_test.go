package cli_test

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

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
	out, err testbed.Log
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
	if err := json.Unmarshal([]byte(b.out.String()), &sum); err != nil {
		t.Fatalf("%v: %s%s", err, &b.out, &b.err)
	}
	return sum, b.cmd.ProcessState.ExitCode()
}

func streamStore(t *testing.T, bed *testbed.Bed) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "box.db")
	enrolBox(t, bed, path)
	return path
}

func enrolBox(t *testing.T, bed *testbed.Bed, path string) {
	t.Helper()
	store, err := device.Open(t.Context(), path, device.Options{})
	testbed.Must(t, err)
	testbed.Must(t, store.Enrol(t.Context(), bed.URL(), bed.Code("worker"), "Counter"))
	testbed.Exchange(t, store)
	testbed.Must(t, store.Close())
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
	// Totals go on being told of what has left, and of no others than were saved.
	totals, err := store.Totals(t.Context(), "readings", time.Hour)
	testbed.Must(t, err)
	by := map[string]device.Total{}
	for _, one := range totals {
		by[one.Field] = one
	}
	left := map[int]bool{100: true, 200: true, 300: true, 400: true, 500: true, 600: true, 700: true}
	count, sum2 := 0, 0.0
	for n := range 3000 {
		if !left[n] {
			count, sum2 = count+1, sum2+float64(n%90)+0.5
		}
	}
	if level := by["level"]; by[""].N != 2993 || int(level.N) != count || level.Sum != sum2 || level.Least != 0.5 || level.Most != 89.5 || math.Abs(level.Mean()-sum2/float64(count)) > 1e-9 {
		t.Errorf("totals of what was streamed: %+v, not %d and %v", totals, count, sum2)
	}
	if _, err := store.Totals(t.Context(), "readings", 48*time.Hour); err == nil {
		t.Error("totals go back two days")
	}
	if totals, err := store.Totals(t.Context(), "reading", time.Hour); !errors.Is(err, device.ErrNoCollection) {
		t.Errorf("totals of what there is not: %v %v", totals, err)
	}
	listing, err := bed.Central.List(t.Context(), central.Everything("admin"), "readings", query.Ask{Where: []string{"n=5"}})
	testbed.Must(t, err)
	if !strings.Contains(string(listing.Records[0].Fields), "9007199254740993") {
		t.Errorf("a number changed on its way: %s", listing.Records[0].Fields)
	}
}

// Another program keeps the store to itself for longer than anybody waits for it: the stream waits on, says so once, and loses nothing.
func TestAStreamWhoseStoreIsTaken(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(readings)
	path := streamStore(t, bed)
	other, err := sql.Open("sqlite3", "file:"+path+"?_txlock=immediate")
	testbed.Must(t, err)
	defer other.Close()
	b := startBox(t, path, "--exchange-every", "0")
	fmt.Fprintln(b.in, `{"n": 0}`)
	testbed.Wait(t, "the first to be saved", func() bool {
		var n int
		return other.QueryRow(`SELECT count(*) FROM outbox`).Scan(&n) == nil && n == 1
	})
	taken, err := other.Begin()
	testbed.Must(t, err)
	for n := 1; n < 20; n++ {
		fmt.Fprintf(b.in, `{"n": %d}`+"\n", n)
	}
	testbed.Wait(t, "the stream to say that it waits", func() bool { return strings.Contains(b.err.String(), "another program has been writing") })
	testbed.Must(t, taken.Rollback())
	if sum, code := b.ends(t); sum.Saved != 20 || sum.Unsent != 20 || code != 0 || strings.Count(b.err.String(), "waiting for it") != 1 {
		t.Errorf("%+v, exit %d: %s", sum, code, &b.err)
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

// A box that is about to run out of room says so; when there is none left it waits; who ends it then is told which lines are not saved, and each that is sent again
// comes home once.
func TestAStreamWithoutRoom(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(readings)
	folder := t.TempDir()
	if err := unix.Mount("tmpfs", folder, "tmpfs", 0, "size=12m"); err != nil {
		t.Skipf("only root can make a disk as small as this: %v", err)
	}
	t.Cleanup(func() { unix.Unmount(folder, unix.MNT_DETACH) })
	path := filepath.Join(folder, "box.db")
	enrolBox(t, bed, path)
	b := startBox(t, path, "--exchange-every", "0")
	fmt.Fprintln(b.in, `{"n": 0}`)
	testbed.Wait(t, "it warns of the disk", func() bool { return strings.Contains(b.err.String(), "MB left") })
	ballast, err := os.Create(filepath.Join(folder, "ballast"))
	testbed.Must(t, err)
	for err == nil {
		_, err = ballast.Write(make([]byte, 4096))
	}
	ballast.Close()
	go func() {
		for n := 1; n < 200_000; n++ {
			if _, err := fmt.Fprintf(b.in, `{"n": %d}`+"\n", n); err != nil {
				return // the box is gone
			}
		}
	}()
	testbed.Wait(t, "it waits for room", func() bool { return strings.Contains(b.err.String(), "waiting for room") })
	testbed.Must(t, b.cmd.Process.Signal(os.Interrupt))
	sum, code := b.ends(t)
	var from, to int
	at := strings.Index(b.err.String(), "the lines from ")
	if at < 0 || code == 0 {
		t.Fatalf("it was ended without room, and says, with %d,\n%s", code, &b.err)
	}
	_, err = fmt.Sscanf(b.err.String()[at:], "the lines from %d to %d are not saved", &from, &to)
	testbed.Must(t, err)
	if from != sum.Saved+1 || to < from {
		t.Errorf("%d are saved, and the lines from %d to %d are not", sum.Saved, from, to)
	}
	testbed.Must(t, os.Remove(ballast.Name()))
	again := startBox(t, path, "--exchange-every", "100ms")
	for n := from - 1; n < to; n++ { // line 1 is reading 0
		fmt.Fprintf(again.in, `{"n": %d}`+"\n", n)
	}
	if sum, code := again.ends(t); sum.Unsent != 0 || code != 0 {
		t.Errorf("%+v, exit %d: %s", sum, code, &again.err)
	}
	got := atCentralBy(t, bed)
	for n := range to {
		if got[fmt.Sprint(n)] != 1 {
			t.Fatalf("%d is there %d times, of %d", n, got[fmt.Sprint(n)], to)
		}
	}
}

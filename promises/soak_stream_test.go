package promises_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"homing/device"
	"homing/internal/testbed"
)

const counted = `
collection: readings
label: "{n}"
required: [n]
fields:
  n: {type: integer}
  level: {type: number}
  at: {type: string, format: date-time}
sync: {direction: up, keep: never}
`

// usage is the most that a box takes.
type usage struct{ memory, disk int64 } // bytes

// P1, P2: a box takes 500 readings a second, for as long as the flag -soak says, with a link that is there half of the time and fails then, too. Each
// comes home once, and what the box takes follows what is unsent, not what it has seen.
func TestSoakOfAStream(t *testing.T) {
	bed := testbed.Start(t)
	bed.Define(counted)
	path := filepath.Join(t.TempDir(), "box.db")
	began := time.Now()
	phase := max(min(*soakFor/10, 3*time.Minute), 2*time.Second)
	away := func() bool { return time.Since(began)/phase%2 == 1 && time.Since(began) < *soakFor }
	var hits atomic.Int64
	proxy := testbed.NewProxy(t, bed.URL(), func(*http.Request) testbed.Fault {
		switch hit := hits.Add(1); {
		case away():
			return testbed.CutBefore
		case hit%10 == 0 && time.Since(began) < *soakFor:
			return []testbed.Fault{testbed.CutAfter, testbed.Twice, testbed.CutHalfway, testbed.CutBefore}[hit/10%4]
		}
		return testbed.Pass
	})
	store, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	testbed.Must(t, store.Enrol(ctx, bed.URL(), bed.Code("worker"), "Counter"))
	testbed.Exchange(t, store)
	testbed.Must(t, store.MoveCentral(ctx, proxy.URL))
	testbed.Must(t, store.Close())

	cmd := program(t, path, "local", "add", "readings", "--stream", "--json", "--exchange-every", "2s")
	in, err := cmd.StdinPipe()
	testbed.Must(t, err)
	var out, said testbed.Log
	cmd.Stdout, cmd.Stderr = &out, &said
	testbed.Must(t, cmd.Start())
	lines := bufio.NewWriter(in)
	const aTime, pause = 50, 100 * time.Millisecond
	n, most, halves := 0, usage{}, [2]usage{}
	next, look := began, began
	for time.Since(began) < *soakFor {
		for range aTime {
			fmt.Fprintf(lines, `{"n": %d, "level": %d.5, "at": %q}`+"\n", n, n%90, time.Now().UTC().Format(time.RFC3339))
			n++
		}
		if err := lines.Flush(); err != nil {
			t.Fatalf("after %d lines the box is gone: %v\n%s", n, err, &said)
		}
		if time.Now().After(look) {
			look = time.Now().Add(time.Second)
			now := usage{memory: residentMemory(t, cmd.Process.Pid), disk: onDisk(t, path)}
			half := &halves[min(int(2*time.Since(began) / *soakFor), 1)]
			for _, one := range []*usage{&most, half} {
				one.memory, one.disk = max(one.memory, now.memory), max(one.disk, now.disk)
			}
		}
		next = next.Add(pause)
		time.Sleep(time.Until(next))
	}
	saved := time.Since(began)
	in.Close()
	cmd.Wait() // the code is told with the sums
	var sum struct{ Saved, Refused, Unsent int }
	testbed.Must(t, json.Unmarshal([]byte(out.String()), &sum))
	t.Logf("%d were unsent in the end", sum.Unsent)
	runProgram(t, path, "local", "exchange")
	if sum.Saved != n || sum.Refused != 0 || cmd.ProcessState.ExitCode() != 0 {
		t.Errorf("of %d lines: %+v, exit %d\n%s", n, sum, cmd.ProcessState.ExitCode(), &said)
	}
	var got struct{ Rows, Different, Least, Most int }
	testbed.Must(t, testbed.SQL(t, bed.Database).Get(&got, `SELECT count(*) AS rows, count(DISTINCT fields->>'n') AS different, min((fields->>'n')::int) AS least, max((fields->>'n')::int) AS most
		FROM records WHERE collection = 'readings' AND NOT removed`))
	if got.Rows != n || got.Different != n || got.Least != 0 || got.Most != n-1 {
		t.Errorf("of %d lines central has %+v", n, got)
	}
	store, err = device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	defer store.Close()
	status, err := store.Status(ctx)
	testbed.Must(t, err)
	if status.Unsent > 0 || status.Refused > 0 {
		t.Errorf("the box holds %+v", status)
	}
	t.Logf("%d readings in %s (%.0f a second), without a link for every other %s: at most %d MB of memory (%d, then %d in the second half) and %d MB on disk (%d, then %d)",
		n, saved.Round(time.Second), float64(n)/saved.Seconds(), phase, most.memory>>20, halves[0].memory>>20, halves[1].memory>>20, most.disk>>20, halves[0].disk>>20, halves[1].disk>>20)
	if halves[1].memory > halves[0].memory+halves[0].memory/2+(32<<20) {
		t.Errorf("the box takes more memory the longer it runs: %d MB, then %d MB", halves[0].memory>>20, halves[1].memory>>20)
	}
}

// residentMemory is how many bytes of a process are in memory (/proc, VmRSS).
func residentMemory(t *testing.T, pid int) int64 {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	testbed.Must(t, err)
	for line := range strings.Lines(string(text)) {
		if rest, is := strings.CutPrefix(line, "VmRSS:"); is {
			kB, err := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			testbed.Must(t, err)
			return kB << 10
		}
	}
	return 0
}

// onDisk is how many bytes a store and what belongs to it take.
func onDisk(t *testing.T, path string) (bytes int64) {
	t.Helper()
	files, err := filepath.Glob(path + "*")
	testbed.Must(t, err)
	for _, file := range files {
		if info, err := os.Stat(file); err == nil && info.Mode().IsRegular() {
			bytes += info.Size()
		}
	}
	return bytes
}

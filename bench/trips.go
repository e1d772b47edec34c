package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"homing/core/definition"
	"homing/device"
	"homing/service"
)

// cost is what one thing costs, where there is nothing bare to hold it against.
type cost struct {
	Name  string  `json:"name"`
	Value float64 `json:"value"`
	Unit  string  `json:"unit"`
	Goal  string  `json:"goal,omitempty"`
}

// Further collections on the device of an exchange in which little happens.
const moreCollections = 11

// wired stands between a device and central, counts what goes over it, and may be as slow as a link in the field.
type wired struct {
	net.Listener
	target   string
	up, down atomic.Int64
	requests atomic.Int64
	trip     time.Duration // there and back
	perByte  time.Duration
}

func newWire(target string) (*wired, error) {
	at, err := url.Parse(target)
	if err != nil {
		return nil, err
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	w := &wired{Listener: listener, target: at.Host}
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			go w.carry(near)
		}
	}()
	return w, nil
}

func (w *wired) url() string { return "http://" + w.Addr().String() }

func (w *wired) carry(near net.Conn) {
	far, err := net.Dial("tcp", w.target)
	if err != nil {
		near.Close()
		return
	}
	var both sync.WaitGroup
	pass := func(to, from net.Conn, count *atomic.Int64, heads *atomic.Int64) {
		defer to.Close()
		part := make([]byte, 1400)
		for {
			n, err := from.Read(part)
			if n > 0 {
				count.Add(int64(n))
				if heads != nil {
					for _, method := range []string{"GET /", "POST /", "PUT /"} {
						if strings.HasPrefix(string(part[:n]), method) {
							heads.Add(1)
						}
					}
				}
				time.Sleep(w.trip/2 + time.Duration(n)*w.perByte)
				if _, err := to.Write(part[:n]); err != nil {
					return
				}
			}
			if err != nil {
				return
			}
		}
	}
	both.Go(func() { pass(far, near, &w.up, &w.requests) })
	both.Go(func() { pass(near, far, &w.down, nil) })
	both.Wait()
}

// spent is processor time, of this process or of those of PostgreSQL.
func spent(postgres bool) time.Duration {
	if !postgres {
		var usage syscall.Rusage
		if err := syscall.Getrusage(syscall.RUSAGE_SELF, &usage); err != nil {
			return 0
		}
		return time.Duration(usage.Utime.Nano() + usage.Stime.Nano())
	}
	const tick = 10 * time.Millisecond // of /proc, on Linux
	var all time.Duration
	files, err := filepath.Glob("/proc/[0-9]*/stat")
	if err != nil {
		return 0
	}
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil || !strings.Contains(string(text), "(postgres)") {
			continue
		}
		_, rest, _ := strings.Cut(string(text), ") ")
		fields := strings.Fields(rest)
		for _, at := range []int{11, 12} { // utime and stime
			if n, err := strconv.ParseInt(fields[at], 10, 64); err == nil {
				all += time.Duration(n) * tick
			}
		}
	}
	return all
}

// exchanged is what a device's own process says of its exchanges.
type exchanged struct {
	Processor, Took time.Duration // of one
}

// beDevice makes exchanges from a process of its own, so that what the device spends can be told from what central
// spends. With edits, each is of one record.
func beDevice(ctx context.Context, path string, times int, edits bool, out io.Writer) error {
	store, err := device.Open(ctx, path, device.Options{})
	if err != nil {
		return err
	}
	defer store.Close()
	one := func(n int) error {
		if edits {
			id, err := store.Resolve(ctx, "trails", "Ridge Path "+strconv.Itoa(n))
			if err != nil {
				return err
			}
			if _, err := store.Edit(ctx, "trails", id, device.Fields{"note": fmt.Sprint("seen ", n, " at ", time.Now().UnixNano())}); err != nil {
				return err
			}
		}
		return nil
	}
	if _, err := store.Exchange(ctx, nil); err != nil { // opens the connection, and measures the clock
		return err
	}
	var sum exchanged
	for n := range times {
		if err := one(n + 1); err != nil {
			return err
		}
		began, before := time.Now(), spent(false)
		if _, err := store.Exchange(ctx, nil); err != nil {
			return err
		}
		sum.Processor, sum.Took = sum.Processor+spent(false)-before, sum.Took+time.Since(began)
	}
	return json.NewEncoder(out).Encode(exchanged{sum.Processor / time.Duration(times), sum.Took / time.Duration(times)})
}

// trips measures exchanges in which nothing, or one edit, has happened.
func (s *stand) trips(ctx context.Context) ([]cost, error) {
	for n := range moreCollections {
		d, err := definition.ReadSource("more.yaml", []byte(fmt.Sprintf("collection: notes_%d\nfields:\n  text: {type: string}\n", n)))
		if err != nil {
			return nil, err
		}
		if _, err := s.running.Central.Define(ctx, service.FirstAdminName, []definition.Definition{d}); err != nil {
			return nil, err
		}
	}
	store, err := s.enrolled(ctx, "trips.db")
	if err != nil {
		return nil, err
	}
	if _, err := store.Exchange(ctx, nil); err != nil {
		return nil, err
	}
	between, err := newWire(s.running.URL())
	if err != nil {
		return nil, err
	}
	defer between.Close()
	if err := errors.Join(store.MoveCentral(ctx, between.url()), store.Close()); err != nil {
		return nil, err
	}
	var all []cost
	for _, kind := range []struct {
		name  string
		edits bool
		goals [5]string
	}{
		{"idle exchange", false, [5]string{"1 (2)", "1000 (2000)", "5", "", "1"}},
		{"exchange with one edit", true, [5]string{"2", "2000", "", "", ""}},
	} {
		run := func(times int) (exchanged, error) {
			args := []string{"-device", store.Path(), "-times", strconv.Itoa(times)}
			if kind.edits {
				args = append(args, "-edits")
			}
			var took exchanged
			device := exec.CommandContext(ctx, os.Args[0], args...)
			device.Stderr = os.Stderr
			out, err := device.Output()
			if err == nil {
				err = json.Unmarshal(out, &took)
			}
			return took, err
		}
		const times = 20
		before := [3]int64{between.requests.Load(), between.up.Load(), between.down.Load()}
		here, database := spent(false), spent(true)
		if _, err := run(1); err != nil { // which makes two
			return nil, err
		}
		first := [3]int64{between.requests.Load(), between.up.Load(), between.down.Load()}
		took, err := run(times + 1)
		if err != nil {
			return nil, err
		}
		here, database = spent(false)-here, spent(true)-database
		after := [3]int64{between.requests.Load(), between.up.Load(), between.down.Load()}
		each := func(n int) float64 { // what opening costs is left out
			opening := float64(first[n] - before[n])
			return (float64(after[n]-first[n]) - opening) / times
		}
		between.trip, between.perByte = 600*time.Millisecond, time.Second/8000
		slow, err := run(3)
		between.trip, between.perByte = 0, 0
		if err != nil {
			return nil, err
		}
		all = append(all, cost{kind.name, each(0), "requests", kind.goals[0]}, cost{"", each(1), "bytes up, headers and all", kind.goals[1]},
			cost{"", each(2), "bytes down", "together with those up"}, cost{"", ms(took.Processor), "ms of the device's processor", kind.goals[2]},
			cost{"", ms(here) / (times + 4), "ms of central's processor, PostgreSQL aside", kind.goals[3]},
			cost{"", ms(database) / (times + 4), "ms of PostgreSQL's processor", ""},
			cost{"", slow.Took.Seconds(), "s over a link of 600 ms and 64 kbit/s", kind.goals[4]})
	}
	return all, nil
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// deviceFlags are how this program calls itself as a device.
func deviceFlags() (path *string, times *int, edits *bool) {
	path = flag.String("device", "", "be a device with the store at this path, and exchange")
	return path, flag.Int("times", 1, "how often, as a device"), flag.Bool("edits", false, "edit a record before each, as a device")
}

func writeCosts(w io.Writer, all []cost) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintf(w, "\n%-24s %12s %-46s %s\n", "COSTS", "VALUE", "", "GOAL")
	for _, c := range all {
		fmt.Fprintf(w, "%-24s %12s %-62s %s\n", c.Name, strconv.FormatFloat(c.Value, 'f', 1, 64), c.Unit, c.Goal)
	}
}

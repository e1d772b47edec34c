package promises_test

import (
	"bufio"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
	"homing/link"
)

var soakFor = flag.Duration("soak", 10*time.Second, "how long to soak")

// soaking is a central in a process of its own with a PostgreSQL of its own, and devices that reach it through a
// proxy that fails.
type soaking struct {
	t       *testing.T
	folder  string
	listen  string
	serve   *exec.Cmd
	random  *rand.Rand
	calm    atomic.Bool
	stores  []*device.Store
	names   map[string]uuid.UUID // of trails that were added
	counted int64                // by all workers, on one trail
	edits   int
	shared  uuid.UUID

	feeds *soakedFeeds

	exchanges, cuts, deviceKills, centralKills, databaseKills int
	faults                                                    atomic.Int64
}

// P1, P2, P3, P4: devices save and exchange while central, PostgreSQL and devices are killed with kill -9 and
// connections are cut and repeated, for as long as the flag -soak says. In the end nothing is lost, nothing is
// doubled, and all agree.
func TestSoak(t *testing.T) {
	folder, err := os.MkdirTemp("", "homing-soak-") // the database's user must get through, so not below t.TempDir
	testbed.Must(t, err)
	defer os.RemoveAll(folder)
	testbed.Must(t, os.Chmod(folder, 0o755))
	seed := uint64(time.Now().UnixNano())
	s := &soaking{t: t, folder: folder, listen: "127.0.0.1:0", random: rand.New(rand.NewPCG(seed, 1)),
		names: map[string]uuid.UUID{}}
	defer func() {
		if s.serve != nil {
			s.serve.Process.Signal(syscall.SIGTERM)
			s.serve.Wait()
		}
	}()
	address := s.start()
	define := filepath.Join(t.TempDir(), "trails.yaml")
	testbed.Must(t, os.WriteFile(define, []byte(asking), 0o600))
	runProgram(t, "none", "define", "--central", address, define)
	s.startFeeds(address)
	defer func() { testbed.Must(t, s.feeds.there.Stop()) }()
	faults := rand.New(rand.NewPCG(seed, 2))
	proxy := testbed.NewProxy(t, address, func(*http.Request) testbed.Fault {
		if s.calm.Load() {
			return testbed.Pass
		}
		fault := testbed.Pass
		if roll := faults.IntN(20); roll < 3 {
			fault = []testbed.Fault{testbed.CutBefore, testbed.CutAfter, testbed.CutHalfway, testbed.Twice}[faults.IntN(4)]
			s.faults.Add(1)
		}
		return fault
	})
	s.calm.Store(true)
	for n := range 3 {
		store, err := device.Open(ctx, filepath.Join(t.TempDir(), strconv.Itoa(n)+".db"), device.Options{})
		testbed.Must(t, err)
		defer store.Close()
		testbed.Must(t, store.Enrol(ctx, proxy.URL, "", "device "+strconv.Itoa(n)))
		testbed.Exchange(t, store)
		s.stores = append(s.stores, store)
	}
	s.shared = add(t, s.stores[0], "trails", device.Fields{"name": "Everybody's", "seen": 0})
	for _, store := range s.stores {
		testbed.Exchange(t, store)
	}
	s.calm.Store(false)
	began, nextKill := time.Now(), time.Now().Add(2*time.Second)
	for time.Since(began) < *soakFor {
		if time.Now().After(nextKill) {
			s.killCentral()
			nextKill = time.Now().Add(time.Duration(1500+s.random.IntN(2500)) * time.Millisecond)
		}
		store := s.stores[s.random.IntN(len(s.stores))]
		s.save(store)
		s.exchange(store)
	}
	s.calm.Store(true)
	lost, doubled := s.verify()
	s.feeds.verify(s, address)
	t.Logf("soaked %s: %d exchanges, %d requests cut or repeated, %d exchanges broken off, kill -9 of devices %d, of "+
		"central %d, of PostgreSQL %d, of that of feeds %d; %d changes, lost %d, doubled %d",
		time.Since(began).Round(time.Second), s.exchanges, s.faults.Load(), s.cuts, s.deviceKills, s.centralKills,
		s.databaseKills, s.feeds.kills, s.edits, lost, doubled)
	if lost+doubled > 0 {
		t.Errorf("seed %d: lost %d, doubled %d", seed, lost, doubled)
	}
}

// start runs central and gives its address, which stays the same.
func (s *soaking) start() string {
	s.t.Helper()
	s.serve = program(s.t, "none", "serve", "--open", "--data", s.folder, "--listen", s.listen, "--rate", "0", "--feed-folder", s.feedFolder())
	out, err := s.serve.StdoutPipe()
	testbed.Must(s.t, err)
	testbed.Must(s.t, s.serve.Start())
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		s.t.Fatalf("central did not start: %v", err)
	}
	address := strings.TrimSpace(strings.TrimPrefix(line, "Central is up at "))
	s.listen = strings.TrimPrefix(address, "http://")
	return address
}

// killCentral kills the service while exchanges may be under way, every other time PostgreSQL first, and starts both
// again.
func (s *soaking) killCentral() {
	busy := make(chan error, 1)
	go func() { _, err := s.stores[0].Exchange(ctx, nil); busy <- err }()
	time.Sleep(time.Duration(s.random.IntN(40)) * time.Millisecond)
	if s.random.IntN(2) == 0 {
		text, err := os.ReadFile(filepath.Join(s.folder, "data", "postmaster.pid"))
		testbed.Must(s.t, err)
		first, _, _ := strings.Cut(string(text), "\n")
		pid, err := strconv.Atoi(first)
		testbed.Must(s.t, err)
		testbed.Must(s.t, syscall.Kill(pid, syscall.SIGKILL))
		s.databaseKills++
	}
	testbed.Must(s.t, s.serve.Process.Kill())
	s.serve.Wait()
	s.centralKills++
	if s.random.IntN(2) == 0 {
		s.feeds.kill(s.t)
	}
	s.tolerate(<-busy)
	s.start()
}

func (s *soaking) save(store *device.Store) {
	for range 1 + s.random.IntN(4) {
		s.edits++
		if s.random.IntN(2) == 0 {
			name := fmt.Sprintf("trail %d", s.edits)
			s.names[name] = add(s.t, store, "trails", device.Fields{"name": name})
			continue
		}
		r, err := store.Get(ctx, "trails", s.shared)
		testbed.Must(s.t, err)
		seen, err := strconv.ParseInt(string(r.Fields["seen"]), 10, 64)
		testbed.Must(s.t, err)
		_, err = store.Edit(ctx, "trails", s.shared, device.Fields{"seen": seen + 1})
		testbed.Must(s.t, err)
		s.counted++
	}
}

// exchange runs in a process that may be killed, or here through the proxy.
func (s *soaking) exchange(store *device.Store) {
	s.exchanges++
	if s.random.IntN(4) > 0 {
		_, err := store.Exchange(ctx, nil)
		s.tolerate(err)
		return
	}
	cmd := program(s.t, store.Path(), "local", "exchange")
	testbed.Must(s.t, cmd.Start())
	time.Sleep(time.Duration(s.random.IntN(120)) * time.Millisecond)
	testbed.Must(s.t, cmd.Process.Kill())
	cmd.Wait()
	s.deviceKills++
}

// tolerate takes it that an exchange breaks off, and nothing else.
func (s *soaking) tolerate(err error) {
	var problem *link.Problem
	switch {
	case err == nil:
	case errors.Is(err, link.ErrUnreachable), errors.As(err, &problem) && problem.Status >= 500,
		errors.Is(err, device.ErrBusy):
		s.cuts++
	default:
		s.t.Errorf("an exchange: %v", err)
	}
}

// verify lets all exchange in peace, and counts what is missing and what is there more than once.
func (s *soaking) verify() (lost, doubled int) {
	for range 3 {
		for _, store := range s.stores {
			testbed.Exchange(s.t, store)
		}
	}
	for _, store := range s.stores {
		all, err := store.Verify(ctx, false, false)
		testbed.Must(s.t, err)
		for _, one := range all {
			if len(one.Differences) > 0 {
				s.t.Errorf("a device and central do not agree: %+v", one.Differences)
			}
		}
		status, err := store.Status(ctx)
		testbed.Must(s.t, err)
		if status.Unsent+status.Refused+status.Waiting > 0 {
			s.t.Errorf("left in an outbox: %+v", status)
		}
	}
	times := map[string]int{}
	for offset := 0; ; {
		found, err := s.stores[1].Find(ctx, "trails", query.Ask{Sort: "name", Limit: 1000, Offset: offset})
		testbed.Must(s.t, err)
		for _, r := range found.Records {
			times[strings.Trim(string(r.Fields["name"]), `"`)]++
		}
		if offset += len(found.Records); len(found.Records) == 0 || offset >= found.Total {
			break
		}
	}
	for name := range s.names {
		switch n := times[name]; {
		case n == 0:
			lost++
		case n > 1:
			doubled += n - 1
		}
	}
	r, err := s.stores[2].Get(ctx, "trails", s.shared)
	testbed.Must(s.t, err)
	seen, err := strconv.ParseInt(string(r.Fields["seen"]), 10, 64)
	testbed.Must(s.t, err)
	if seen < s.counted {
		lost += int(s.counted - seen)
	} else {
		doubled += int(seen - s.counted)
	}
	return lost, doubled
}

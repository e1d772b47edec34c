package promises_test

import (
	"bufio"
	"errors"
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

	"homing/central"
	"homing/core/change"
	"homing/core/query"
	"homing/device"
	"homing/internal/testbed"
	"homing/link"
)

// program runs one command line of homing in a process of its own.
func program(t *testing.T, store string, args ...string) *exec.Cmd {
	t.Helper()
	path, env := testbed.Program(t)
	cmd := exec.Command(path, args...)
	cmd.Env = append(env, "HOMING_STORE="+store)
	return cmd
}

func runProgram(t *testing.T, store string, args ...string) string {
	t.Helper()
	out, err := program(t, store, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("homing %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return string(out)
}

// lines counts the lines that are written to it.
type lines struct{ atomic.Int64 }

func (l *lines) Write(text []byte) (int, error) {
	l.Add(int64(strings.Count(string(text), "\n")))
	return len(text), nil
}

// P1: what a save returned for survives kill -9 at any moment. A process saves record after record and says each number
// only after the save has returned; it is killed in the middle, again and again.
func TestP1SavesSurviveAKill(t *testing.T) {
	bed := testbed.Start(t)
	path := filepath.Join(t.TempDir(), "store.db")
	runProgram(t, path, "local", "enrol", "--central", bed.URL(), "--code", bed.Code("worker"), "--name", "tablet")
	runProgram(t, path, "local", "exchange")
	said := 0
	for round := range 4 {
		script := exec.Command("bash", "-c",
			`for n in $(seq 200); do "$0" local add trails --set name="round `+strconv.Itoa(round)+` number $n" >/dev/null || exit 1; echo $n; done`, program(t, path).Path)
		script.Env = program(t, path).Env
		script.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		var out lines
		script.Stdout = &out
		testbed.Must(t, script.Start())
		testbed.Wait(t, "a save returns", func() bool { return out.Load() > 0 })
		time.Sleep(time.Duration(round*130) * time.Millisecond)
		syscall.Kill(-script.Process.Pid, syscall.SIGKILL)
		script.Wait()
		said += int(out.Load())
	}
	store, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	defer store.Close()
	queue, err := store.Review(ctx)
	testbed.Must(t, err)
	// The one save that was under way may have been finished or not.
	if len(queue) < said || len(queue) > said+4 {
		t.Errorf("%d saves had returned before the kills, the outbox holds %d", said, len(queue))
	}
	testbed.Exchange(t, store)
	bed.Same(store)
}

// P1, P2: the device is killed after central took its batch and before the answer came. It exchanges again, and central
// holds each change once.
func TestP1P2KilledBetweenPushAndAnswer(t *testing.T) {
	bed := testbed.Start(t)
	var kill atomic.Bool
	kill.Store(true)
	proxy := testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
		if kill.Load() && testbed.CarriesBatch(r) {
			return testbed.Hold
		}
		return testbed.Pass
	})
	path := filepath.Join(t.TempDir(), "store.db")
	runProgram(t, path, "local", "enrol", "--central", proxy.URL, "--code", bed.Code("worker"), "--name", "tablet")
	runProgram(t, path, "local", "exchange")
	runProgram(t, path, "local", "add", "trails", "--set", "name=Ridge")
	runProgram(t, path, "local", "add", "trails", "--set", "name=Loop")

	exchange := program(t, path, "local", "exchange")
	testbed.Must(t, exchange.Start())
	<-proxy.Held // central has answered, and the device has not heard it
	testbed.Must(t, exchange.Process.Kill())
	exchange.Wait()
	kill.Store(false)
	if out := runProgram(t, path, "local", "exchange"); !strings.Contains(out, "Sent 2: 2 applied") {
		t.Errorf("the second exchange said:\n%s", out)
	}
	listing, err := bed.Central.List(ctx, central.Everything("admin"), "trails", query.Ask{Limit: 10})
	testbed.Must(t, err)
	if listing.Total != 2 || versions(t, bed, "trails", listing.Records[0].ID) != 1 {
		t.Errorf("central holds %d records; want 2 with 1 revision each", listing.Total)
	}
	store, err := device.Open(ctx, path, device.Options{})
	testbed.Must(t, err)
	defer store.Close()
	bed.Same(store)
}

// P1: whatever goes wrong on the way, the outbox keeps what was not answered, and the error is plain.
func TestP1TheOutboxKeepsWhatWasNotAnswered(t *testing.T) {
	for name, fault := range map[string]testbed.Fault{"request lost": testbed.CutBefore, "answer lost": testbed.CutAfter,
		"answer cut": testbed.CutHalfway} {
		t.Run(name, func(t *testing.T) {
			bed := testbed.Start(t)
			broken := true
			proxy := testbed.NewProxy(t, bed.URL(), func(r *http.Request) testbed.Fault {
				if broken && testbed.CarriesBatch(r) {
					return fault
				}
				return testbed.Pass
			})
			store := bed.Device("worker", "tablet", device.Options{}, proxy.URL)
			testbed.Exchange(t, store)
			trail := addTrail(t, store, "Ridge")
			if _, err := store.Exchange(ctx, nil); !errors.Is(err, link.ErrUnreachable) {
				t.Fatalf("the exchange said %v", err)
			}
			queue, err := store.Review(ctx)
			testbed.Must(t, err)
			if len(queue) != 1 || queue[0].Record != trail.ID || !queue[0].Sent {
				t.Fatalf("the outbox holds %+v", queue)
			}
			broken = false
			if got := testbed.Exchange(t, store); got.Applied != 1 {
				t.Errorf("the next exchange did %+v", got)
			}
			if n := versions(t, bed, "trails", trail.ID); n != 1 {
				t.Errorf("central has %d revisions, want 1", n)
			}
			bed.Same(store)
		})
	}
}

// P1: central dies in the middle of a push: PostgreSQL loses the connection between work and commit.
func TestP1CentralDiesInTheMiddle(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	db := database(t, bed)
	db.MustExec(`CREATE FUNCTION die() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
		IF EXISTS (SELECT FROM pg_class
			WHERE relname = 'dying') THEN PERFORM pg_terminate_backend(pg_backend_pid()); END IF; RETURN NULL; END $$;
		CREATE CONSTRAINT TRIGGER dies AFTER INSERT ON versions DEFERRABLE INITIALLY DEFERRED FOR EACH ROW EXECUTE FUNCTION die();
		CREATE TABLE dying ()`)
	trail := addTrail(t, store, "Ridge")
	var problem *link.Problem
	if _, err := store.Push(ctx, nil); !errors.As(err, &problem) || problem.Status != http.StatusServiceUnavailable {
		t.Fatalf("the push said %v", err)
	}
	if status, err := store.Status(ctx); err != nil || status.Unsent != 1 {
		t.Fatalf("status %+v, %v", status, err)
	}
	db.MustExec(`DROP TABLE dying`)
	testbed.Exchange(t, store)
	if n := versions(t, bed, "trails", trail.ID); n != 1 {
		t.Errorf("central has %d revisions, want 1", n)
	}
	bed.Same(store)
}

// P1: a full disk at central loses nothing and says so.
func TestP1FullDiskAtCentral(t *testing.T) {
	bed := testbed.Start(t)
	store := bed.Device("worker", "tablet", device.Options{})
	testbed.Exchange(t, store)
	first := addTrail(t, store, "Ridge")

	db := database(t, bed)
	db.MustExec(`CREATE FUNCTION full_disk() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'no space' USING ERRCODE = 'disk_full'; END $$;
		CREATE TRIGGER full_disk BEFORE INSERT ON versions EXECUTE FUNCTION full_disk()`)
	r := newRaw(t, bed, "worker")
	status, text := bed.Call("POST", "/v1/batches", r.token,
		r.batch(r.change(1, change.Add, newID(), 0, map[string]string{"name": `"x"`})))
	if status != http.StatusInsufficientStorage || !strings.Contains(string(text), "disk is full") {
		t.Errorf("central's full disk: %d %s", status, text)
	}
	db.MustExec(`DROP TRIGGER full_disk ON versions`)

	if queue, err := store.Review(ctx); err != nil || len(queue) != 1 || queue[0].Record != first.ID {
		t.Errorf("the outbox holds %v, %v", queue, err)
	}
	testbed.Exchange(t, store)
	bed.Same(store)
}

// P1: central is killed right after it answered, PostgreSQL with it; what it answered is there when it starts again.
func TestP1AnsweredSurvivesAKilledCentral(t *testing.T) {
	folder, err := os.MkdirTemp("", "homing-kill-") // the database's user must get through, so not below t.TempDir
	testbed.Must(t, err)
	defer os.RemoveAll(folder)
	testbed.Must(t, os.Chmod(folder, 0o755))
	path := filepath.Join(t.TempDir(), "store.db")
	definition := filepath.Join(t.TempDir(), "trails.yaml")
	testbed.Must(t, os.WriteFile(definition, []byte(testbed.Trails), 0o600))
	listen := "127.0.0.1:0"
	for round := range 3 {
		serve := program(t, path, "serve", "--open", "--data", folder, "--listen", listen)
		out, err := serve.StdoutPipe()
		testbed.Must(t, err)
		testbed.Must(t, serve.Start())
		line, err := bufio.NewReader(out).ReadString('\n')
		testbed.Must(t, err)
		address := strings.TrimSpace(strings.TrimPrefix(line, "Central is up at "))
		listen = strings.TrimPrefix(address, "http://")
		if round == 0 {
			runProgram(t, path, "define", "--central", address, definition)
			runProgram(t, path, "local", "enrol", "--central", address, "--name", "tablet")
		}
		runProgram(t, path, "local", "exchange")
		runProgram(t, path, "local", "add", "trails", "--set", "name=round "+strconv.Itoa(round))
		runProgram(t, path, "local", "exchange")
		if text := runProgram(t, path, "records", "list", "trails", "--central", address); !strings.Contains(text,
			strconv.Itoa(round+1)+" record") {
			t.Errorf("round %d:\n%s", round, text)
		}
		testbed.Must(t, serve.Process.Kill())
		serve.Wait()
	}
}

// Package cluster runs a private PostgreSQL cluster on loopback: its own data directory, its own free port, its own
// password. It uses the programs of the machine's PostgreSQL package and nothing else of it.
package cluster

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib" // the driver "pgx"
)

// ErrMissing says that PostgreSQL is not installed.
var ErrMissing = errors.New("PostgreSQL is not installed: run apt-get install postgresql (make demo and make test " +
	"do it by themselves)")

// Options say how to run a cluster.
type Options struct {
	Dir       string // everything of the cluster lies in here
	Throwaway bool   // for tests: faster, and nothing survives a power cut
}

// Cluster is a running cluster. One process owns it.
type Cluster struct {
	home     home
	port     int
	password string
	pid      int
	done     chan struct{} // closed when a postmaster that this process started has ended; nil for one it found running
}

// home is where a cluster lies and how it is run.
type home struct {
	bin, dir  string
	as        *syscall.Credential
	throwaway bool
}

const superuser = "homing"

// Start makes the cluster if there is none, starts it, and waits until it answers. A postmaster that an earlier
// process left running, because it was killed, is taken over.
func Start(ctx context.Context, options Options) (*Cluster, error) {
	bin, err := programs()
	if err != nil {
		return nil, err
	}
	dir, err := filepath.Abs(options.Dir)
	if err != nil {
		return nil, err
	}
	as, err := runAs()
	if err != nil {
		return nil, err
	}
	if dir, err = within(dir, as); err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "data")
	if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); errors.Is(err, fs.ErrNotExist) {
		if err := create(ctx, bin, dir, as); err != nil {
			return nil, err
		}
	}
	password, err := os.ReadFile(filepath.Join(dir, "password"))
	if err != nil {
		return nil, fmt.Errorf("the cluster in %s has lost its password file: %w", dir, err)
	}
	c := &Cluster{password: strings.TrimSpace(string(password)), home: home{bin, dir, as, options.Throwaway}}
	if c.adopt(ctx, data) {
		return c, nil
	}
	if c.port, err = freePort(); err != nil {
		return nil, err
	}
	return c, c.run(ctx)
}

// Again starts the cluster again after its postmaster has died, on the port that it had, so that its URLs stay good.
func (c *Cluster) Again(ctx context.Context) error { return c.run(ctx) }

// Folder is where the cluster lies.
func (c *Cluster) Folder() string { return c.home.dir }

// Ended is closed when the postmaster has ended, whatever the reason. It is asked for anew after [Cluster.Again].
func (c *Cluster) Ended() <-chan struct{} {
	if c.done != nil {
		return c.done
	}
	const look = time.Second // nobody tells when a process ends that another has started
	ended := make(chan struct{})
	pid := c.pid
	go func() {
		for syscall.Kill(pid, 0) == nil {
			time.Sleep(look)
		}
		close(ended)
	}()
	return ended
}

// run starts a postmaster and waits until it answers.
func (c *Cluster) run(ctx context.Context) error {
	// After a postmaster was killed, its other processes take a moment to end; until then a new one gives up at once.
	const tries = 20
	for try := 1; ; try++ {
		if err := c.launch(); err != nil {
			return err
		}
		err := c.wait(ctx, filepath.Join(c.home.dir, "log"))
		if err == nil {
			return nil
		}
		c.Stop()
		if try == tries || !strings.Contains(err.Error(), "pre-existing shared memory block") {
			return err
		}
		time.Sleep(250 * time.Millisecond)
	}
}

// URL is the connection URL of a database in the cluster.
func (c *Cluster) URL(database string) string {
	u := url.URL{Scheme: "postgres", User: url.UserPassword(superuser, c.password),
		Host: net.JoinHostPort("127.0.0.1", strconv.Itoa(c.port)),
		Path: "/" + database, RawQuery: "sslmode=disable"}
	return u.String()
}

// Database makes a database if there is none of that name, and gives its URL. A template, if one is named, is copied.
func (c *Cluster) Database(ctx context.Context, name, template string) (string, error) {
	db, err := sql.Open("pgx", c.URL("postgres"))
	if err != nil {
		return "", err
	}
	defer db.Close()
	var exists bool
	if err := db.QueryRowContext(ctx, `SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)`,
		name).Scan(&exists); err != nil {
		return "", err
	}
	if !exists {
		statement := `CREATE DATABASE "` + name + `"`
		if template != "" {
			statement += ` TEMPLATE "` + template + `"`
		}
		if _, err := db.ExecContext(ctx, statement); err != nil {
			return "", err
		}
	}
	return c.URL(name), nil
}

// Drop removes a database, if there is one of that name, whoever is connected to it.
func (c *Cluster) Drop(ctx context.Context, name string) error {
	db, err := sql.Open("pgx", c.URL("postgres"))
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, `DROP DATABASE IF EXISTS "`+name+`" WITH (FORCE)`)
	return err
}

// Found says that the cluster was running already when it was started, by another process.
func (c *Cluster) Found() bool { return c.done == nil }

// Program is the path of one of PostgreSQL's programs, such as pg_dump.
func Program(name string) (string, error) {
	bin, err := programs()
	if err != nil {
		return "", err
	}
	return filepath.Join(bin, name), nil
}

// PID is the process id of the postmaster.
func (c *Cluster) PID() int { return c.pid }

// Stop shuts the cluster down: sessions are broken off, everything committed is kept.
func (c *Cluster) Stop() error {
	if c.pid == 0 {
		return nil
	}
	if err := syscall.Kill(c.pid, syscall.SIGINT); err != nil && !errors.Is(err, syscall.ESRCH) {
		return fmt.Errorf("stop PostgreSQL: %w", err)
	}
	const patience = 30 * time.Second
	for waited := time.Duration(0); waited < patience; waited += 20 * time.Millisecond {
		if !c.running() {
			return nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return fmt.Errorf("PostgreSQL (process %d) did not stop within %s", c.pid, patience)
}

func (c *Cluster) running() bool {
	if c.done != nil {
		select {
		case <-c.done:
			return false
		default:
			return true
		}
	}
	return syscall.Kill(c.pid, 0) == nil
}

// programs finds the folder of the newest PostgreSQL on the machine.
func programs() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if err != nil || len(found) == 0 {
		if path, lookErr := exec.LookPath("initdb"); lookErr == nil {
			return filepath.Dir(path), nil
		}
		return "", ErrMissing
	}
	release := func(path string) int {
		n, _ := strconv.Atoi(strings.Split(path, "/")[4]) // a folder that is no number counts as the oldest
		return n
	}
	return filepath.Dir(slices.MaxFunc(found, func(a, b string) int { return release(a) - release(b) })), nil
}

// runAs is the user that PostgreSQL's programs run as: they refuse root, so root hands over to postgres.
func runAs() (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	account, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("%w (there is no user postgres)", ErrMissing)
	}
	uid, errUID := strconv.ParseUint(account.Uid, 10, 32)
	gid, errGID := strconv.ParseUint(account.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, errors.Join(errUID, errGID)
}

func create(ctx context.Context, bin, dir string, as *syscall.Credential) error {
	data, secret := filepath.Join(dir, "data"), filepath.Join(dir, "password")
	// An initdb that was interrupted leaves a folder that a second one would refuse.
	if err := os.RemoveAll(data); err != nil {
		return err
	}
	if err := os.WriteFile(secret, []byte(rand.Text()+"\n"), 0o600); err != nil {
		return err
	}
	if as != nil {
		if err := os.Chown(secret, int(as.Uid), int(as.Gid)); err != nil {
			return err
		}
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "--pgdata", data, "--username", superuser, "--pwfile",
		secret,
		"--auth", "scram-sha-256", "--encoding", "UTF8", "--locale", "C.UTF-8", "--no-sync")
	cmd.Dir, cmd.SysProcAttr = dir, &syscall.SysProcAttr{Credential: as}
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("initdb: %w\n%s", err, out.String())
	}
	syscall.Sync() // instead of initdb's own slower syncing, file by file
	return nil
}

// Elsewhere is the file in a cluster's folder that names the folder where the cluster really lies, if it had to move.
const Elsewhere = "elsewhere"

// within gives the folder of the cluster, made and open to the user it runs as. Under root that user often cannot get
// through to the folder, since it lies in root's home; then the cluster lies below /var/tmp, and a file says so.
func within(dir string, as *syscall.Credential) (string, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil || as == nil {
		return dir, err
	}
	if err := os.Chown(dir, int(as.Uid), int(as.Gid)); err != nil {
		return "", err
	}
	if reachable(dir, as) {
		return dir, nil
	}
	sum := sha256.Sum256([]byte(dir))
	moved := filepath.Join("/var/tmp", "homing-"+hex.EncodeToString(sum[:8]))
	if err := os.Mkdir(moved, 0o700); err == nil {
		err = os.Chown(moved, int(as.Uid), int(as.Gid))
		if err != nil {
			return "", err
		}
	} else if !errors.Is(err, fs.ErrExist) {
		return "", err
	}
	info, err := os.Lstat(moved)
	if err != nil {
		return "", err
	}
	// Anybody may write to /var/tmp, so a folder that somebody else has put there is not used.
	if owner, known := info.Sys().(*syscall.Stat_t); !known || !info.IsDir() || owner.Uid != as.Uid {
		return "", fmt.Errorf("the user postgres cannot reach %s, and %s belongs to somebody else; take another folder",
			dir, moved)
	}
	return moved, os.WriteFile(filepath.Join(dir, Elsewhere), []byte(moved+"\n"), 0o600)
}

// reachable says whether the cluster's user can enter a folder.
func reachable(dir string, as *syscall.Credential) bool {
	cmd := exec.Command("/usr/bin/test", "-x", dir)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	cmd.Dir = "/"
	return cmd.Run() == nil
}

// adopt takes over a postmaster that is still running on the data directory.
func (c *Cluster) adopt(ctx context.Context, data string) bool {
	text, err := os.ReadFile(filepath.Join(data, "postmaster.pid"))
	if err != nil {
		return false
	}
	lines := strings.Split(string(text), "\n") // process, data directory, start, port, …
	if len(lines) < 4 {
		return false
	}
	pid, errPID := strconv.Atoi(strings.TrimSpace(lines[0]))
	port, errPort := strconv.Atoi(strings.TrimSpace(lines[3]))
	if errPID != nil || errPort != nil || syscall.Kill(pid, 0) != nil {
		return false
	}
	c.pid, c.port = pid, port
	// It may be shutting down; then it is gone in a moment and a new one can start.
	for range 100 {
		if c.ping(ctx) == nil {
			return true
		}
		if syscall.Kill(pid, 0) != nil {
			break
		}
		time.Sleep(50 * time.Millisecond)
	}
	c.pid, c.port = 0, 0
	return false
}

func (c *Cluster) launch() error {
	bin, dir, as, throwaway := c.home.bin, c.home.dir, c.home.as, c.home.throwaway
	args := []string{"-D", filepath.Join(dir, "data"), "-p", strconv.Itoa(c.port), "-c", "listen_addresses=127.0.0.1",
		"-c", "unix_socket_directories=",
		"-c", "max_connections=200", "-c", "log_min_messages=warning", "-c", "shared_buffers=256MB", "-c", "max_wal_size=2GB"}
	if throwaway {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off", "-c", "synchronous_commit=off")
	}
	log, err := os.OpenFile(filepath.Join(dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := exec.Command(filepath.Join(bin, "postgres"), args...)
	cmd.Dir, cmd.Stdout, cmd.Stderr = dir, log, log
	// In a group of its own, so that Ctrl-C reaches us and not the database under us. If we are killed, the kernel asks
	// it to shut down.
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as, Setpgid: true, Pdeathsig: syscall.SIGINT}
	started, done := make(chan error), make(chan struct{})
	c.done = done
	go func() {
		runtime.LockOSThread() // the kernel's promise holds for the thread that started the child
		defer close(done)
		err := cmd.Start()
		started <- err
		if err == nil {
			cmd.Wait()
		}
	}()
	if err := <-started; err != nil {
		return fmt.Errorf("start PostgreSQL: %w", err)
	}
	c.pid = cmd.Process.Pid
	return nil
}

// freePort asks the kernel for a port of loopback that nobody listens on.
func freePort() (int, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer listener.Close()
	return listener.Addr().(*net.TCPAddr).Port, nil
}

func (c *Cluster) ping(ctx context.Context) error {
	db, err := sql.Open("pgx", c.URL("postgres"))
	if err != nil {
		return err
	}
	defer db.Close()
	return db.PingContext(ctx)
}

func (c *Cluster) wait(ctx context.Context, log string) error {
	const patience = 60 * time.Second
	var err error
	for waited := time.Duration(0); waited < patience; waited += 50 * time.Millisecond {
		if err = c.ping(ctx); err == nil {
			return nil
		}
		if !c.running() {
			return fmt.Errorf("PostgreSQL ended at once; its log %s ends with:\n%s", log, tail(log))
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return fmt.Errorf("PostgreSQL did not answer within %s: %w", patience, err)
}

func tail(path string) string {
	text, err := os.ReadFile(path)
	if err != nil {
		return err.Error()
	}
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return strings.Join(lines[max(0, len(lines)-5):], "\n")
}

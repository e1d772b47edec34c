// Package service runs central as one process: PostgreSQL if it is to be private, the work on it, and the HTTP door,
// started in that order and stopped in the other.
package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"time"

	"homing/central"
	"homing/central/fault"
	"homing/central/fleet"
	"homing/cluster"
	"homing/core/definition"
	"homing/core/rights"
	"homing/web"
)

// Options say how central runs.
type Options struct {
	Listen        string // host:port; port 0 takes a free one
	Database      string // connection URL; empty runs a private cluster in Data
	Data          string // folder of the private cluster
	Open          bool
	AdminPassword string // for the first admin of an empty database; made up when empty
	Build         string
	Console       fs.FS
	Field         fs.FS
	Log           *slog.Logger
	TLSCert       string // files of a certificate and its key; without them the door speaks plain HTTP
	TLSKey        string
	Origins       []string       // of pages elsewhere that may use the API from a browser
	Behind        []netip.Prefix // proxies whose word on where a request comes from is taken
	MetricsToken  string
	RatePerSecond float64
	RateBurst     int
	MaxBodyBytes  int64
	MaxChanges    int
	Now           func() time.Time
	Rehearse      func(context.Context, []definition.Definition, uint64, bool) (web.Rehearsal, error)
	KeepExchanges time.Duration // what exchanges carried; 0 means 30 days
	KeepBatches   int           // of how many batches and pages; 0 means 200,000
	FeedFolder    string        // within which feeds write files; empty lets none do so
}

// Running is a running central.
type Running struct {
	Central *central.Central
	// FirstAdmin is the made-up password of the worker admin, if one was made up just now. It is kept nowhere.
	FirstAdmin string

	url     string
	db      string
	cluster *cluster.Cluster
	web     *web.Server
	http    *http.Server
	served  chan error
	tidied  chan struct{} // closed when nothing is tidied any more
	tidy    context.CancelFunc
	watched chan struct{} // closed when PostgreSQL is not watched any more
	fed     chan struct{} // closed when no feed is worked any more
	release func()        // gives the folder of the private PostgreSQL back
	log     *slog.Logger
}

// FirstAdminName is the worker that an empty database gets.
const FirstAdminName = "admin"

// drain is how long a shutdown waits for requests that are under way.
const drain = 30 * time.Second

// Start runs central. It returns when requests are answered.
func Start(ctx context.Context, options Options) (*Running, error) {
	if options.Open {
		if err := loopbackOnly(options.Listen); err != nil {
			return nil, err
		}
	}
	// The address is taken first: it is the likeliest thing to be wrong, and the quickest to find out.
	listener, err := net.Listen("tcp", options.Listen)
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w; take another address with --listen", options.Listen, err)
	}
	scheme := "http://"
	if options.TLSCert != "" {
		scheme = "https://"
	}
	r := &Running{log: options.Log, url: scheme + listener.Addr().String(), served: make(chan error, 2)}
	door, err := secure(listener, options)
	if err != nil {
		listener.Close()
		return nil, err
	}
	if err := r.start(ctx, options); err != nil {
		listener.Close()
		return nil, errors.Join(err, r.stop())
	}
	go func() { r.served <- r.http.Serve(door) }()
	r.keepTidy(options)
	for _, warning := range warnings(options) {
		options.Log.Warn(warning)
	}
	options.Log.Info("central is up", "url", r.url, "generation", r.Central.Generation(), "open", options.Open)
	if options.Open {
		options.Log.Warn("central is OPEN: nobody needs to sign in and everybody may do everything; for a first hour on " +
			"one machine only")
	}
	return r, nil
}

func (r *Running) start(ctx context.Context, options Options) error {
	database := options.Database
	if database == "" {
		var err error
		if r.release, err = claim(options.Data); err != nil {
			return err
		}
		if r.cluster, err = cluster.Start(ctx, cluster.Options{Dir: options.Data}); err != nil {
			return err
		}
		if database, err = r.cluster.Database(ctx, "homing", ""); err != nil {
			return err
		}
	}
	r.db = database
	var err error
	r.Central, err = central.Open(ctx, central.Options{Database: database, Log: options.Log,
		MaxChanges: options.MaxChanges, Now: options.Now})
	if err != nil {
		return err
	}
	if err := r.firstWorkers(ctx, options); err != nil {
		return err
	}
	r.web = web.New(r.Central, web.Options{Full: r.full, Open: options.Open, Build: options.Build,
		Console: options.Console, Field: options.Field, Log: options.Log,
		RatePerSecond: options.RatePerSecond, RateBurst: options.RateBurst, MaxBodyBytes: options.MaxBodyBytes,
		MaxChanges: options.MaxChanges, Behind: options.Behind, Origins: options.Origins, MetricsToken: options.MetricsToken,
		Warnings: warnings(options), Rehearse: options.Rehearse})
	r.http = &http.Server{Handler: r.web, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10,
		ErrorLog:       slog.NewLogLogger(options.Log.Handler(), slog.LevelDebug)}
	return nil
}

func (r *Running) firstWorkers(ctx context.Context, options Options) error {
	workers, err := r.Central.Workers(ctx, true)
	if err != nil {
		return err
	}
	// While central is open nobody needs a password, and none is made up before it is closed.
	alone := !slices.ContainsFunc(workers, func(w fleet.Worker) bool { return w.Name != central.OpenName })
	if alone && (!options.Open || options.AdminPassword != "") {
		password := options.AdminPassword
		if password == "" {
			password = rand.Text()[:16]
			r.FirstAdmin = password
		}
		if err := r.Central.AddWorker(ctx, FirstAdminName, rights.Admin, password); err != nil {
			return fmt.Errorf("the first admin: %w", err)
		}
	}
	if !options.Open {
		return nil
	}
	ctx = fleet.Acting(ctx, fleet.Actor{Open: true})
	err = r.Central.AddWorker(ctx, central.OpenName, rights.Admin, "")
	var known *fault.Error
	if errors.As(err, &known) && known.Kind == fault.Clash {
		return nil
	}
	return err
}

// URL is where central is reached.
func (r *Running) URL() string { return r.url }

// Server is the HTTP door.
func (r *Running) Server() *web.Server { return r.web }

// DatabaseURL is the connection URL of central's database.
func (r *Running) DatabaseURL() string { return r.db }

// Wait returns when the context is done or the door has failed, and stops everything in order: what is being pushed is
// finished first.
func (r *Running) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return r.Stop()
	case err := <-r.served:
		return errors.Join(err, r.stop())
	}
}

// Stop ends live events, finishes the requests that are under way, and stops.
func (r *Running) Stop() error {
	r.log.Info("stopping: requests that are under way are finished first")
	r.web.StopListeners()
	ctx, cancel := context.WithTimeout(context.Background(), drain)
	defer cancel()
	err := r.http.Shutdown(ctx)
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("some requests did not end within %s and were broken off", drain)
	}
	err = errors.Join(err, r.stop())
	r.log.Info("stopped")
	return err
}

// keepTidy lets go of the log of exchanges as it grows old, from time to time.
func (r *Running) keepTidy(options Options) {
	if options.KeepExchanges == 0 {
		options.KeepExchanges = 30 * 24 * time.Hour
	}
	if options.KeepBatches == 0 {
		options.KeepBatches = 200_000
	}
	var ctx context.Context
	ctx, r.tidy = context.WithCancel(context.Background())
	r.tidied, r.watched, r.fed = make(chan struct{}), make(chan struct{}), make(chan struct{})
	go func() {
		defer close(r.fed)
		r.Central.Work(ctx, options.FeedFolder)
	}()
	go func() {
		defer close(r.watched)
		if r.cluster == nil {
			return
		}
		if err := r.supervise(ctx); err != nil {
			r.served <- err
		}
	}()
	go func() {
		defer close(r.tidied)
		for every := time.NewTicker(time.Hour); ; {
			if err := r.Central.ForgetExchanges(ctx, r.Central.Now().Add(-options.KeepExchanges),
				options.KeepBatches); err != nil && ctx.Err() == nil {
				r.log.Warn("the log of exchanges was not tidied", "error", err)
			}
			select {
			case <-every.C:
			case <-ctx.Done():
				every.Stop()
				return
			}
		}
	}()
}

func (r *Running) stop() error {
	var errs []error
	if r.tidy != nil {
		r.tidy()
		<-r.tidied
		<-r.watched
		<-r.fed
	}
	if r.Central != nil {
		errs = append(errs, r.Central.Close())
	}
	if r.cluster != nil {
		errs = append(errs, r.cluster.Stop())
	}
	if r.release != nil {
		r.release()
	}
	return errors.Join(errs...)
}

func loopbackOnly(listen string) error {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return fmt.Errorf("listen address %q: write host:port, such as 127.0.0.1:8400", listen)
	}
	if ip := net.ParseIP(host); host == "localhost" || ip != nil && ip.IsLoopback() {
		return nil
	}
	return fmt.Errorf("central is open to everybody with --open, so it only listens on loopback; %s is not: take "+
		"127.0.0.1, or leave --open out", listen)
}

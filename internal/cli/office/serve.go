package office

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"runtime/debug"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"homing/console"
	"homing/field"
	"homing/internal/cli/terminal"
	"homing/service"
	"homing/web"
	"homing/wire"
)

// Env names the environment variable that a flag is read from, too.
func Env(name string) cli.ValueSourceChain { return cli.EnvVars("HOMING_" + name) }

// ServeCommand is homing serve.
func ServeCommand() *cli.Command {
	return &cli.Command{
		Name:  "serve",
		Usage: "run central: the service, its database and its console",
		Description: `Without --database, central starts a PostgreSQL of its own in the folder --data: on loopback, on a free port, with a
password of its own. An empty database gets the worker admin; its password is that of --admin-password, or one that is made up
and printed this once. Ctrl-C stops in order: what is being pushed is finished first.

EXAMPLES
   homing serve --open
   homing serve --listen 0.0.0.0:8400 --tls-cert central.crt --tls-key central.key
   homing serve --listen 10.0.0.5:8400 --behind 10.0.0.2 --database postgres://homing@db.example/homing`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8400",
				Usage: "`HOST:PORT` to answer on; port 0 takes a free one", Sources: Env("LISTEN")},
			&cli.StringFlag{Name: "database", Usage: "`URL` of a PostgreSQL database; none runs a private PostgreSQL",
				Sources: Env("DATABASE")},
			&cli.StringFlag{Name: "data", Value: "homing-data", Usage: "`FOLDER` of the private PostgreSQL",
				Sources: Env("DATA")},
			&cli.BoolFlag{Name: "open", Usage: "nobody needs to sign in; only on loopback, for a first hour",
				Sources: Env("OPEN")},
			&cli.StringFlag{Name: "admin-password", Usage: "password of the first admin of an empty database",
				Sources: Env("ADMIN_PASSWORD")},
			&cli.StringFlag{Name: "tls-cert", Usage: "`FILE` of a certificate, to answer over HTTPS; read again when it changes",
				Sources: Env("TLS_CERT")},
			&cli.StringFlag{Name: "tls-key", Usage: "`FILE` of the certificate's key", Sources: Env("TLS_KEY")},
			&cli.StringSliceFlag{Name: "allow-origin", Usage: "let pages from this `ORIGIN`, such as https://app.example, use the API from a browser, with a token; " +
				"may be given several times; none by default", Sources: Env("ALLOW_ORIGIN")},
			&cli.StringSliceFlag{Name: "behind", Usage: "`ADDRESS` or range of a proxy that central stands behind and whose word on " +
				"where a request comes from is taken; may be given several times", Sources: Env("BEHIND")},
			&cli.StringFlag{Name: "feed-folder", Usage: "`FOLDER` within which feeds write files; none lets no feed do so",
				Sources: Env("FEED_FOLDER")},
			&cli.StringFlag{Name: "metrics-token", Usage: "`TOKEN` that lets others than this machine read /metrics",
				Sources: Env("METRICS_TOKEN")},
			&cli.FloatFlag{Name: "rate", Value: 100, Usage: "requests a second of one caller; 0 sets no limit",
				Sources: Env("RATE")},
			&cli.IntFlag{Name: "burst", Value: 400, Usage: "requests that a caller may make at once", Sources: Env("BURST")},
			&cli.Int64Flag{Name: "max-body", Value: wire.MaxBatchBytes, Usage: "largest body of a request, in bytes, unpacked",
				Sources: Env("MAX_BODY")},
			&cli.IntFlag{Name: "max-changes", Value: wire.MaxBatchChanges, Usage: "most changes in a batch",
				Sources: Env("MAX_CHANGES")},
			&cli.DurationFlag{Name: "keep-exchanges", Value: 30 * 24 * time.Hour,
				Usage: "how long to keep what exchanges carried", Sources: Env("KEEP_EXCHANGES")},
			&cli.IntFlag{Name: "keep-batches", Value: 200_000, Usage: "of how many batches and pages to keep it at most",
				Sources: Env("KEEP_BATCHES")},
			&cli.StringFlag{Name: "log", Value: "text", Usage: "how to log: text or json", Sources: Env("LOG")},
			&cli.StringFlag{Name: "log-level", Value: "info", Usage: "least level to log: debug, info, warn or error",
				Sources: Env("LOG_LEVEL")},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			log, err := newLog(c.Root().ErrWriter, c.String("log"), c.String("log-level"))
			if err != nil {
				return err
			}
			origins, err := web.ParseOrigins(c.StringSlice("allow-origin"))
			if err != nil {
				return terminal.Usage(fmt.Errorf("--allow-origin: %w", err))
			}
			behind, err := web.ParseBehind(c.StringSlice("behind"))
			if err != nil {
				return terminal.Usage(fmt.Errorf("--behind: %w; take an address, or a range such as 10.0.0.0/8", err))
			}
			if os.Getenv("GOMEMLIMIT") == "" {
				debug.SetMemoryLimit(memoryLimit)
			}
			running, err := service.Start(ctx, service.Options{Listen: c.String("listen"), Database: c.String("database"),
				Data: c.String("data"),
				Open: c.Bool("open"), AdminPassword: c.String("admin-password"), Build: terminal.Build(), Console: console.Files(), Field: field.Files(), Log: log,
				TLSCert: c.String("tls-cert"), TLSKey: c.String("tls-key"), Behind: behind, Origins: origins,
				Rehearse:      RehearseApart,
				MetricsToken:  c.String("metrics-token"),
				RatePerSecond: c.Float("rate"), RateBurst: c.Int("burst"), MaxBodyBytes: c.Int64("max-body"),
				MaxChanges:    c.Int("max-changes"),
				KeepExchanges: c.Duration("keep-exchanges"), KeepBatches: c.Int("keep-batches"), FeedFolder: c.String("feed-folder")})
			if err != nil {
				return err
			}
			out := c.Root().Writer
			fmt.Fprintf(out, "Central is up at %s\n", running.URL())
			if running.FirstAdmin != "" {
				fmt.Fprintf(out, "Sign in as %s with the password %s (shown this once)\n", service.FirstAdminName,
					running.FirstAdmin)
			}
			if c.Bool("open") {
				fmt.Fprintln(out, OpenNotice)
			}
			return running.Wait(ctx)
		},
	}
}

// memoryLimit is how much memory the service takes before it collects what it no longer needs at once, in bytes. It
// is no bound: GOMEMLIMIT sets another.
const memoryLimit = 160 << 20

// OpenNotice warns that nobody needs to sign in.
const OpenNotice = "OPEN: nobody needs to sign in, and everybody on this machine may do everything."

func newLog(w io.Writer, form, level string) (*slog.Logger, error) {
	var least slog.Level
	if err := least.UnmarshalText([]byte(strings.ToUpper(level))); err != nil {
		return nil, terminal.Usage(fmt.Errorf("--log-level %q: take debug, info, warn or error", level))
	}
	options := &slog.HandlerOptions{Level: least}
	switch form {
	case "text":
		return slog.New(slog.NewTextHandler(w, options)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, options)), nil
	}
	return nil, terminal.Usage(fmt.Errorf("--log %q: take text or json", form))
}

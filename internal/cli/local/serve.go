package local

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"homing/device"
	"homing/door"
	"homing/internal/cli/terminal"
	"homing/web/loopback"
)

// serveCommand is homing local serve.
func serveCommand() *cli.Command {
	return &cli.Command{
		Name: "serve", Usage: "let apps on this machine work with the store over HTTP, with signal or without",
		Description: `The records API of central on this machine's loopback, over the local store: the same paths, answers and errors, described at /v1/openapi.json and by
homing openapi --door. Apps show a token that stands in a file which only you can read; it stays the same. Several apps and commands may use the store at once.

EXAMPLES
   homing local serve --every 10m
   curl -H "Authorization: Bearer $(cat store.db.door)" http://127.0.0.1:8410/v1/records/trails?search=ridge
   homing local serve --allow-origin http://localhost:5173     for a page that a browser shows`,
		Flags: storeFlags(
			&cli.StringFlag{Name: "listen", Value: "127.0.0.1:8410", Usage: "`ADDRESS` on this machine; port 0 takes a free one"},
			&cli.StringFlag{Name: "token-file", Usage: "`FILE` with the token, made where it is not there; the store's name with .door when left out"},
			&cli.StringSliceFlag{Name: "allow-origin", Usage: "let in pages from this `ORIGIN`, such as http://localhost:5173; may be given several times"},
			&cli.DurationFlag{Name: "every", Usage: "exchange again and again meanwhile, such as every `10m`"}),
		Action: serveDoor,
	}
}

func serveDoor(ctx context.Context, c *cli.Command) error {
	address, every := c.String("listen"), c.Duration("every")
	if !loopback.Name(address) {
		return terminal.Usage(fmt.Errorf("--listen %q: the door opens on this machine alone; take 127.0.0.1 and a port", address))
	}
	for _, origin := range c.StringSlice("allow-origin") {
		if at, err := url.Parse(origin); err != nil || at.Scheme == "" || at.Host == "" || at.Path != "" {
			return terminal.Usage(fmt.Errorf("--allow-origin %q: take a scheme and a host, such as http://localhost:5173", origin))
		}
	}
	if every != 0 && every < time.Second {
		return terminal.Usage(errors.New("--every: take a second or more"))
	}
	return withStore(ctx, c, func(store *device.Store) error {
		file := c.String("token-file")
		if file == "" {
			file = store.Path() + ".door"
		}
		token, err := doorToken(file)
		if err != nil {
			return err
		}
		listener, err := net.Listen("tcp", address)
		if err != nil {
			return fmt.Errorf("the door cannot open at %s: %w; take another port with --listen", address, err)
		}
		d := door.New(store, door.Options{Token: token, Build: terminal.Build(), Origins: c.StringSlice("allow-origin"),
			Log: slog.New(slog.NewTextHandler(c.Root().ErrWriter, nil))})
		fmt.Fprintf(c.Root().Writer, "The door of %s is open at http://%s\nIts token stands in %s. Ctrl-C closes it.\n", store.Path(), listener.Addr(), file)
		return openDoor(ctx, store, d, listener, every, func(format string, args ...any) { fmt.Fprintf(c.Root().ErrWriter, format+"\n", args...) })
	})
}

// openDoor serves until the context is done, or there is no store any more. Requests that are under way are finished
// first.
func openDoor(ctx context.Context, store *device.Store, d *door.Door, listener net.Listener, every time.Duration, say func(string, ...any)) error {
	watching, stop := context.WithCancel(ctx)
	defer stop()
	go d.Watch(watching)
	over := make(chan error, 1)
	repeated := make(chan struct{})
	if every > 0 {
		go func() {
			defer close(repeated)
			err := store.Repeat(watching, every, true, func(summary device.Summary, err error) {
				if err != nil {
					say("%s  %v", terminal.When(time.Now()), err)
				}
			})
			if err != nil && watching.Err() == nil {
				over <- err
			}
		}()
	} else {
		close(repeated)
	}
	server := &http.Server{Handler: d, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute}
	served := make(chan error, 1)
	go func() { served <- server.Serve(listener) }()
	var err error
	select {
	case err = <-served:
	case err = <-over:
	case <-d.Erased():
		err = device.ErrErased
	case <-ctx.Done():
	}
	d.StopListeners()
	stop()
	<-repeated
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 20*time.Second)
	defer cancel()
	return errors.Join(err, server.Shutdown(last))
}

// doorToken reads the token of a door, or makes one that only the user can read.
func doorToken(path string) (string, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		token := rand.Text()
		file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return "", err
		}
		_, err = file.WriteString(token + "\n")
		return token, errors.Join(err, file.Close())
	}
	if err != nil {
		return "", err
	}
	token := strings.TrimSpace(string(text))
	if len(token) < 16 {
		return "", terminal.Usage(fmt.Errorf("%s holds no token of 16 characters or more; delete it, and one is made", path))
	}
	return token, nil
}

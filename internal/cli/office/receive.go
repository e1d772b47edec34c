package office

import (
	"context"
	"crypto/hmac"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"homing/internal/cli/terminal"
	"homing/outlet"
)

// receiveCommand is homing feeds receive: a small receiver to try a feed with, and to learn from how one is written.
func receiveCommand() *cli.Command {
	return &cli.Command{Name: "receive", Usage: "receive what a feed posts, and write each event as a line: to try a feed with",
		Description: `It looks at the signature with the secret in HOMING_FEED_SECRET, and takes no event that is older than five minutes. An event that came before
is answered, and not written again.

EXAMPLE
   HOMING_FEED_SECRET=larch homing feeds receive --listen 127.0.0.1:9000 >> events.ndjson`,
		Flags: []cli.Flag{&cli.StringFlag{Name: "listen", Value: "127.0.0.1:9000", Usage: "`HOST:PORT` to answer on; port 0 takes a free one"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			secret := os.Getenv("HOMING_FEED_SECRET")
			if secret == "" {
				return terminal.Usage(errors.New("the secret of the feed is missing: set HOMING_FEED_SECRET"))
			}
			listener, err := net.Listen("tcp", c.String("listen"))
			if err != nil {
				return err
			}
			fmt.Fprintf(c.Root().ErrWriter, "receiving at http://%s\n", listener.Addr())
			server := &http.Server{Handler: NewReceiver(secret, c.Root().Writer), ReadHeaderTimeout: 10 * time.Second}
			stop := context.AfterFunc(ctx, func() { server.Close() })
			defer stop()
			if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			return nil
		}}
}

// NewReceiver receives signed events, and writes each as a line, once.
func NewReceiver(secret string, to io.Writer) http.Handler {
	const most, patience = 1 << 20, 5 * time.Minute
	key, seen := outlet.SigningKey(secret), map[string]bool{}
	turns := make(chan struct{}, 1) // one event after the other
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		turns <- struct{}{}
		defer func() { <-turns }()
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, most))
		if err != nil {
			http.Error(w, "the event is too large, or did not come whole", http.StatusRequestEntityTooLarge)
			return
		}
		id, at := r.Header.Get("Webhook-Id"), r.Header.Get("Webhook-Timestamp")
		seconds, err := strconv.ParseInt(at, 10, 64)
		age := time.Since(time.Unix(seconds, 0))
		fits := false
		for signature := range strings.FieldsSeq(r.Header.Get("Webhook-Signature")) {
			fits = fits || hmac.Equal([]byte(signature), []byte(outlet.Sign(key, id, at, body)))
		}
		if err != nil || !fits || age > patience || age < -patience {
			http.Error(w, "the signature does not fit, or is old", http.StatusUnauthorized)
			return
		}
		if !seen[id] {
			if _, err := fmt.Fprintf(to, "%s\n", body); err != nil {
				http.Error(w, "the event could not be written", http.StatusInternalServerError)
				return
			}
			seen[id] = true
		}
		w.WriteHeader(http.StatusNoContent)
	})
}

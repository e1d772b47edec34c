package cli_test

import (
	"context"
	"io"
	"net/http"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"homing/internal/cli"
	"homing/internal/testbed"
)

// homing local serve opens a door that asks for its token, shows what commands beside it save, and closes when it is told to.
func TestLocalServe(t *testing.T) {
	bed := hour(t)
	bed.Define("collection: trails\nlabel: \"{name}\"\nfields: {name: {type: string}}\n")
	fine(t, "local", "enrol", "--central", bed.URL(), "--name", "tablet")
	fine(t, "local", "exchange")
	path := os.Getenv("HOMING_STORE")
	var tokens []string
	for range 2 {
		ctx, stop := context.WithCancel(t.Context())
		read, write := io.Pipe()
		ended := make(chan int, 1)
		go func() {
			ended <- cli.Run(ctx, []string{"homing", "local", "serve", "--listen", "127.0.0.1:0", "--every", "1h"}, write, io.Discard)
		}()
		said := make([]byte, 1000)
		n, err := read.Read(said)
		testbed.Must(t, err)
		go io.Copy(io.Discard, read) // what it says besides
		address := regexp.MustCompile(`http://127\.0\.0\.1:\d+`).FindString(string(said[:n]))
		info, err := os.Stat(path + ".door")
		testbed.Must(t, err)
		if address == "" || info.Mode().Perm() != 0o600 {
			t.Fatalf("it says %q; its token's file is %v", said[:n], info.Mode())
		}
		token, err := os.ReadFile(path + ".door")
		testbed.Must(t, err)
		tokens = append(tokens, string(token))
		fine(t, "local", "add", "trails", "--set", "name=Ridge Path")
		request, err := http.NewRequestWithContext(t.Context(), "GET", address+"/v1/records/trails?search=ridge", nil)
		testbed.Must(t, err)
		request.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
		response, err := http.DefaultClient.Do(request)
		testbed.Must(t, err)
		text, err := io.ReadAll(response.Body)
		testbed.Must(t, err)
		response.Body.Close()
		if response.StatusCode != 200 || !strings.Contains(string(text), "Ridge Path") {
			t.Errorf("%s %s", response.Status, text)
		}
		stop()
		select {
		case code := <-ended:
			if code != 0 {
				t.Errorf("it ends with %d", code)
			}
		case <-time.After(30 * time.Second):
			t.Fatal("it does not end")
		}
	}
	if tokens[0] != tokens[1] || len(tokens[0]) < 20 {
		t.Errorf("the token is another after a restart: %q", tokens)
	}
	for _, wrong := range [][]string{{"--listen", "0.0.0.0:8410"}, {"--allow-origin", "localhost"}, {"--every", "1ms"}} {
		if _, told, code := homing(t, append([]string{"local", "serve"}, wrong...)...); code != 2 || !strings.Contains(told, wrong[0]) {
			t.Errorf("%v: %d %s", wrong, code, told)
		}
	}
	if out := fine(t, "openapi", "--door"); !strings.Contains(out, "save-group") {
		t.Error("the door is not described")
	}
}

package web_test

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"homing/internal/testbed"
)

// Many ask at once, in every encoding, some with bodies that are cut off, some going away before they are answered: each
// gets its own answer, whole, whoever had the compressor before.
func TestCompressedAnswersStayApart(t *testing.T) {
	bed := testbed.Start(t)
	lead := bed.SignIn("lead")
	var all sync.WaitGroup
	for n := range 8 {
		all.Go(func() {
			for k := range 25 {
				encoding := []string{"gzip", "zstd", "identity", "zstd, gzip"}[(n+k)%4]
				name := fmt.Sprintf("Trail %d of %d ", k, n) + strings.Repeat("long ", k*20)
				if got := put(t, bed, lead, encoding, name); got != name {
					t.Errorf("%s: it is called %.40q, not %.40q", encoding, got, name)
				}
			}
		})
	}
	all.Wait()
}

// put adds a trail by a request and an answer in an encoding, and gives what it is called.
func put(t *testing.T, bed *testbed.Bed, token, encoding, name string) string {
	t.Helper()
	text := []byte(fmt.Sprintf(`{"fields":{"name":%q}}`, name))
	first, _, _ := strings.Cut(encoding, ",")
	send := func(body []byte) *http.Response {
		request, err := http.NewRequest(http.MethodPost, bed.URL()+"/v1/records/trails", bytes.NewReader(body))
		testbed.Must(t, err)
		request.Header.Set("Authorization", "Bearer "+token)
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set("Accept-Encoding", encoding)
		request.Header.Set("Content-Encoding", first)
		response, err := http.DefaultTransport.RoundTrip(request)
		testbed.Must(t, err)
		return response
	}
	packed := packedAs(t, first, text)
	if first != "identity" {
		cut := send(packed[:len(packed)/2])
		io.Copy(io.Discard, cut.Body)
		cut.Body.Close()
		if cut.StatusCode != http.StatusBadRequest {
			t.Errorf("%s, cut in the middle: %d", encoding, cut.StatusCode)
		}
	}
	response := send(packed)
	defer response.Body.Close()
	var from io.Reader = response.Body
	var err error
	switch response.Header.Get("Content-Encoding") {
	case "gzip":
		from, err = gzip.NewReader(from)
	case "zstd":
		from, err = zstd.NewReader(from)
	}
	testbed.Must(t, err)
	answer, err := io.ReadAll(from)
	testbed.Must(t, err)
	_, rest, _ := strings.Cut(string(answer), `"name":"`)
	got, _, _ := strings.Cut(rest, `"`)
	return got
}

func packedAs(t *testing.T, encoding string, text []byte) []byte {
	t.Helper()
	var to bytes.Buffer
	var writer io.WriteCloser
	switch encoding {
	case "gzip":
		writer = gzip.NewWriter(&to)
	case "zstd":
		packer, err := zstd.NewWriter(&to)
		testbed.Must(t, err)
		writer = packer
	default:
		return text
	}
	_, err := writer.Write(text)
	testbed.Must(t, err)
	testbed.Must(t, writer.Close())
	return to.Bytes()
}

package web_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"homing/device"
	"homing/internal/testbed"
	"homing/link"
	"homing/service"
	"homing/web"
	"homing/wire"
)

// certify writes a certificate for this machine, with a number by which it is told from others.
func certify(t *testing.T, folder string, number int64) (cert, key string, pool *x509.CertPool) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	testbed.Must(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(number), NotAfter: time.Now().Add(time.Hour), IsCA: true,
		BasicConstraintsValid: true, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	testbed.Must(t, err)
	secret, err := x509.MarshalECPrivateKey(private)
	testbed.Must(t, err)
	cert, key, pool = filepath.Join(folder, "central.crt"), filepath.Join(folder, "central.key"), x509.NewCertPool()
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	testbed.Must(t, os.WriteFile(cert, text, 0o600))
	testbed.Must(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: secret}), 0o600))
	pool.AppendCertsFromPEM(text)
	return cert, key, pool
}

// P11: central speaks HTTPS by itself, takes a renewed certificate without a restart, keeps its cookies to it, and a
// device works over it.
func TestP11OverHTTPS(t *testing.T) {
	folder := t.TempDir()
	cert, key, pool := certify(t, folder, 1)
	bed := testbed.Start(t, func(o *service.Options) { o.TLSCert, o.TLSKey = cert, key })
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	got, err := client.Post(bed.URL()+"/v1/session", "application/json", strings.NewReader(`{"worker":"lead","password":"`+testbed.Password+`"}`))
	testbed.Must(t, err)
	got.Body.Close()
	cookie := got.Header.Get("Set-Cookie")
	for _, want := range []string{"__Host-homing_session=ses_", "Secure", "HttpOnly", "SameSite=Strict", "Path=/"} {
		if !strings.Contains(cookie, want) {
			t.Errorf("the cookie %q lacks %q", cookie, want)
		}
	}
	if got.Header.Get("Strict-Transport-Security") == "" || got.Header.Get("Cache-Control") != "no-store" {
		t.Errorf("headers: %v", got.Header)
	}
	r, err := http.NewRequest("GET", bed.URL()+"/v1/session", nil)
	testbed.Must(t, err)
	r.Header.Set("Cookie", strings.SplitN(cookie, ";", 2)[0])
	if got, err = client.Do(r); err != nil || got.StatusCode != http.StatusOK {
		t.Errorf("with the cookie: %v, %v", got, err)
	}
	store, err := device.Open(t.Context(), filepath.Join(folder, "store.db"), device.Options{Transport: client.Transport})
	testbed.Must(t, err)
	defer store.Close()
	testbed.Must(t, store.Enrol(t.Context(), bed.URL(), bed.Code("worker"), "tablet"))
	testbed.Exchange(t, store)

	_, _, renewed := certify(t, folder, 2)
	testbed.Must(t, os.Chtimes(cert, time.Now().Add(time.Minute), time.Now().Add(time.Minute)))
	for n := 0; ; n++ {
		conn, err := tls.Dial("tcp", strings.TrimPrefix(bed.URL(), "https://"), &tls.Config{RootCAs: renewed})
		if err == nil {
			if number := conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64(); number != 2 {
				t.Errorf("certificate %d", number)
			}
			conn.Close()
			break
		}
		if n == 50 {
			t.Fatalf("the renewed certificate is not taken: %v", err)
		}
		time.Sleep(100 * time.Millisecond) // files are looked at once a second
	}
	for _, broken := range []service.Options{{TLSCert: cert}, {TLSCert: key, TLSKey: cert}} {
		broken.Listen, broken.Log = "127.0.0.1:0", bed.QuietLog()
		if _, err := service.Start(t.Context(), broken); err == nil || !strings.Contains(err.Error(), "ertificate") && !strings.Contains(err.Error(), "--tls-key") {
			t.Errorf("%+v: %v", broken.TLSCert, err)
		}
	}
}

// P11: admins are told where passwords and records could be read on the way; nobody else is.
func TestP11AnOpenDoorIsTold(t *testing.T) {
	bed := testbed.Start(t, func(o *service.Options) { o.Listen = "0.0.0.0:0" })
	if !strings.Contains(bed.Log.String(), "plain HTTP") {
		t.Errorf("the log does not warn: %s", bed.Log)
	}
	at := "http://127.0.0.1" + bed.URL()[strings.LastIndex(bed.URL(), ":"):]
	for role, want := range map[string]bool{"admin": true, "lead": false} {
		got, err := http.Post(at+"/v1/session", "application/json", strings.NewReader(`{"worker":"`+role+`","password":"`+testbed.Password+`"}`))
		testbed.Must(t, err)
		text := make([]byte, 4096)
		n, _ := got.Body.Read(text)
		got.Body.Close()
		if strings.Contains(string(text[:n]), "plain HTTP") != want {
			t.Errorf("%s is told %s", role, text[:n])
		}
	}
}

// P11: clients send no token, no password and no record over plain HTTP to another machine unless they are told to, and
// follow nobody to another origin.
func TestP11NothingGoesInTheClear(t *testing.T) {
	for address, refused := range map[string]bool{"http://central.example": true, "http://192.0.2.1:8400": true, "http://localhost:8400": false,
		"http://127.0.0.1:8400": false, "http://[::1]:8400": false, "https://central.example": false} {
		_, err := link.New(address, "t", "test", link.How{})
		if (err != nil) != refused || refused && !strings.Contains(err.Error(), "--in-the-clear") {
			t.Errorf("%s: %v", address, err)
		}
		if _, err := link.New(address, "t", "test", link.How{InTheClear: true}); err != nil {
			t.Errorf("%s, when told to: %v", address, err)
		}
	}
	heard := ""
	elsewhere := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		text := make([]byte, 1000)
		n, _ := r.Body.Read(text)
		heard += r.Header.Get("Authorization") + string(text[:n])
	}))
	defer elsewhere.Close()
	here := httptest.NewServer(http.RedirectHandler(elsewhere.URL, http.StatusTemporaryRedirect))
	defer here.Close()
	l, err := link.New(here.URL, "ses_secret", "test", link.How{})
	testbed.Must(t, err)
	_, err = l.Call(t.Context(), "POST", "/v1/session", nil, map[string]string{"password": "secret"}, nil)
	if err == nil || !strings.Contains(err.Error(), "elsewhere") || heard != "" {
		t.Errorf("it went along: %v, %q", err, heard)
	}
	if _, err := l.Listen(t.Context(), "/v1/events"); err == nil || heard != "" {
		t.Errorf("it went along to listen: %v, %q", err, heard)
	}
}

// P11: an address is taken from what a proxy says only where central stands behind that proxy, and tries are slowed by
// worker and by address whatever the rate is.
func TestP11TriesAreSlowed(t *testing.T) {
	behind, err := web.ParseBehind([]string{"10.0.0.1", "10.1.0.0/16"})
	testbed.Must(t, err)
	bed := testbed.Start(t, func(o *service.Options) { o.Behind, o.RatePerSecond = behind, 0 })
	ask := func(from, said, worker, password string) int {
		r := httptest.NewRequest("POST", "/v1/session", strings.NewReader(`{"worker":"`+worker+`","password":"`+password+`"}`))
		r.RemoteAddr = from + ":1"
		r.Header.Set("Content-Type", "application/json")
		if strings.Contains(said, "=") {
			r.Header.Set("Forwarded", said)
		} else if said != "" {
			r.Header.Set("X-Forwarded-For", said)
		}
		got := httptest.NewRecorder()
		bed.Server().ServeHTTP(got, r)
		if got.Code == http.StatusTooManyRequests && got.Header().Get("Retry-After") == "" {
			t.Error("it does not say when to come again")
		}
		return got.Code
	}
	count := func(do func(n int) int) (slowed int) {
		for n := range 30 {
			if do(n) == http.StatusTooManyRequests {
				slowed++
			}
		}
		return slowed
	}
	nobody := func(n int) string { return "nobody" + string(rune('a'+n%26)) + string(rune('a'+n/26)) }
	for name, one := range map[string]struct {
		do    func(n int) int
		least int
		most  int
	}{
		"one address, many names":     {func(n int) int { return ask("192.0.2.1", "", nobody(n), "x") }, 8, 10},
		"an address that it makes up": {func(n int) int { return ask("192.0.2.2", "198.51.100."+nobody(n)[6:], nobody(n), "x") }, 8, 10},
		"made up before a proxy":      {func(n int) int { return ask("10.0.0.1", "198.51.100.9, 192.0.2.3", nobody(n), "x") }, 8, 10},
		"many addresses behind proxies": {func(n int) int {
			return ask("10.0.0.1", "for=203.0.113."+string(rune('1'+n%9))+string(rune('0'+n/9))+", for=10.1.2.3", nobody(n), "x")
		}, 0, 0},
		"one name from many addresses": {func(n int) int { return ask("203.0.114."+string(rune('1'+n%9)), "", "lead", "x") }, 19, 21},
	} {
		began := time.Now()
		slowed := count(one.do)
		least := max(one.least-int(time.Since(began)/time.Second), min(one.least, 1)) // a try more comes back with each second, and a busy machine takes some
		if slowed < least || slowed > one.most {
			t.Errorf("%s: %d of 30 were slowed", name, slowed)
		}
	}
	if status := ask("203.0.115.1", "", "worker", testbed.Password); status != http.StatusOK {
		t.Errorf("others are slowed with them: %d", status)
	}
	for range 40 { // right ones are not counted
		if status := ask("203.0.115.2", "", "worker", testbed.Password); status != http.StatusOK {
			t.Fatalf("a right password is slowed: %d", status)
		}
	}
	var all sync.WaitGroup // also not many at once: a fleet behind one address signs in as one
	for range 60 {
		all.Go(func() {
			if status := ask("203.0.115.3", "", "worker", testbed.Password); status != http.StatusOK {
				t.Errorf("one of many right passwords at once is slowed: %d", status)
			}
		})
	}
	all.Wait()
	made := 0
	for range 80 {
		r := httptest.NewRequest("GET", "/v1/records/trails", nil)
		r.RemoteAddr = "203.0.116.1:1"
		r.Header.Set("Authorization", "Bearer dev_"+uuid.NewString())
		got := httptest.NewRecorder()
		if bed.Server().ServeHTTP(got, r); got.Code == http.StatusTooManyRequests {
			made++
		}
	}
	if made < 15 {
		t.Errorf("%d of 80 made-up tokens were slowed", made)
	}
	if _, err := web.ParseBehind([]string{"the-proxy"}); err == nil {
		t.Error("a name is taken for an address")
	}
}

// P11: metrics are for this machine or for who has their token; no label and no log line is made of what callers make
// up; the host's name does not travel.
func TestP11MetricsAndIds(t *testing.T) {
	bed := testbed.Start(t)
	ask := func(path, from, token, method, id string) *httptest.ResponseRecorder {
		r := httptest.NewRequest("GET", path, nil)
		r.Method, r.RemoteAddr = method, from+":1"
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		r.Header.Set("X-Request-Id", id)
		got := httptest.NewRecorder()
		bed.Server().ServeHTTP(got, r)
		return got
	}
	for n := range 2000 {
		ask("/v1/hello", "192.0.2.1", "", "MADEUP"+string(rune('A'+n%26))+string(rune('A'+n/26%26))+string(rune('A'+n/676)), "")
	}
	got := ask("/metrics", "127.0.0.1", "", "GET", "")
	if got.Code != 200 || strings.Contains(got.Body.String(), "MADEUP") || got.Body.Len() > 100_000 {
		t.Errorf("metrics: %d, %d bytes", got.Code, got.Body.Len())
	}
	if got := ask("/metrics", "192.0.2.1", "", "GET", ""); got.Code != http.StatusForbidden {
		t.Errorf("metrics for others: %d", got.Code)
	}
	host, err := os.Hostname()
	testbed.Must(t, err)
	for id, taken := range map[string]bool{"job-17.a": true, "": false, "a b": false, strings.Repeat("x", 41): false, "x\x1b[2J": false} {
		answered := ask("/v1/hello", "127.0.0.1", "", "GET", id).Header().Get("Homing-Request")
		if (answered == id) != taken || answered == "" || strings.Contains(answered, host+"/") {
			t.Errorf("the id %q became %q", id, answered)
		}
	}
	closed := testbed.Start(t, func(o *service.Options) { o.MetricsToken = "only-for-the-watcher" })
	for token, want := range map[string]int{"": 403, "wrong": 403, "only-for-the-watcher": 200} {
		if status, _ := closed.Call("GET", "/metrics", token, nil); status != want {
			t.Errorf("metrics with the token %q: %d", token, status)
		}
	}
}

// P11: links and their QR codes lead to addresses of the web alone.
func TestP11LinksLeadToTheWeb(t *testing.T) {
	bed := testbed.Start(t)
	lead := bed.SignIn("lead")
	for _, central := range []string{"javascript:alert(1)//", "data:text/html,x", "ftp://central.example", "//central.example", "central", "https://a@b.example"} {
		must(t, bed, 422, "POST", "/v1/codes", lead, map[string]any{"central": central})
		if _, _, err := wire.ReadEnrolmentLink(central + "/enrol#CODE"); err == nil && !strings.HasPrefix(central, "https") {
			t.Errorf("%s is read as a link", central)
		}
	}
	must(t, bed, 201, "POST", "/v1/codes", lead, map[string]any{"central": "https://central.example/homing/"})
}

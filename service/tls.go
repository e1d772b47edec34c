package service

import (
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"sync"
	"time"
)

// certificate is a certificate in files, read again when they change, so that a renewed one is taken without a restart.
type certificate struct {
	certFile, keyFile string

	mu     sync.Mutex
	loaded *tls.Certificate // guarded by mu, as are the others
	stamp  string           // when the files were last written
	looked time.Time
}

// lookAgain is how often the files are looked at, at most.
const lookAgain = time.Second

func (c *certificate) load() error {
	stamp := ""
	for _, file := range []string{c.certFile, c.keyFile} {
		info, err := os.Stat(file)
		if err != nil {
			return fmt.Errorf("the certificate for HTTPS: %w", err)
		}
		stamp += info.ModTime().String() + " "
	}
	if stamp == c.stamp {
		return nil
	}
	pair, err := tls.LoadX509KeyPair(c.certFile, c.keyFile)
	if err != nil {
		return fmt.Errorf("the certificate for HTTPS in %s and %s: %w", c.certFile, c.keyFile, err)
	}
	c.loaded, c.stamp = &pair, stamp
	return nil
}

// get gives the certificate. While the files are being replaced, or are no good, it gives the one before.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) > lookAgain {
		c.looked = now
		if err := c.load(); err != nil && c.loaded == nil {
			return nil, err
		}
	}
	return c.loaded, nil
}

// secure lets a listener speak TLS, if there is a certificate.
func secure(listener net.Listener, options Options) (net.Listener, error) {
	if (options.TLSCert == "") != (options.TLSKey == "") {
		return nil, fmt.Errorf("--tls-cert and --tls-key go together: name both files")
	}
	if options.TLSCert == "" {
		return listener, nil
	}
	c := &certificate{certFile: options.TLSCert, keyFile: options.TLSKey}
	if err := c.load(); err != nil {
		return nil, err
	}
	return tls.NewListener(listener, &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.get,
		NextProtos: []string{"http/1.1"}}), nil
}

// warnings are what about central's door is not as it should be.
func warnings(options Options) (all []string) {
	if options.TLSCert == "" && len(options.Behind) == 0 && loopbackOnly(options.Listen) != nil {
		all = append(all, "Central answers other machines over plain HTTP: passwords, tokens and records can be read on the way. "+
			"Give it a certificate with --tls-cert and --tls-key, or name the proxy that does so with --behind.")
	}
	return all
}

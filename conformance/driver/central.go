package driver

import (
	"fmt"
	"net/http"
	"net/url"
)

// ToCentral is the way of a driven device's requests to a central that runs at an address.
func ToCentral(address string) (http.RoundTripper, error) {
	at, err := url.Parse(address)
	if err != nil {
		return nil, fmt.Errorf("the address of central: %w", err)
	}
	return toCentral{at}, nil
}

type toCentral struct{ at *url.URL }

func (c toCentral) RoundTrip(r *http.Request) (*http.Response, error) {
	on := r.Clone(r.Context())
	on.URL.Scheme, on.URL.Host, on.Host = c.at.Scheme, c.at.Host, c.at.Host
	return http.DefaultTransport.RoundTrip(on)
}

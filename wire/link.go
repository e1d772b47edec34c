package wire

import (
	"fmt"
	"net/url"
	"strings"
)

// EnrolmentLink joins central's address and an enrolment code, for a QR code to carry. The code stands in the
// fragment, which browsers do not send, so it does not turn up in anybody's log.
//
// Only addresses of http and https are joined: a link is scanned with a camera and opened without a second look.
func EnrolmentLink(central, code string) (string, error) {
	at, err := url.Parse(central)
	if err != nil || at.Scheme != "http" && at.Scheme != "https" || at.Host == "" || at.User != nil || at.RawQuery != "" ||
		at.Fragment != "" {
		return "", fmt.Errorf("%q is not the address of a central; write it like https://central.example", central)
	}
	return strings.TrimRight(at.String(), "/") + "/enrol#" + code, nil
}

// ReadEnrolmentLink takes a link apart again.
func ReadEnrolmentLink(link string) (central, code string, err error) {
	parsed, err := url.Parse(strings.TrimSpace(link))
	if err != nil || parsed.Scheme != "http" && parsed.Scheme != "https" ||
		parsed.Host == "" || parsed.Fragment == "" || !strings.HasSuffix(parsed.Path, "/enrol") {
		return "", "", fmt.Errorf("%q is not an enrolment link: it reads https://CENTRAL/enrol#CODE", link)
	}
	code = parsed.Fragment
	parsed.Fragment, parsed.Path = "", strings.TrimSuffix(parsed.Path, "/enrol")
	return parsed.String(), code, nil
}

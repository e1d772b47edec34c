package wire

import (
	"fmt"
	"net/url"
	"strings"
)

// EnrolmentLink joins central's address and an enrolment code, for a QR code to carry. The code stands in the
// fragment, which browsers do not send, so it does not turn up in anybody's log.
func EnrolmentLink(central, code string) string {
	return strings.TrimRight(central, "/") + "/enrol#" + code
}

// ReadEnrolmentLink takes a link apart again.
func ReadEnrolmentLink(link string) (central, code string, err error) {
	parsed, err := url.Parse(strings.TrimSpace(link))
	if err != nil || parsed.Host == "" || parsed.Fragment == "" || !strings.HasSuffix(parsed.Path, "/enrol") {
		return "", "", fmt.Errorf("%q is not an enrolment link: it reads https://CENTRAL/enrol#CODE", link)
	}
	code = parsed.Fragment
	parsed.Fragment, parsed.Path = "", strings.TrimSuffix(parsed.Path, "/enrol")
	return parsed.String(), code, nil
}

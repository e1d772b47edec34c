package central

import (
	"errors"
	"fmt"

	"homing/core/change"
)

// Kind is what sort of thing went wrong, for those who act on it.
type Kind string

// The kinds of errors that callers act on. Anything else is central's own trouble.
const (
	NotFound        Kind = "not-found"
	NotAllowed      Kind = "not-allowed"
	Unauthenticated Kind = "unauthenticated"
	Revoked         Kind = "revoked" // the device may no longer do this
	Invalid         Kind = "invalid"
	Clash           Kind = "clash" // it contradicts what is there
	TooLarge        Kind = "too-large"
	StorageFull     Kind = "storage-full"
	Unavailable     Kind = "unavailable"
	Coverage        Kind = "coverage-changed" // the device asks for territories that its worker does not hold now
)

// Error is something that the asker can do something about.
type Error struct {
	Kind    Kind
	Message string
	Reasons []change.Reason
}

func (e *Error) Error() string { return e.Message }

func fail(kind Kind, format string, args ...any) error {
	return &Error{Kind: kind, Message: fmt.Sprintf(format, args...)}
}

// Explain gives the [*Error] that err is or stands for, or nil when err is a fault of the program. A database that is full,
// shutting down or gone is not the program's fault, and the device should keep what it has and try again.
func Explain(err error) *Error {
	var known *Error
	if errors.As(err, &known) {
		return known
	}
	switch state := sqlState(err); {
	case state == "53100":
		return &Error{Kind: StorageFull, Message: "central's disk is full; nothing of this request was stored, send it again later"}
	case state != "" && (state[:2] == "53" || state[:2] == "57" || state[:2] == "08" || state[:2] == "58"):
		return &Error{Kind: Unavailable, Message: "central's database is not available; nothing of this request was stored, send it again later"}
	case state == "22021" || state == "22P05":
		return &Error{Kind: Invalid, Message: "a text holds the character U+0000, or is not UTF-8; neither can be stored or looked for"}
	case again(err):
		return &Error{Kind: Unavailable, Message: "too many edits of the same records at once; send the request again"}
	}
	return nil
}

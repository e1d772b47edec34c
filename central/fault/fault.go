// Package fault holds the errors of central that an asker can do something about. Anything else is central's own
// trouble.
package fault

import (
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5/pgconn"

	"homing/core/change"
)

// Kind is what sort of thing went wrong, for those who act on it.
type Kind string

// The kinds of errors that callers act on.
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
	Coverage        Kind = "coverage-changed"   // the device asks for territories that its worker does not hold now
	Moved           Kind = "generation-changed" // the database is not where the device left it, and has a new generation
)

// Error is something that the asker can do something about.
type Error struct {
	Kind    Kind
	Message string
	Reasons []change.Reason
}

func (e *Error) Error() string { return e.Message }

// Fail makes an [*Error].
func Fail(kind Kind, format string, args ...any) error {
	return &Error{Kind: kind, Message: fmt.Sprintf(format, args...)}
}

// Refused makes an [*Error] of the reasons for which a change was refused.
func Refused(reasons []change.Reason) error {
	kind, message := Invalid, "the change was refused"
	if len(reasons) > 0 {
		switch reasons[0].Code {
		case change.CodeNotAllowed:
			kind = NotAllowed
		case change.CodeUnknownCollection, change.CodeUnknownRecord:
			kind = NotFound
		case change.CodeRemoved, change.CodeUnknownBase, change.CodeHasChildren:
			kind = Clash
		}
		message = "the change was refused: " + reasons[0].Message
		if reasons[0].Field != "" {
			message = "the change was refused: " + reasons[0].Field + ": " + reasons[0].Message
		}
	}
	return &Error{Kind: kind, Message: message, Reasons: reasons}
}

// ErrRaced says that another transaction got in between; what was read must be read again.
var ErrRaced = errors.New("another transaction got in between")

// Again says whether a transaction that failed may succeed when it is tried again: PostgreSQL broke it off in favour of
// another, or another got in between.
func Again(err error) bool {
	var wrong *pgconn.PgError
	// Two who add the same record at the same time both find that it is not there.
	addedAtOnce := errors.As(err, &wrong) && wrong.Code == "23505" && (wrong.ConstraintName == "versions_pkey" || wrong.ConstraintName == "records_pkey")
	return errors.Is(err, ErrRaced) || addedAtOnce || State(err) == "40001" || State(err) == "40P01"
}

// State is PostgreSQL's error code, or empty.
func State(err error) string {
	var wrong *pgconn.PgError
	if errors.As(err, &wrong) {
		return wrong.Code
	}
	return ""
}

const sendAgain = "; nothing of this request was stored, send it again later"

// Full says that central's disk has no room left.
func Full() *Error { return &Error{Kind: StorageFull, Message: "central's disk is full" + sendAgain} }

// Explain gives the [*Error] that err is or stands for, or nil when err is a fault of the program. A database that is
// full, shutting down or gone is not the program's fault, and the device should keep what it has and try again.
func Explain(err error) *Error {
	var known *Error
	if errors.As(err, &known) {
		return known
	}
	switch state := State(err); {
	case state == "53100":
		return Full()
	case state != "" && (state[:2] == "53" || state[:2] == "57" || state[:2] == "08" || state[:2] == "58"),
		unreachable(err):
		return &Error{Kind: Unavailable, Message: "central's database is not available" + sendAgain}
	case state == "22021" || state == "22P05":
		return &Error{Kind: Invalid, Message: "a text holds the character U+0000, or is not UTF-8; neither can be " +
			"stored or looked for"}
	case Again(err):
		return &Error{Kind: Unavailable, Message: "too many edits of the same records at once; send the request again"}
	}
	return nil
}

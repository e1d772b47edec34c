package driver

import (
	"errors"
	"fmt"

	"homing/device"
	"homing/link"
)

// Names of failures beyond those of package device.
const (
	NameUnknown     = "unknown"     // the program does not do what it was asked
	NameInvalid     = "invalid"     // a record that does not fit its definition
	NameProblem     = "problem"     // central said no
	NameUnreachable = "unreachable" // no answer
	NameOther       = "other"
)

// ErrUnknown says that a program does not do what it was asked.
var ErrUnknown = errors.New("the program does not do this")

// named are the failures that callers act on.
var named = map[string]error{
	NameUnknown: ErrUnknown, NameUnreachable: link.ErrUnreachable, "not-enrolled": device.ErrNotEnrolled, "enrolled": device.ErrEnrolled,
	"no-collection": device.ErrNoCollection, "no-record": device.ErrNoRecord, "no-change": device.ErrNoChange,
	"nobody": device.ErrNobody, "exists": device.ErrExists, "no-backup": device.ErrNoBackup, "busy": device.ErrBusy,
	"generation": device.ErrGeneration, "full": device.ErrFull, "damaged": device.ErrDamaged,
	"not-allowed": device.ErrNotAllowed, "clock": device.ErrClock, "signed-out": device.ErrSignedOut,
	"secret": device.ErrSecret, "slow-down": device.ErrSlowDown, "too-old": device.ErrTooOld,
	"has-children": device.ErrHasChildren, "unsent": device.ErrUnsent, "erased": device.ErrErased,
	"revoked": device.ErrRevoked, "group-size": device.ErrGroupSize, "no-dispute": device.ErrNoDispute,
}

// fail names an error.
func fail(err error) *Failure {
	f := &Failure{Name: NameOther, Message: err.Error()}
	var invalid *device.InvalidError
	var problem *link.Problem
	switch {
	case errors.As(err, &invalid):
		f.Name, f.Reasons = NameInvalid, invalid.Reasons
	case errors.As(err, &problem):
		f.Name, f.Problem = NameProblem, &problem.ProblemDetails
	default:
		for name, one := range named {
			if errors.Is(err, one) {
				f.Name = name
			}
		}
	}
	return f
}

// err is the error that a failure names, of a collection.
func (f *Failure) err(collection string) error {
	switch f.Name {
	case NameInvalid:
		return &device.InvalidError{Collection: collection, Reasons: f.Reasons}
	case NameProblem:
		if f.Problem != nil {
			return &link.Problem{ProblemDetails: *f.Problem}
		}
	}
	if one, known := named[f.Name]; known {
		return fmt.Errorf("%w: %s", one, f.Message)
	}
	return fmt.Errorf("the program failed (%s): %s", f.Name, f.Message)
}

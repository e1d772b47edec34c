package terminal

import (
	"context"
	"errors"
	"net/http"

	"homing/core/definition"
	"homing/device"
	"homing/link"
	"homing/service"
)

// Exit codes. The command's help lists them.
const (
	exitOK          = 0
	ExitFailed      = 1 // anything without a code of its own
	exitUsage       = 2 // the command line is wrong
	ExitNotFound    = 3 // no such collection, record, device
	ExitRefused     = 4 // something was not taken: an invalid record or file, a refused change
	ExitUnreachable = 5 // central did not answer; what is unsent stays queued
	ExitNotAllowed  = 6 // not signed in, not enrolled, or not allowed
	ExitBusy        = 7 // it contradicts what is there, or is being done already
	exitStore       = 8 // the disk is full, or a file is damaged
)

// ExitHelp lists the exit codes.
const ExitHelp = `EXIT CODES
   0 done   1 failed   2 wrong command line   3 not found   4 refused or invalid   5 central not reached
   6 not signed in, not enrolled or not allowed   7 busy or in conflict with what is there   8 disk full or file damaged`

// usageError is a mistake on the command line.
type usageError struct{ error }

// Usage makes an error a mistake on the command line.
func Usage(err error) error { return usageError{err} }

// codedError fixes the exit code of an error that has been said already, or that has no kind of its own.
type codedError struct {
	error
	code int
}

// Coded gives an error an exit code.
func Coded(err error, code int) error { return codedError{err, code} }

// hints are the commands that help with what the library says in its own words.
var hints = []struct {
	err     error
	command string
}{
	{device.ErrNotEnrolled, "homing local enrol, or homing local attach"}, {device.ErrSignedOut, "homing local sign-in WORKER"},
	{device.ErrNoCollection, "homing local status lists what there is"}, {device.ErrNoChange, "homing local review lists yours"},
	{device.ErrTooOld, "homing local exchange"}, {device.ErrNobody, "homing local people lists them"},
}

// Hint is the command that helps with an error; empty when none is known.
func Hint(err error) string {
	for _, one := range hints {
		if errors.Is(err, one.err) {
			return one.command
		}
	}
	return ""
}

// ExitCode is the exit code that an error ends the program with.
func ExitCode(err error) int {
	var fixed codedError
	var wrong usageError
	var problem *link.Problem
	var invalid *device.InvalidError
	var source *definition.SourceError
	is := func(targets ...error) bool {
		for _, target := range targets {
			if errors.Is(err, target) {
				return true
			}
		}
		return false
	}
	switch {
	case err == nil:
		return exitOK
	case errors.As(err, &fixed):
		return fixed.code
	case errors.As(err, &wrong):
		return exitUsage
	case errors.As(err, &invalid), errors.As(err, &source):
		return ExitRefused
	case is(link.ErrUnreachable):
		return ExitUnreachable
	case is(device.ErrNotEnrolled, device.ErrNotAllowed, device.ErrSealed, device.ErrPassphrase, device.ErrSignedOut,
		device.ErrSecret, device.ErrNobody, device.ErrSlowDown, device.ErrRevoked, device.ErrErased):
		return ExitNotAllowed
	case is(device.ErrNoRecord, device.ErrNoChange, device.ErrNoCollection, device.ErrNoBackup):
		return ExitNotFound
	case is(device.ErrBusy, device.ErrLocked, device.ErrEnrolled, device.ErrGeneration, device.ErrAmbiguous, device.ErrNotSealed,
		device.ErrHasChildren, device.ErrUnsent, device.ErrTooOld, device.ErrMetered, device.ErrClock, device.ErrExists,
		service.ErrInUse):
		return ExitBusy
	case is(device.ErrFull, device.ErrDamaged):
		return exitStore
	case errors.As(err, &problem):
		return problemCode(problem.Status)
	case is(context.Canceled):
		return ExitFailed
	}
	return ExitFailed
}

func problemCode(status int) int {
	switch status {
	case http.StatusNotFound:
		return ExitNotFound
	case http.StatusUnauthorized, http.StatusForbidden:
		return ExitNotAllowed
	case http.StatusConflict:
		return ExitBusy
	case http.StatusBadRequest, http.StatusUnprocessableEntity, http.StatusRequestEntityTooLarge:
		return ExitRefused
	case http.StatusServiceUnavailable, http.StatusBadGateway, http.StatusGatewayTimeout, http.StatusTooManyRequests,
		http.StatusInsufficientStorage:
		return ExitUnreachable
	}
	return ExitFailed
}

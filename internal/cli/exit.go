package cli

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
	exitFailed      = 1 // anything without a code of its own
	exitUsage       = 2 // the command line is wrong
	exitNotFound    = 3 // no such collection, record, device
	exitRefused     = 4 // something was not taken: an invalid record or file, a refused change
	exitUnreachable = 5 // central did not answer; what is unsent stays queued
	exitNotAllowed  = 6 // not signed in, not enrolled, or not allowed
	exitBusy        = 7 // it contradicts what is there, or is being done already
	exitStore       = 8 // the disk is full, or a file is damaged
)

const exitHelp = `EXIT CODES
   0 done   1 failed   2 wrong command line   3 not found   4 refused or invalid   5 central not reached
   6 not signed in, not enrolled or not allowed   7 busy or in conflict with what is there   8 disk full or file damaged`

// usageError is a mistake on the command line.
type usageError struct{ error }

// codedError fixes the exit code of an error that has been said already, or that has no kind of its own.
type codedError struct {
	error
	code int
}

func exitCode(err error) int {
	var coded codedError
	var usage usageError
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
	case errors.As(err, &coded):
		return coded.code
	case errors.As(err, &usage):
		return exitUsage
	case errors.As(err, &invalid), errors.As(err, &source):
		return exitRefused
	case is(link.ErrUnreachable):
		return exitUnreachable
	case is(device.ErrNotEnrolled, device.ErrNotAllowed, device.ErrSealed, device.ErrPassphrase, device.ErrSignedOut,
		device.ErrSecret, device.ErrSlowDown, device.ErrRevoked):
		return exitNotAllowed
	case is(device.ErrNoRecord, device.ErrNoCollection, device.ErrNoBackup):
		return exitNotFound
	case is(device.ErrBusy, device.ErrEnrolled, device.ErrGeneration, device.ErrAmbiguous, device.ErrNotSealed,
		device.ErrHasChildren, device.ErrUnsent, device.ErrTooOld, device.ErrMetered, device.ErrClock, device.ErrExists,
		service.ErrInUse):
		return exitBusy
	case is(device.ErrFull, device.ErrDamaged):
		return exitStore
	case errors.As(err, &problem):
		return problemCode(problem.Status)
	case is(context.Canceled):
		return exitFailed
	}
	return exitFailed
}

func problemCode(status int) int {
	switch status {
	case http.StatusNotFound:
		return exitNotFound
	case http.StatusUnauthorized, http.StatusForbidden:
		return exitNotAllowed
	case http.StatusConflict:
		return exitBusy
	case http.StatusBadRequest, http.StatusUnprocessableEntity, http.StatusRequestEntityTooLarge:
		return exitRefused
	case http.StatusServiceUnavailable, http.StatusBadGateway, http.StatusGatewayTimeout, http.StatusTooManyRequests,
		http.StatusInsufficientStorage:
		return exitUnreachable
	}
	return exitFailed
}

package device

import (
	"homing/core/coverage"
	"homing/device/internal/exchange"
	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/device/internal/people"
	"homing/device/internal/save"
)

// What a store is given and gives. The fields are described where each is made.
type (
	CollectionStatus = hold.CollectionStatus
	InvalidError     = file.InvalidError
	Summary          = exchange.Summary
	Progress         = exchange.Progress
	Group            = save.Group
	Changed          = file.Changed
	Worker           = people.Worker
	LostRecord       = exchange.LostRecord
	Fields           = hold.Fields
	Record           = hold.Record
	Found            = hold.Found
	Ask              = hold.Ask
	Queued           = save.Queued
	SaveOption       = save.SaveOption
	Status           = exchange.Status
	Logged           = exchange.Logged
	Options          = file.Options
	Tick             = file.Tick
	Carried          = exchange.Carried
	Verified         = exchange.Verified
	Difference       = exchange.Difference
	CoverageAsk      = save.CoverageAsk
	Total            = save.Total
	CoverageGrid     = coverage.Grid
)

// Errors that callers act on. Those of central come from package link.
var (
	ErrNotEnrolled  = file.ErrNotEnrolled
	ErrEnrolled     = file.ErrEnrolled
	ErrNoCollection = file.ErrNoCollection
	ErrNoRecord     = file.ErrNoRecord
	ErrTaken        = file.ErrTaken
	ErrNoChange     = file.ErrNoChange
	ErrNobody       = file.ErrNobody
	ErrAmbiguous    = file.ErrAmbiguous
	ErrExists       = file.ErrExists
	ErrNoBackup     = file.ErrNoBackup
	ErrBusy         = file.ErrBusy
	ErrGeneration   = file.ErrGeneration
	ErrFull         = file.ErrFull
	ErrLocked       = file.ErrLocked
	ErrDamaged      = file.ErrDamaged
	ErrNotAllowed   = file.ErrNotAllowed
	ErrClock        = file.ErrClock
	ErrSignedOut    = file.ErrSignedOut
	ErrSecret       = file.ErrSecret
	ErrSlowDown     = file.ErrSlowDown
	ErrTooOld       = file.ErrTooOld
	ErrHasChildren  = file.ErrHasChildren
	ErrUnsent       = file.ErrUnsent
	ErrErased       = file.ErrErased
	ErrRevoked      = file.ErrRevoked
	ErrGroupSize    = save.ErrGroupSize
	ErrMetered      = exchange.ErrMetered
	ErrSealed       = file.ErrSealed
	ErrNotSealed    = file.ErrNotSealed
	ErrPassphrase   = file.ErrPassphrase
	ErrNoDispute    = save.ErrNoDispute
)

// MaxGroup is how many changes a group has at most.
const MaxGroup = save.MaxGroup

// What a difference that [Store.Verify] finds is.
const (
	MissingHere = exchange.MissingHere
	OnlyHere    = exchange.OnlyHere
	OtherValues = exchange.OtherValues
)

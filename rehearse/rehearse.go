// Package rehearse lets a fleet that does not exist work with a central: simulated workers with simulated clocks save
// on real local stores, and exchange over a simulated network that loses, repeats, cuts and delays what it carries.
// Devices are killed, backed up, restored and copied, central is restored, workers come, go and move between
// territories, clocks are turned, definitions change. All of it follows from one seed, so that a run that went wrong
// can be played again.
//
// What is real: the core, the whole of package device with its SQLite files, the messages of the protocol, and what
// central accepts and delivers by. What is not: the network, the clocks and the people. Central's tables are in
// memory ([memory.Tables]), unless a database is given: then all of central is real, its HTTP door, its PostgreSQL,
// its backups and restores, and a run takes a second or more.
//
// When the work is over and everybody has exchanged, the outcome is held against a ledger of everything that every
// worker has saved, which none of the rest has a part in.
package rehearse

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"homing/conformance/driver"
	"homing/core/definition"
)

// Options say what to rehearse. The zero value rehearses random definitions.
type Options struct {
	Seed        uint64
	Definitions []definition.Definition // random ones when there are none
	Devices     int                     // 0 means 2 to 4, by the seed
	Steps       int                     // what the workers do, all in all; 0 means 20 for each collection
	Calm        bool                    // nothing goes wrong but that signal is rare
	Plain       bool                    // each device has one worker, and no store is asked to erase itself
	Bug         Bug                     // a mistake made on purpose
	// Driver is a program by which some devices are driven, as package driver says: those of which Driven says so by their
	// number. The others are of package device.
	Driver   driver.Command
	Driven   func(device int) bool
	Database string    // URL of an empty PostgreSQL database that central works on; empty means one in memory
	Folder   string    // for the local stores; empty means one in memory where the system has that
	Watch    io.Writer // hears the story while it goes on; may be nil
}

// Bug is a mistake that is made on purpose, to see that the rehearsal notices it.
type Bug string

// The mistakes.
const (
	NoBug         Bug = ""
	LostAnswers   Bug = "lost-answers"   // central forgets what it has answered
	CursorHole    Bug = "cursor-hole"    // a commit becomes visible behind cursors that have gone past it
	TrustedClock  Bug = "trusted-clock"  // edits are dated by the clocks of devices
	ClonedNumbers Bug = "cloned-numbers" // a restored store goes on as the one that it is a copy of
	SilentRoles   Bug = "silent-roles"   // nothing tells a device that other people use it, or that they may read something else
	NoSeals       Bug = "no-seals"       // devices do not show up to where they were answered, so a database put back goes unnoticed
	WideAnswered  Bug = "wide-answered"  // what any store of a device has answers to counts as what the asking one has
	OneMind       Bug = "one-mind"       // what people of one device save counts as having seen what the others have not sent
	LooseKeys     Bug = "loose-keys"     // central takes a second record with a key that is unique
	TwoForOne     Bug = "two-for-one"    // two who add the record for a place and a week make two
	QuietMoves    Bug = "quiet-moves"    // what a new definition lets others see is not told to the store that wrote it last
)

// Bugs are all of them.
var Bugs = []Bug{LostAnswers, CursorHole, TrustedClock, ClonedNumbers, SilentRoles, NoSeals, WideAnswered, OneMind, LooseKeys, TwoForOne, QuietMoves}

// Report is what came out of a rehearsal.
type Report struct {
	Seed      uint64         `json:"seed"`
	Devices   int            `json:"devices"`
	Saves     int            `json:"saves"`
	Exchanges int            `json:"exchanges"`
	Requests  int            `json:"requests"`
	Faults    int            `json:"faults"` // requests that were lost, repeated or cut, and kills
	Kills     int            `json:"kills"`
	Restores  int            `json:"restores"` // of stores and of central
	Erased    int            `json:"erased"`   // stores, since central asked for it
	Answers   map[string]int `json:"answers"`
	Decisions []Decided      `json:"decisions"`
	Records   int            `json:"records"`
	Settling  time.Duration  `json:"settling_ns"` // simulated time from the last save until all agreed
	Refused   map[string]int `json:"refused"`     // by code
	Wrong     []string       `json:"wrong,omitempty"`
	Story     []string       `json:"-"`
}

// Decided counts how contested values were decided.
type Decided struct {
	Collection string `json:"collection"`
	Field      string `json:"field"` // empty for removals
	Rule       string `json:"rule"`
	Count      int    `json:"count"`
}

// Run rehearses once. The error says that the rehearsal itself could not go on; what is wrong with the outcome stands
// in the report.
func Run(ctx context.Context, options Options) (Report, error) {
	folder, err := os.MkdirTemp(scratch(options.Folder), "homing-rehearsal-")
	if err != nil {
		return Report{}, err
	}
	defer os.RemoveAll(folder)
	w, err := newWorld(options, folder)
	if err != nil {
		return Report{}, err
	}
	err = w.play(ctx)
	if err == nil {
		err = w.check(ctx)
	}
	if err = errors.Join(err, w.close()); err != nil {
		return w.report, fmt.Errorf("seed %d: %w\n%s", options.Seed, err, w.tail(40))
	}
	w.count()
	return w.report, nil
}

// scratch is a folder in memory, where the system has one: thousands of small files are synced otherwise.
func scratch(folder string) string {
	if folder != "" {
		return folder
	}
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return ""
}

// Tell writes what went wrong, and the story that led to it.
func (r Report) Tell(w io.Writer) {
	if len(r.Wrong) == 0 {
		return
	}
	fmt.Fprintf(w, "Seed %d went wrong:\n  %s\nThe story:\n  %s\n", r.Seed, strings.Join(r.Wrong, "\n  "),
		strings.Join(r.Story, "\n  "))
}

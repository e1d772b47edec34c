package device

import (
	"context"

	"homing/device/internal/upkeep"
)

// Backup writes a copy of the store to a new file while the store is in use. The copy of an encrypted store is
// encrypted with the same passphrase.
func (s *Store) Backup(ctx context.Context, path string) error {
	return s.keeper.Backup(ctx, path)
}

// Backups are the copies of the store beside it that were made before risky steps.
func (s *Store) Backups() ([]string, error) {
	return s.keeper.Backups()
}

// Restore makes a store of a backup, in a file that is not there yet. The store gets a new incarnation, so that it
// reuses no number: what it saves from now on is told from what the lost store saved after the backup. What the
// backup holds unsent goes to central under the old incarnation, and counts once, even if the lost store has sent it.
// The lost store must not be used any more; if it turns up, discard it.
func Restore(ctx context.Context, backup, path string, options Options) error {
	return upkeep.Restore(ctx, backup, path, options)
}

// Detach makes the store a device no more. What it holds stays, unsent changes among it, and can be read and
// searched; to change or exchange anything it must be attached again. A backup is made first. It gives the backup's
// path.
func (s *Store) Detach(ctx context.Context) (string, error) {
	return s.keeper.Detach(ctx)
}

// Attach makes a detached store a device, of the central that it was with or of another. At the same central it goes
// on where it was, under a new incarnation, and what was unsent goes with the next exchange. At another central,
// everything that it holds is offered as new; records that are there under the same ids are merged field by field.
// With discard, what it holds is given up instead, and loaded from central. A backup is made first. It gives the
// backup's path.
func (s *Store) Attach(ctx context.Context, central, code, name string, discard bool) (string, error) {
	return s.keeper.Attach(ctx, central, code, name, discard)
}

// Erase deletes the store from this device, and the backups beside it that were made before risky steps: they hold
// what the store held. While there are changes that central has not accepted, it refuses unless discard is set; then
// it writes a backup first, to the given file. The store is closed by it.
func (s *Store) Erase(ctx context.Context, discard bool, backup string) error {
	return s.keeper.Erase(ctx, discard, backup)
}

// LoadAnew makes the next exchange load collections from the start; without names, all. What is unsent stays.
func (s *Store) LoadAnew(ctx context.Context, collections ...string) error {
	return s.keeper.LoadAnew(ctx, collections...)
}

// SetBudget bounds the bytes that records which were looked up may take; 0 lifts the bound. When there are more,
// those that were used least lately go first. What is unsent stays, and so does what the definitions keep always.
func (s *Store) SetBudget(ctx context.Context, bytes int64) error {
	return s.keeper.SetBudget(ctx, bytes)
}

// LookedUp gives how many bytes the records take that were looked up, about, and what they may take; 0 for no bound.
func (s *Store) LookedUp(ctx context.Context) (bytes, budget int64, err error) {
	return s.keeper.LookedUp(ctx)
}

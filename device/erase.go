package device

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// Erase deletes the store from this device, and the backups beside it that were made before risky steps: they hold
// what the store held. While there are changes that central has not accepted, it refuses unless discard is set; then
// it writes a backup first, to the given file. The store is closed by it.
func (s *Store) Erase(ctx context.Context, discard bool, backup string) error {
	unlock, err := s.lock()
	if err != nil {
		return err
	}
	defer unlock()
	var unsent int
	if err := s.db.GetContext(ctx, &unsent, `SELECT count(*) FROM outbox`); err != nil {
		return storeError(err)
	}
	backups, err := s.Backups() // before one is written now, which is to stay
	if err != nil {
		return fmt.Errorf("erase: %w", err)
	}
	switch {
	case unsent > 0 && !discard:
		return fmt.Errorf("%w: %d of them would be lost; exchange first, or discard them, which writes a backup", ErrUnsent,
			unsent)
	case unsent > 0:
		if err := s.Backup(ctx, backup); err != nil {
			return err
		}
	}
	if err := s.db.Close(); err != nil {
		return storeError(err)
	}
	for _, file := range append(backups, s.path) {
		if err := removeAll(file, file+"-wal", file+"-shm", saltPath(file), file+".exchange"); err != nil {
			return fmt.Errorf("erase: %w", err)
		}
	}
	return nil
}

// LoadAnew makes the next exchange load collections from the start; without names, all. What is unsent stays.
func (s *Store) LoadAnew(ctx context.Context, collections ...string) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		all, err := s.all(ctx, tx)
		if err != nil {
			return err
		}
		if len(collections) == 0 {
			for name := range all {
				collections = append(collections, name)
			}
		}
		for _, name := range collections {
			if all[name] == nil {
				return fmt.Errorf("%w: %s", ErrNoCollection, name)
			}
			if !all[name].Sync.Keep.Loads() || !all[name].Sync.Direction.Pulls() {
				continue
			}
			if err := s.forget(ctx, tx, name); err != nil {
				return err
			}
		}
		return nil
	})
}

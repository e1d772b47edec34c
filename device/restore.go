package device

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/jmoiron/sqlx"
)

// Restore makes a store of a backup, in a file that is not there yet. The store gets a new incarnation, so that it
// reuses no number: what it saves from now on is told from what the lost store saved after the backup. What the
// backup holds unsent goes to central under the old incarnation, and counts once, even if the lost store has sent it.
// The lost store must not be used any more; if it turns up, discard it.
func Restore(ctx context.Context, backup, path string, options Options) error {
	for _, file := range []string{path, saltPath(path)} {
		if _, err := os.Stat(file); err == nil {
			return fmt.Errorf("%w: %s; restore to a file that is not there yet", ErrExists, file)
		}
	}
	if _, err := os.Stat(backup); errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: %s", ErrNoBackup, backup)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("restore: %w", err)
	}
	for _, suffix := range []string{".salt", ""} {
		text, err := os.ReadFile(backup + suffix)
		if suffix != "" && errors.Is(err, fs.ErrNotExist) {
			continue // the backup is not encrypted
		}
		if err == nil {
			err = os.WriteFile(path+suffix, text, 0o600)
		}
		if err != nil {
			return fmt.Errorf("restore: %w", err)
		}
	}
	store, err := Open(ctx, path, options)
	if err == nil {
		err = errors.Join(store.renewIncarnation(ctx), store.Close())
	}
	if err != nil {
		// Without a new incarnation the copy could reuse numbers, so none is left.
		for _, suffix := range []string{"", "-wal", "-shm", ".salt"} {
			if gone := os.Remove(path + suffix); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
				err = errors.Join(err, gone)
			}
		}
		return fmt.Errorf("restore: %w", err)
	}
	return nil
}

func (s *Store) renewIncarnation(ctx context.Context) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		old, err := s.incarnation(ctx, tx)
		if err != nil {
			return err
		}
		token, err := fact(ctx, tx, factToken)
		if err != nil {
			return err
		}
		if token == "" {
			return ErrNotEnrolled
		}
		return newIncarnation(ctx, tx, s.newID().String(), old.String())
	})
}

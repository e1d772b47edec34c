package upkeep

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/jmoiron/sqlx"

	"homing/device/internal/file"
	"homing/device/internal/hold"
	"homing/device/internal/people"
)

// Restore makes a store of a backup, in a file that is not there yet. The store gets a new incarnation, so that it
// reuses no number: what it saves from now on is told from what the lost store saved after the backup. What the
// backup holds unsent goes to central under the old incarnation, and counts once, even if the lost store has sent it.
// The lost store must not be used any more; if it turns up, discard it.
func Restore(ctx context.Context, backup, path string, options file.Options) error {
	for _, taken := range []string{path, file.SaltPath(path)} {
		if _, err := os.Stat(taken); err == nil {
			return fmt.Errorf("%w: %s; restore to a file that is not there yet", file.ErrExists, taken)
		}
	}
	if _, err := os.Stat(backup); errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w: %s", file.ErrNoBackup, backup)
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
	store, err := file.Open(ctx, path, options)
	if err == nil {
		err = errors.Join(renewIncarnation(ctx, store), store.Close())
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

func renewIncarnation(ctx context.Context, s *file.File) error {
	return s.Within(ctx, func(tx *sqlx.Tx) error {
		old, err := s.Incarnation(ctx, tx)
		if err != nil {
			return err
		}
		token, err := file.Fact(ctx, tx, file.FactToken)
		if err != nil {
			return err
		}
		if token == "" {
			return file.ErrNotEnrolled
		}
		if err := people.NewIncarnation(ctx, tx, s.NewID().String(), old.String()); err != nil {
			return err
		}
		// Whoever restores a backup need not be who was signed in when it was made.
		var shared bool
		if err := tx.GetContext(ctx, &shared, `SELECT count(*) > 1 AND min(secret <> '') FROM people`); err != nil || !shared {
			return err
		}
		shelf, err := hold.New(ctx, s)
		if err != nil {
			return err
		}
		return people.New(shelf).Become(ctx, tx, "")
	})
}

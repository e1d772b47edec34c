package upkeep

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"

	"homing/device/internal/file"
)

// Erase is [device.Store.Erase].
func (s *Keeper) Erase(ctx context.Context, discard bool, backup string) error {
	unlock, err := s.Lock()
	if err != nil {
		return err
	}
	defer unlock()
	var unsent int
	if err := s.DB.GetContext(ctx, &unsent, `SELECT count(*) FROM outbox`); err != nil {
		return file.StoreError(err)
	}
	backups, err := s.Backups() // before one is written now, which is to stay
	if err != nil {
		return fmt.Errorf("erase: %w", err)
	}
	switch {
	case unsent > 0 && !discard:
		return fmt.Errorf("%w: %d of them would be lost; exchange first, or discard them, which writes a backup", file.ErrUnsent,
			unsent)
	case unsent > 0:
		if err := s.Backup(ctx, backup); err != nil {
			return err
		}
	}
	if err := s.DB.Close(); err != nil {
		return file.StoreError(err)
	}
	for _, path := range append(backups, s.Where) {
		if err := file.RemoveAll(path, path+"-wal", path+"-shm", file.SaltPath(path), path+".exchange"); err != nil {
			return fmt.Errorf("erase: %w", err)
		}
	}
	return nil
}

// LoadAnew is [device.Store.LoadAnew].
func (s *Keeper) LoadAnew(ctx context.Context, collections ...string) error {
	return s.Within(ctx, func(tx *sqlx.Tx) error {
		all, err := s.All(ctx, tx)
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
				return fmt.Errorf("%w: %s", file.ErrNoCollection, name)
			}
			if !all[name].Sync.Keep.Loads() || !all[name].Sync.Direction.Pulls() {
				continue
			}
			if err := s.Forget(ctx, tx, name); err != nil {
				return err
			}
		}
		return nil
	})
}

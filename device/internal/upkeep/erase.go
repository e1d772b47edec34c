package upkeep

import (
	"context"
	"fmt"
	"strings"

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
	if err := s.closedToAll(ctx); err != nil {
		return err
	}
	if err := s.othersUnsent(ctx); err != nil {
		return err
	}
	owed, err := file.Owing(ctx, s.DB)
	if err != nil {
		return err
	}
	backups, err := s.Backups() // before one is written now, which is to stay
	if err != nil {
		return fmt.Errorf("erase: %w", err)
	}
	switch {
	case owed.Changes > 0 && !discard:
		return fmt.Errorf("%w: %d of them would be lost; exchange first, or discard them, which writes a backup", file.ErrUnsent,
			owed.Changes)
	case owed.Lost > 0 && !discard:
		return fmt.Errorf("%w: of %d records, what central has lost is here and may be nowhere else; offer them, or discard them, which "+
			"writes a backup", file.ErrUnsent, owed.Lost)
	case owed.Changes+owed.Lost > 0:
		if err := s.File.Backup(ctx, backup); err != nil {
			return err
		}
	}
	return s.Wipe(backups)
}

// othersUnsent refuses what would give up changes of somebody who is not signed in.
func (s *Keeper) othersUnsent(ctx context.Context) error {
	var rows []struct {
		Author string
		Count  int
	}
	if err := s.DB.SelectContext(ctx, &rows, `SELECT author, count(*) AS count FROM outbox
		WHERE kept IS NOT NULL AND author <> (SELECT coalesce((SELECT value FROM facts WHERE name = ?), '')) GROUP BY author ORDER BY author`,
		file.FactWorker); err != nil || len(rows) == 0 {
		return file.StoreError(err)
	}
	whose := make([]string, len(rows))
	for n, row := range rows {
		whose[n] = fmt.Sprintf("%d of %s", row.Count, row.Author)
	}
	return fmt.Errorf("%w: %s; an exchange delivers them, or who made them signs in and sees to what was refused", file.ErrUnsent,
		strings.Join(whose, ", "))
}

// closedToAll says that nobody is signed in, where somebody could be.
func (s *Keeper) closedToAll(ctx context.Context) error {
	all, err := s.People(ctx)
	if err != nil || len(all) == 0 {
		return err
	}
	return s.Closed(ctx)
}

// Backup is [device.Store.Backup].
func (s *Keeper) Backup(ctx context.Context, path string) error {
	if err := s.closedToAll(ctx); err != nil {
		return err
	}
	return s.File.Backup(ctx, path)
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

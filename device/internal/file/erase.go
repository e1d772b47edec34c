package file

import (
	"context"
	"fmt"
	"os"

	"github.com/jmoiron/sqlx"
)

// Owed is what would be lost with a store.
type Owed struct {
	Changes int // that central has not accepted
	Lost    int // records of which central has lost something, and only this store may still have it
	Local   int // records with values that stay on this device
}

// Owing says what would be lost with the store.
func Owing(ctx context.Context, db Runner) (o Owed, err error) {
	err = db.QueryRowxContext(ctx, `SELECT (SELECT count(*) FROM outbox), (SELECT count(*) FROM records WHERE lost <> '') +
		(SELECT count(*) FROM lost_values), (SELECT count(*) FROM records WHERE local <> '{}') + (SELECT count(*) FROM kept_local)`).
		Scan(&o.Changes, &o.Lost, &o.Local)
	return o, StoreError(err)
}

// Spares says why the store is not let go of without whoever has it; nil where nothing would be lost.
func (o Owed) Spares() error {
	switch {
	case o.Changes > 0:
		return fmt.Errorf("%w: %d changes are to be mended or discarded on the device first", ErrUnsent, o.Changes)
	case o.Lost > 0:
		return fmt.Errorf("%w: it has %d records of which central has lost something, to be offered or let go on the device first", ErrUnsent, o.Lost)
	case o.Local > 0:
		return fmt.Errorf("%w: %d records have values that stay on the device, and go with its store alone", ErrUnsent, o.Local)
	}
	return nil
}

// GiveUp makes the store one that takes nothing more, where nothing would be lost with it. That and the look are one: what
// is saved meanwhile is either seen, and the store stays, or is refused.
func (s *File) GiveUp(ctx context.Context) error {
	tx, err := s.DB.BeginTxx(ctx, nil)
	if err != nil {
		return StoreError(err)
	}
	defer tx.Rollback()
	if err := giveUp(ctx, tx); err != nil {
		return err
	}
	return StoreError(tx.Commit())
}

func giveUp(ctx context.Context, tx *sqlx.Tx) error {
	owed, err := Owing(ctx, tx)
	if err == nil {
		err = owed.Spares()
	}
	if err != nil {
		return err
	}
	for name, value := range map[string]string{FactToken: "", FactErasing: "true"} {
		if err := SetFact(ctx, tx, name, value); err != nil {
			return StoreError(err)
		}
	}
	return nil
}

// Wipe closes the store and removes its files, and those of backups.
func (s *File) Wipe(backups []string) error {
	if err := s.DB.Close(); err != nil {
		return StoreError(err)
	}
	// The store itself goes last: until then it says that it is to go.
	for _, path := range append(backups, s.Where) {
		if err := RemoveAll(path+"-wal", path+"-shm", path, SaltPath(path), path+".exchange"); err != nil {
			return fmt.Errorf("erase: %w", err)
		}
	}
	return nil
}

// Size is what the store takes on its disk, in bytes.
func (s *File) Size() (bytes int64) {
	for _, path := range []string{s.Where, s.Where + "-wal"} {
		if info, err := os.Stat(path); err == nil {
			bytes += info.Size()
		}
	}
	return bytes
}

package intake

import (
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	_ "github.com/ncruces/go-sqlite3/driver" // the driver "sqlite3"
)

// seenKeys remembers in which row of a file each key came first. It keeps them in a temporary file, so that a file of
// any length takes the same memory.
type seenKeys struct {
	folder string
	db     *sql.DB
	tx     *sql.Tx
	put    *sql.Stmt
	get    *sql.Stmt
}

func newSeenKeys() (*seenKeys, error) {
	folder, err := os.MkdirTemp("", "homing-import-")
	if err != nil {
		return nil, err
	}
	s := &seenKeys{folder: folder}
	if err := s.open(); err != nil {
		return nil, errors.Join(fmt.Errorf("keys: %w", err), s.close())
	}
	return s, nil
}

func (s *seenKeys) open() (err error) {
	if s.db, err = sql.Open("sqlite3", "file:"+filepath.Join(s.folder,
		"keys.db")+"?_pragma=journal_mode(off)&_pragma=synchronous(off)"); err != nil {
		return err
	}
	if _, err = s.db.Exec(`CREATE TABLE keys (key TEXT PRIMARY KEY, row INTEGER NOT NULL) WITHOUT ROWID`); err != nil {
		return err
	}
	if s.tx, err = s.db.Begin(); err != nil {
		return err
	}
	if s.put, err = s.tx.Prepare(`INSERT INTO keys (key, row) VALUES (?, ?) ON CONFLICT DO NOTHING`); err != nil {
		return err
	}
	s.get, err = s.tx.Prepare(`SELECT row FROM keys WHERE key = ?`)
	return err
}

// note gives the row in which a key came first: this one, if it is new.
func (s *seenKeys) note(key string, row int) (first int, err error) {
	done, err := s.put.Exec(key, row)
	if err != nil {
		return 0, err
	}
	if n, err := done.RowsAffected(); err != nil || n == 1 {
		return row, err
	}
	return first, s.get.QueryRow(key).Scan(&first)
}

func (s *seenKeys) close() error {
	var errs []error
	if s.tx != nil {
		errs = append(errs, s.tx.Rollback())
	}
	if s.db != nil {
		errs = append(errs, s.db.Close())
	}
	return errors.Join(append(errs, os.RemoveAll(s.folder))...)
}

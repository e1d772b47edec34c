package file

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Backup is [device.Store.Backup].
func (s *File) Backup(ctx context.Context, path string) error {
	if _, err := os.Stat(path); err == nil {
		return fmt.Errorf("%w: %s; name a new file", ErrExists, path)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("backup: %w", err)
	}
	if s.sealed != "" {
		salt, err := os.ReadFile(SaltPath(s.Where))
		if err != nil {
			return fmt.Errorf("backup: %w", err)
		}
		if err := os.WriteFile(SaltPath(path), salt, 0o600); err != nil {
			return fmt.Errorf("backup: %w", err)
		}
	}
	// The file is made first, so that nobody else can read it at any time.
	file, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fmt.Errorf("backup: %w", err)
	}
	file.Close()
	into := (&url.URL{Scheme: "file", OmitHost: true, Path: path}).String() + "?" + s.sealed
	if _, err := s.DB.ExecContext(ctx, `VACUUM INTO ?`, into); err != nil {
		return errors.Join(StoreError(err), os.Remove(path))
	}
	return nil
}

// Backups is [device.Store.Backups].
func (s *File) Backups() ([]string, error) { return backupsOf(s.Where + backupMark) }

// BackupBefore makes a backup beside the store before something that cannot be undone, and lets go of older ones.
func (s *File) BackupBefore(ctx context.Context, what string) (string, error) {
	prefix := s.Where + backupMark + what + "-"
	path := prefix + s.Now().UTC().Format("20060102-150405.000") + ".db"
	if err := s.Backup(ctx, path); err != nil {
		return "", err
	}
	older, err := backupsOf(prefix)
	if err != nil {
		return path, err
	}
	for _, file := range older[:max(0, len(older)-keptBackups)] {
		if err := RemoveAll(file, SaltPath(file)); err != nil {
			return path, err
		}
	}
	return path, nil
}

// backupsOf are the backups that were made before risky steps, by what their names begin with, the oldest first.
func backupsOf(prefix string) ([]string, error) {
	found, err := filepath.Glob(escapeGlob.Replace(prefix) + "*.db")
	slices.Sort(found)
	return found, err
}

// RemoveAll removes files that may be there or not.
func RemoveAll(files ...string) error {
	for _, name := range files {
		if err := os.Remove(name); err != nil && !os.IsNotExist(err) {
			return err
		}
	}
	return nil
}

// backupMark follows the name of a store in the names of backups that were made before risky steps.
const backupMark = ".before-"

var escapeGlob = strings.NewReplacer("*", `\*`, "?", `\?`, "[", `\[`, `\`, `\\`)

// keptBackups is how many backups that were made by themselves are kept of each kind.
const keptBackups = 3

package file

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"

	_ "github.com/ncruces/go-sqlite3/vfs/adiantum" // the file layer "adiantum", which encrypts every block

	"homing/internal/stretch"
)

// Bytes of a key, and of the salt that makes it differ from others of the same secret.
const (
	SealKey  = 32
	SealSalt = 16
)

// Errors of encrypted stores.
var (
	ErrSealed    = errors.New("this store is encrypted; give its passphrase")
	ErrNotSealed = errors.New("this store is there already and is not encrypted; open it without a passphrase, or " +
		"make another")
	ErrPassphrase = errors.New("this is not the passphrase of the store")
)

const leastPassphrase = 8 // characters

// SaltPath is the file beside a store that makes its key differ from those of other stores with the same passphrase.
// It is no secret, but without it the store cannot be opened.
func SaltPath(path string) string { return path + ".salt" }

// seal gives the key of a store and what its name needs to be opened encrypted, or nothing for a store that is not.
func seal(path, passphrase string) (key []byte, name string, err error) {
	salt, err := os.ReadFile(SaltPath(path))
	known := err == nil
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, "", fmt.Errorf("local store: %w", err)
	}
	switch {
	case known && passphrase == "":
		return nil, "", ErrSealed
	case passphrase == "":
		return nil, "", nil
	case !known:
		if len([]rune(passphrase)) < leastPassphrase {
			return nil, "", fmt.Errorf("the passphrase is too short; take at least %d characters", leastPassphrase)
		}
		if info, err := os.Stat(path); err == nil && info.Size() > 0 {
			return nil, "", ErrNotSealed
		}
		salt = make([]byte, SealSalt)
		rand.Read(salt)
		if err := os.WriteFile(SaltPath(path), salt, 0o600); err != nil {
			return nil, "", fmt.Errorf("local store: %w", err)
		}
	}
	key = stretch.Key(passphrase, salt, SealKey)
	return key, "&vfs=adiantum&hexkey=" + hex.EncodeToString(key) + "&_pragma=temp_store(memory)", nil
}

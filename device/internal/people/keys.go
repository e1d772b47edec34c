package people

import (
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hpke"
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/jmoiron/sqlx"

	"homing/device/internal/file"
	"homing/internal/stretch"
	"homing/wire"
)

// asideInfo is the info of what is sealed for the people of a device.
const asideInfo = wire.Seal + " put aside"

// key is a pair of keys of a worker. Whoever lacks their PIN or password has no use for the private part.
type key struct {
	Public  []byte `json:"public"`
	Salt    []byte `json:"salt,omitempty"` // none: they had no PIN or password yet, and the private part lies open
	Private []byte `json:"private"`
}

// secret is a PIN or password with what follows from it, at the cost of a store's passphrase.
type secret struct {
	text  string
	salt  []byte
	proof []byte // is stored, to know the secret by
	lock  []byte // is not
}

func derive(text string, salt []byte) secret {
	both := stretch.Key(text, salt, 2*file.SealKey)
	return secret{text, salt, both[:file.SealKey], both[file.SealKey:]}
}

// newSecret gives a PIN or password a salt of its own.
func newSecret(text string) secret {
	salt := make([]byte, file.SealSalt)
	rand.Read(salt)
	return derive(text, salt)
}

// stored is what is kept of it.
func (s secret) stored() string {
	return hex.EncodeToString(s.salt) + " " + hex.EncodeToString(s.proof)
}

// recognise gives the secret if it is the one of which something is stored.
func recognise(stored, text string) (secret, bool) {
	saltText, proofText, _ := strings.Cut(stored, " ")
	salt, err := hex.DecodeString(saltText)
	if err != nil {
		return secret{}, false
	}
	proof, err := hex.DecodeString(proofText)
	if err != nil {
		return secret{}, false
	}
	s := derive(text, salt)
	return s, subtle.ConstantTimeCompare(proof, s.proof) == 1
}

// newKey makes a pair of keys that a secret opens; no secret leaves it open.
func newKey(with secret) (key, error) {
	private, err := wire.NewSealingKey()
	if err != nil {
		return key{}, err
	}
	return seal(private, with)
}

// seal locks a private key up.
func seal(private hpke.PrivateKey, with secret) (key, error) {
	text, err := private.Bytes()
	if err != nil {
		return key{}, err
	}
	k := key{Public: private.PublicKey().Bytes(), Salt: with.salt, Private: text}
	if with.salt == nil {
		return k, nil
	}
	lock, err := lockOf(with)
	if err != nil {
		return key{}, err
	}
	k.Private = lock.Seal(nil, nil, text, k.Public)
	return k, nil
}

func lockOf(s secret) (cipher.AEAD, error) {
	block, err := aes.NewCipher(s.lock)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCMWithRandomNonce(block)
}

// open gives the private key, or nothing where the secret is not the one that it was locked up with.
func (k key) open(with secret) (hpke.PrivateKey, bool) {
	text := k.Private
	if k.Salt != nil {
		if !bytes.Equal(k.Salt, with.salt) {
			with = derive(with.text, k.Salt) // it is of an earlier secret, which may have been the same
		}
		lock, err := lockOf(with)
		if err != nil {
			return nil, false
		}
		if text, err = lock.Open(nil, nil, k.Private, k.Public); err != nil {
			return nil, false
		}
	}
	private, err := wire.ReadSealingKey(text)
	return private, err == nil
}

func keysOf(ctx context.Context, r file.Runner, name string) ([]key, error) {
	var text string
	if err := r.GetContext(ctx, &text, `SELECT keys FROM people WHERE name = ?`, name); err != nil {
		return nil, err
	}
	var all []key
	if err := json.Unmarshal([]byte(text), &all); err != nil {
		return nil, fmt.Errorf("%w: the keys of %s", file.ErrDamaged, name)
	}
	return all, nil
}

func setKeys(ctx context.Context, tx *sqlx.Tx, name string, all []key) error {
	text, err := json.Marshal(all)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `UPDATE people SET keys = ? WHERE name = ?`, string(text), name)
	return err
}

// relock lets a new secret open what the old one opened, and gives a first key to whoever has none.
func relock(all []key, old, now secret) ([]key, error) {
	for n, k := range all {
		private, opened := k.open(old)
		if !opened {
			continue // of an earlier secret still
		}
		var err error
		if all[n], err = seal(private, now); err != nil {
			return nil, err
		}
	}
	if len(all) > 0 {
		return all, nil
	}
	first, err := newKey(now)
	return []key{first}, err
}

// sealFor gives the public key for which something of a worker's is put aside.
func sealFor(ctx context.Context, tx *sqlx.Tx, name string) ([]byte, error) {
	all, err := keysOf(ctx, tx, name)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		first, err := newKey(secret{})
		if err != nil {
			return nil, err
		}
		return first.Public, setKeys(ctx, tx, name, []key{first})
	}
	return all[0].Public, nil
}

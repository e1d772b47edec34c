package wire

import (
	"bytes"
	"crypto/ecdh"
	"crypto/hkdf"
	"crypto/hpke"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
)

// Sealed is a change in a batch that only central can read. On a device that several people use, what one of them has
// not sent is sealed for the others, and goes to central with anybody's exchange all the same.
type Sealed struct {
	Number   int64  `json:"number" minimum:"1" doc:"That of the change."`
	Sealed   []byte `json:"sealed" contentEncoding:"base64" doc:"The change as the schema Change describes it, sealed by HPKE (RFC 9180, base mode, DHKEM(X25519, HKDF-SHA256), HKDF-SHA256, AES-256-GCM) for central's key, with the info homing/1 change and no further data: the encapsulated key and behind it the ciphertext."`
	TurnedMS int64  `json:"turned_ms,omitempty" doc:"As in a change; what the sealed one says of it does not count."`
	UnsureMS int64  `json:"unsure_ms,omitempty" minimum:"0" doc:"As in a change."`
}

const (
	sealInfo = Seal + "/" + Version + " change"
	// Seal is what the info of everything begins with that is sealed.
	Seal = "homing"
)

var (
	kem  = hpke.DHKEM(ecdh.X25519())
	kdf  = hpke.HKDFSHA256()
	aead = hpke.AES256GCM()
)

// ErrSealedElse says that something was sealed for another key.
var ErrSealedElse = errors.New("it was sealed for another key")

// SealingKey is the key for which changes are sealed that only central may read. It follows from a secret that goes
// into central's backups, so that a restored central can read what was sealed before.
func SealingKey(secret []byte) (hpke.PrivateKey, error) {
	seed, err := hkdf.Key(sha256.New, secret, nil, sealInfo, 32)
	if err != nil {
		return nil, err
	}
	return kem.DeriveKeyPair(seed)
}

// SealChange seals a change for the key that central has announced.
func SealChange(key, text []byte) ([]byte, error) { return SealFor(key, sealInfo, text) }

// SealFor seals text for whoever has the private part of a key. Info says what for, and is needed to open it.
func SealFor(key []byte, info string, text []byte) ([]byte, error) {
	public, err := kem.NewPublicKey(key)
	if err != nil {
		return nil, fmt.Errorf("the key to seal for: %w", err)
	}
	return hpke.Seal(public, kdf, aead, []byte(info), text)
}

// OpenSealed opens what was sealed with the same info.
func OpenSealed(key hpke.PrivateKey, info string, sealed []byte) ([]byte, error) {
	text, err := hpke.Open(key, kdf, aead, []byte(info), sealed)
	if err != nil {
		return nil, ErrSealedElse
	}
	return text, nil
}

// NewSealingKey makes a key for somebody.
func NewSealingKey() (hpke.PrivateKey, error) { return kem.GenerateKey() }

// ReadSealingKey reads the private part of a key.
func ReadSealingKey(text []byte) (hpke.PrivateKey, error) { return kem.NewPrivateKey(text) }

// ReadSealed reads a change of a batch if it is a sealed one.
func ReadSealed(raw []byte) (Sealed, bool) {
	var s Sealed
	// Most are not, and this is the shortest way to tell.
	if !bytes.Contains(raw, []byte(`"sealed"`)) || json.Unmarshal(raw, &s) != nil {
		return s, false
	}
	return s, len(s.Sealed) > 0
}

// OpenChange gives the text of a change that was sealed for central.
func OpenChange(key hpke.PrivateKey, s Sealed) ([]byte, error) {
	return OpenSealed(key, sealInfo, s.Sealed)
}

package file

import (
	"bufio"
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"os"
)

// sealedLine is a line of a file that an encrypted store has written beside itself: the line by AES-256-GCM (NIST SP
// 800-38D) behind its nonce, under a key that is derived from the store's by HKDF (RFC 5869).
type sealedLine struct {
	Sealed []byte `json:"sealed"`
}

func (s *File) lineSeal() (cipher.AEAD, error) {
	key, err := hkdf.Key(sha256.New, s.key, nil, "homing lines", SealKey)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

// AppendLines writes JSON to the end of a file, one to a line; an encrypted store writes it sealed. The lines have
// reached the disk when it returns.
func (s *File) AppendLines(path string, lines [][]byte) error {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("nothing was discarded: %w", err)
	}
	defer file.Close()
	for _, line := range lines {
		if s.key != nil {
			if line, err = s.sealLine(line); err != nil {
				return fmt.Errorf("nothing was discarded: %w", err)
			}
		}
		if _, err := file.Write(append(line, '\n')); err != nil {
			return fmt.Errorf("nothing was discarded: %w", err)
		}
	}
	return file.Sync()
}

func (s *File) sealLine(line []byte) ([]byte, error) {
	aead, err := s.lineSeal()
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, aead.NonceSize())
	rand.Read(nonce)
	return json.Marshal(sealedLine{aead.Seal(nonce, nonce, line, nil)})
}

// ReadLines is [device.Store.ReadGivenUp].
func (s *File) ReadLines(path string) (lines []json.RawMessage, err error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	scan := bufio.NewScanner(bytes.NewReader(text))
	scan.Buffer(nil, len(text)+1)
	for n := 1; scan.Scan(); n++ {
		line := bytes.Clone(scan.Bytes())
		var sealed sealedLine
		if err := json.Unmarshal(line, &sealed); err != nil {
			return nil, fmt.Errorf("%s: line %d is not one that a store has written", path, n)
		}
		if sealed.Sealed != nil {
			if line, err = s.openLine(sealed.Sealed); err != nil {
				return nil, fmt.Errorf("%s: line %d: %w", path, n, err)
			}
		}
		lines = append(lines, line)
	}
	return lines, scan.Err()
}

func (s *File) openLine(sealed []byte) ([]byte, error) {
	if s.key == nil {
		return nil, ErrSealed
	}
	aead, err := s.lineSeal()
	if err != nil {
		return nil, err
	}
	size := aead.NonceSize()
	if len(sealed) < size {
		return nil, errors.New("it is cut")
	}
	line, err := aead.Open(nil, sealed[:size], sealed[size:], nil)
	if err != nil {
		return nil, errors.New("another store has sealed it, or it was altered")
	}
	return line, nil
}

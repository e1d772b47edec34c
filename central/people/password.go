package people

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"
)

// Cost of argon2id (RFC 9106): the second recommended option is 64 MiB; this is the common floor for a server that
// checks several sign-ins at once.
const (
	argonTime    = 2
	argonMemory  = 19 * 1024 // KiB
	argonThreads = 1
	argonKey     = 32
	argonSalt    = 16
)

// hashing bounds how many passwords are hashed at once, and with it the memory that sign-ins can take.
var hashing = make(chan struct{}, 4)

// hashPassword writes a password's argon2id hash in the PHC string format.
func hashPassword(password string) string {
	salt := make([]byte, argonSalt)
	rand.Read(salt)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(argonHash(password, salt,
			argonTime, argonMemory, argonThreads)))
}

func argonHash(password string, salt []byte, time, memory uint32, threads uint8) []byte {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	return argon2.IDKey([]byte(password), salt, time, memory, threads, argonKey)
}

// passwordFits says whether a password is the one that was hashed.
func passwordFits(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		return false
	}
	var memory, time uint32
	var threads uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &time, &threads); err != nil {
		return false
	}
	salt, errSalt := base64.RawStdEncoding.DecodeString(parts[4])
	want, errWant := base64.RawStdEncoding.DecodeString(parts[5])
	if errSalt != nil || errWant != nil {
		return false
	}
	return subtle.ConstantTimeCompare(want, argonHash(password, salt, time, memory, threads)) == 1
}

// decoy is hashed against when there is no such worker, so that the time of an answer does not tell who exists.
var decoy = hashPassword(rand.Text())

// newToken makes a token of 256 random bits; the prefix tells people what they have found.
func newToken(prefix string) string {
	secret := make([]byte, 32)
	rand.Read(secret)
	return prefix + "_" + base64.RawURLEncoding.EncodeToString(secret)
}

// hashToken is what central keeps of a token. A plain hash does, since the token is random.
func hashToken(token string) []byte {
	sum := sha256.Sum256([]byte(token))
	return sum[:]
}

package pulls

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// A seal is central's own word on where it was: that it delivered a collection up to a cursor at a time. Devices keep
// it with the cursor and show it when they come again. So a central whose database was put back to an earlier state
// notices that it is not where it left it, and no device can make it believe so by saying a large number.
type seal struct {
	collection string
	cursor     int64
	at         time.Time
}

// sealSlack is how far the clocks of several instances on one database may be apart.
const sealSlack = 10 * time.Second

func (s seal) mac(secret []byte) string {
	hash := hmac.New(sha256.New, secret)
	fmt.Fprintf(hash, "%s %d %d", s.collection, s.cursor, s.at.Unix())
	return hex.EncodeToString(hash.Sum(nil)[:8])
}

// Seal makes central's word that all changes of a collection up to a position were there at a time, as
// NAME.POSITION.SECONDS.MAC.
func Seal(secret []byte, collection string, position int64, at time.Time) string {
	s := seal{collection, position, at}
	return fmt.Sprintf("%s.%d.%d.%s", collection, position, at.Unix(), s.mac(secret))
}

// read reads a seal; ok is false for one that this central did not make.
func (p *Pulls) read(text string) (s seal, ok bool) {
	parts := strings.Split(text, ".")
	if len(parts) != 4 {
		return s, false
	}
	cursor, errCursor := strconv.ParseInt(parts[1], 10, 64)
	seconds, errSeconds := strconv.ParseInt(parts[2], 10, 64)
	s = seal{parts[0], cursor, time.Unix(seconds, 0).UTC()}
	return s, errCursor == nil && errSeconds == nil && hmac.Equal([]byte(s.mac(p.ground.Secret())), []byte(parts[3]))
}

// Displaced says whether the seals that a device shows tell that the database was put back to an earlier state, and
// as of when what the database has is not what it had then. What was delivered up to a cursor stays delivered for
// ever, so the head is never behind one, and it was beyond the cursor before it was moved on by anything that came after the seal was made.
func (p *Pulls) Displaced(ctx context.Context, seals []string) (since time.Time, displaced bool, err error) {
	err = p.ground.Deliver(ctx, func(t Tables) error {
		for _, text := range seals {
			s, ok := p.read(text)
			if !ok {
				continue
			}
			head, err := t.Head(ctx, s.collection)
			if err != nil {
				return err
			}
			gone := s.cursor > head
			if !gone {
				left, found, err := t.LeftAfter(ctx, s.collection, s.at.Add(sealSlack))
				if err != nil {
					return err
				}
				gone = found && left < s.cursor
			}
			if gone && (!displaced || s.at.Before(since)) {
				since, displaced = s.at, true
			}
		}
		return nil
	})
	return since, displaced, err
}

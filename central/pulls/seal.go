package pulls

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
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

// SealAll is the same for the cursors of several collections at once, as SECONDS.MAC.
func SealAll(secret []byte, cursors map[string]int64, at time.Time) string {
	return fmt.Sprintf("%d.%s", at.Unix(), macAll(secret, cursors, at))
}

func macAll(secret []byte, cursors map[string]int64, at time.Time) string {
	hash := hmac.New(sha256.New, secret)
	fmt.Fprintf(hash, "all %d", at.Unix())
	for _, name := range slices.Sorted(maps.Keys(cursors)) {
		fmt.Fprintf(hash, "\n%s %d", name, cursors[name])
	}
	return hex.EncodeToString(hash.Sum(nil)[:8])
}

// Shown is what a device shows of central's own words on where it was.
type Shown struct {
	Seals   []string // of single cursors
	All     string   // one for several cursors at once; empty when there is none
	Cursors map[string]int64
}

// Nothing says whether it shows none.
func (s Shown) Nothing() bool { return len(s.Seals) == 0 && s.All == "" }

func (p *Pulls) readAll(shown Shown) (all []seal) {
	for _, text := range shown.Seals {
		if s, ok := p.read(text); ok {
			all = append(all, s)
		}
	}
	text, mac, _ := strings.Cut(shown.All, ".")
	seconds, err := strconv.ParseInt(text, 10, 64)
	at := time.Unix(seconds, 0).UTC()
	if err != nil || !hmac.Equal([]byte(macAll(p.ground.Secret(), shown.Cursors, at)), []byte(mac)) {
		return all
	}
	for name, cursor := range shown.Cursors {
		all = append(all, seal{name, cursor, at})
	}
	return all
}

// Displaced says whether the seals that a device shows tell that the database was put back to an earlier state, and
// as of when what the database has is not what it had then. What was delivered up to a cursor stays delivered for
// ever, so the head is never behind one, and it was beyond the cursor before it was moved on by anything that came after the seal was made.
func (p *Pulls) Displaced(ctx context.Context, shown Shown) (since time.Time, displaced bool, err error) {
	seals := p.readAll(shown)
	if len(seals) == 0 {
		return since, false, nil
	}
	err = p.ground.Deliver(ctx, func(t Tables) error {
		heads, err := t.Heads(ctx)
		if err != nil {
			return err
		}
		left := map[time.Time]map[string]int64{}
		for _, s := range seals {
			if left[s.at] == nil {
				if left[s.at], err = t.LeftAfter(ctx, s.at.Add(sealSlack)); err != nil {
					return err
				}
			}
			before, moved := left[s.at][s.collection]
			gone := s.cursor > heads[s.collection] || moved && before < s.cursor
			if gone && (!displaced || s.at.Before(since)) {
				since, displaced = s.at, true
			}
		}
		return nil
	})
	return since, displaced, err
}

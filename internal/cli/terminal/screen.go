package terminal

import (
	"fmt"
	"io"
	"unicode"
	"unicode/utf8"
)

// Screen writes what people read. Control characters and those that turn the direction of writing, which records may
// hold, are written as \u001b: a record must not be able to move the cursor about, or to show something else than it
// says. In JSON they mean what they did.
type Screen struct {
	to   io.Writer
	held []byte // the beginning of a character whose end has not come
}

// NewScreen makes a screen of a writer.
func NewScreen(to io.Writer) *Screen { return &Screen{to: to} }

// Exact is the writer behind a screen, for files that are written to it; a terminal stays a screen.
func Exact(w io.Writer) io.Writer {
	if screen, is := w.(*Screen); is && !OnTerminal(w) {
		return screen.to
	}
	return w
}

// Write is [io.Writer.Write].
func (s *Screen) Write(text []byte) (int, error) {
	all := append(s.held, text...)
	s.held = nil
	plain := make([]byte, 0, len(all))
	for len(all) > 0 {
		if !utf8.FullRune(all) {
			s.held = all
			break
		}
		r, size := utf8.DecodeRune(all)
		switch {
		case r == utf8.RuneError && size == 1:
			plain = fmt.Appendf(plain, `\x%02x`, all[0])
		case harmless(r):
			plain = append(plain, all[:size]...)
		default:
			plain = fmt.Appendf(plain, `\u%04x`, r)
		}
		all = all[size:]
	}
	if _, err := s.to.Write(plain); err != nil {
		return 0, err
	}
	return len(text), nil
}

// harmless says whether a character may stand on a screen as it is.
func harmless(r rune) bool {
	return r == '\n' || r == '\t' || !unicode.IsControl(r) && !turns(r)
}

// turns says whether a character turns the direction of writing (Unicode Standard Annex 9), or breaks a line.
func turns(r rune) bool {
	return r == 0x061c || r == 0x200e || r == 0x200f || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 ||
		r == 0x2028 || r == 0x2029
}

// under is the writer behind a screen, if there is one.
func under(w io.Writer) io.Writer {
	if screen, is := w.(*Screen); is {
		return screen.to
	}
	return w
}

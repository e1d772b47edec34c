package people

import (
	_ "embed"
	"strings"
	"sync"
	"unicode/utf8"

	"homing/central/fault"
)

// Bounds on a password, in characters, when it is set and when it is used.
const (
	LeastPassword = 10
	MostPassword  = 200
)

// leastDifferent is how many different characters a password has at least.
const leastDifferent = 5

// common are some of the words that people take most often, one to a line, in small letters. They are taken from the
// list of the zxcvbn project (MIT licence).
//
//go:embed common.txt
var common string

var isCommon = sync.OnceValue(func() map[string]bool {
	all := map[string]bool{}
	for word := range strings.Lines(common) {
		all[strings.TrimSpace(word)] = true
	}
	return all
})

// checkPassword says what is wrong with a password that a worker is to have.
func checkPassword(worker, password string) error {
	length := utf8.RuneCountInString(password)
	switch {
	case length < LeastPassword:
		return fault.Fail(fault.Invalid, "the password is too short; take at least %d characters", LeastPassword)
	case length > MostPassword:
		return fault.Fail(fault.Invalid, "the password is too long; take at most %d characters", MostPassword)
	}
	low := strings.ToLower(password)
	different := map[rune]bool{}
	for _, r := range low {
		different[r] = true
	}
	bare := strings.TrimFunc(low, func(r rune) bool { return r < 'a' || r > 'z' }) // dragon2026! is dragon
	switch {
	case len(different) < leastDifferent:
		return fault.Fail(fault.Invalid, "the password repeats the same few characters; take at least %d different ones",
			leastDifferent)
	case strings.Contains(low, worker) && utf8.RuneCountInString(strings.ReplaceAll(low, worker, "")) < LeastPassword/2:
		return fault.Fail(fault.Invalid, "the password is little more than the worker's name; take several words that do not belong together")
	case commonWords(low) || bare != "" && commonWords(bare) || strings.Contains("12345678901234567890", low):
		return fault.Fail(fault.Invalid, "the password is one of the commonest; take several words that do not belong together")
	}
	return nil
}

// commonWords says whether a text is a common word, or the same one several times.
func commonWords(text string) bool {
	for times := 1; times <= 4; times++ {
		if part := text[:len(text)/times]; len(text)%times == 0 && isCommon()[part] && strings.Repeat(part, times) == text {
			return true
		}
	}
	return false
}

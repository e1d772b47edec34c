package qr_test

import (
	"net/url"
	"strings"
	"testing"
	"unicode/utf8"

	"homing/internal/qr"
)

// Both ways draw the same modules: as many dark ones on the terminal as on the page, in a square with a border.
func TestBothWaysAgree(t *testing.T) {
	const text = "https://central.example:8400/enrol#ABCD-EFGH-IJKL-MNOP"
	terminal, err := qr.Terminal(text)
	if err != nil {
		t.Fatal(err)
	}
	picture, err := qr.Picture(text)
	if err != nil {
		t.Fatal(err)
	}
	svg, err := url.PathUnescape(strings.TrimPrefix(picture, "data:image/svg+xml,"))
	if err != nil {
		t.Fatal(err)
	}
	dark := 2*strings.Count(terminal, "█") + strings.Count(terminal, "▀") + strings.Count(terminal, "▄")
	if inPicture := strings.Count(svg, "h1v1h-1z"); dark != inPicture || dark < 200 {
		t.Errorf("%d dark modules on the terminal, %d in the picture", dark, inPicture)
	}
	lines := strings.Split(strings.TrimSpace(terminal), "\n")
	first := strings.TrimSuffix(strings.TrimPrefix(lines[0], "\x1b[38;5;16m\x1b[48;5;231m"), "\x1b[0m")
	if strings.TrimSpace(first) != "" || utf8.RuneCountInString(first) < 2*len(lines)-2 {
		t.Errorf("the first of %d lines is %q", len(lines), first)
	}
	if _, err := qr.Terminal(strings.Repeat("x", 5000)); err == nil {
		t.Error("a text that no QR code holds was drawn")
	}
}

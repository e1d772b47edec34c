// Package qr draws QR codes (ISO/IEC 18004) for the terminal and for pages.
package qr

import (
	"fmt"
	"net/url"
	"strings"

	"rsc.io/qr"
)

// quiet is the width of the light border that readers need, in modules.
const quiet = 4

// grid says which modules are dark, the quiet border included.
func grid(text string) ([][]bool, error) {
	code, err := qr.Encode(text, qr.M)
	if err != nil {
		return nil, fmt.Errorf("QR code: %w", err)
	}
	size := code.Size + 2*quiet
	rows := make([][]bool, size)
	for y := range rows {
		rows[y] = make([]bool, size)
		for x := range rows[y] {
			rows[y][x] = code.Black(x-quiet, y-quiet)
		}
	}
	return rows, nil
}

// Terminal draws a text as a QR code with half blocks, two rows of modules to a line. The colours are set outright,
// so that it can be read on a dark terminal as on a light one.
func Terminal(text string) (string, error) {
	rows, err := grid(text)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	for y := 0; y < len(rows); y += 2 {
		out.WriteString("\x1b[38;5;16m\x1b[48;5;231m")
		for x := range rows[y] {
			above, below := rows[y][x], y+1 < len(rows) && rows[y+1][x]
			out.WriteString(map[[2]bool]string{{true, true}: "█", {true, false}: "▀", {false, true}: "▄",
				{false, false}: " "}[[2]bool{above, below}])
		}
		out.WriteString("\x1b[0m\n")
	}
	return out.String(), nil
}

// Picture draws a text as a QR code in SVG, as a data URI for an image.
func Picture(text string) (string, error) {
	rows, err := grid(text)
	if err != nil {
		return "", err
	}
	var path strings.Builder
	for y := range rows {
		for x, dark := range rows[y] {
			if dark {
				fmt.Fprintf(&path, "M%d %dh1v1h-1z", x, y)
			}
		}
	}
	svg := fmt.Sprintf(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %[1]d" shape-rendering="crispEdges"><rect width="%[1]d" height="%[1]d" fill="#fff"/><path d="%[2]s" fill="#000"/></svg>`, len(rows), path.String())
	return "data:image/svg+xml," + url.PathEscape(svg), nil
}

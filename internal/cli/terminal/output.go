package terminal

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"homing/core/change"
	"homing/core/definition"
	"homing/core/record"
)

// JSON asks for JSON instead of text.
var JSON = &cli.BoolFlag{Name: "json", Usage: "write JSON for programs instead of text for people"}

// WriteJSON writes a value as indented JSON.
func WriteJSON(w io.Writer, value any) error {
	encoder := json.NewEncoder(w)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	return encoder.Encode(value)
}

// Table writes rows under a heading, in columns as wide as they need to be.
type Table struct {
	w    io.Writer
	rows *[][]string
}

// NewTable makes a table with its headings.
func NewTable(w io.Writer, headings ...string) Table {
	return Table{w, &[][]string{headings}}
}

// Row puts a row of cells under those before.
func (t Table) Row(cells ...any) {
	texts := make([]string, len(cells))
	for n, cell := range cells {
		// A value from the field must not be able to move the cursor about.
		texts[n] = strings.Map(func(r rune) rune {
			if unicode.IsControl(r) || turns(r) {
				return ' '
			}
			return r
		}, fmt.Sprint(cell))
	}
	*t.rows = append(*t.rows, texts)
}

// Flush writes the table.
func (t Table) Flush() error {
	widths := map[int]int{}
	for _, row := range *t.rows {
		for n, cell := range row {
			widths[n] = max(widths[n], utf8.RuneCountInString(cell))
		}
	}
	for _, row := range *t.rows {
		var line strings.Builder
		for n, cell := range row {
			line.WriteString(cell)
			line.WriteString(strings.Repeat(" ", widths[n]-utf8.RuneCountInString(cell)+2))
		}
		if _, err := fmt.Fprintln(t.w, strings.TrimRight(line.String(), " ")); err != nil {
			return err
		}
	}
	return nil
}

// Shorten keeps a cell within a width; people see by the dots that there is more.
func Shorten(text string, width int) string {
	runes := []rune(text)
	if len(runes) <= width {
		return text
	}
	return string(runes[:width-1]) + "…"
}

// Plain writes a value as people read it; a point as latitude and longitude.
func Plain(raw json.RawMessage) string {
	var point struct {
		Type        string    `json:"type"`
		Coordinates []float64 `json:"coordinates"`
	}
	if len(raw) > 0 && raw[0] == '{' && json.Unmarshal(raw, &point) == nil && point.Type == "Point" &&
		len(point.Coordinates) >= 2 {
		return fmt.Sprintf("%.5f, %.5f", point.Coordinates[1], point.Coordinates[0])
	}
	return definition.Plain(raw)
}

// Edited writes what happened to a field: from what to what, and for a new record only to what.
func Edited(kind change.Kind, edit record.Edit, from, to string) string {
	switch {
	case kind == change.Add:
		return to
	case edit.From == nil:
		return "(none) → " + to
	case edit.To == nil:
		return from + " → (none)"
	}
	return from + " → " + to
}

// When shows a time as people read it.
func When(t time.Time) string {
	if t.IsZero() {
		return "-"
	}
	return t.Local().Format("2006-01-02 15:04:05")
}

// Whenever is When for a time that may not be.
func Whenever(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return When(*t)
}

// Count writes a number with its noun.
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Size shows a number of bytes.
func Size(bytes int) string {
	switch {
	case bytes < 10_000:
		return fmt.Sprintf("%d B", bytes)
	case bytes < 1_000_000:
		return fmt.Sprintf("%.1f kB", float64(bytes)/1000)
	}
	return fmt.Sprintf("%.1f MB", float64(bytes)/1e6)
}

// OnTerminal says whether w is a terminal that a person looks at.
func OnTerminal(w io.Writer) bool {
	file, ok := under(w).(*os.File)
	return ok && term.IsTerminal(int(file.Fd()))
}

// ProgressLine shows progress in one line of a terminal, and at most a line a second elsewhere.
type ProgressLine struct {
	w     io.Writer
	live  bool
	width int
	last  time.Time
}

// NewProgressLine makes a line on w, if that is a terminal.
func NewProgressLine(w io.Writer) *ProgressLine {
	if OnTerminal(w) {
		return &ProgressLine{w: under(w), live: true, last: time.Now()} // it moves the cursor itself
	}
	return &ProgressLine{w: w, last: time.Now()}
}

// Show puts a text in the place of the one before.
func (p *ProgressLine) Show(text string) {
	if p.live {
		fmt.Fprintf(p.w, "\r%-*s", p.width, strings.Map(func(r rune) rune {
			if !harmless(r) {
				return ' '
			}
			return r
		}, text))
		p.width = len([]rune(text))
		return
	}
	if time.Since(p.last) >= time.Second {
		p.last = time.Now()
		fmt.Fprintln(p.w, text)
	}
}

// Done takes the line away.
func (p *ProgressLine) Done() {
	if p.live && p.width > 0 {
		fmt.Fprintf(p.w, "\r%*s\r", p.width, "")
	}
}

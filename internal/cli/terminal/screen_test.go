package terminal_test

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"homing/internal/cli/terminal"
)

// What a record holds cannot move the cursor, colour the screen or turn the direction of writing; JSON says the same
// as before.
func TestRecordsDoNotWriteOnTheTerminal(t *testing.T) {
	evil := "a\x1b[2Jb\u009b31mc\u202egnp.exe\u2066d\x07\r\x00é\ttab"
	var out bytes.Buffer
	screen := terminal.NewScreen(&out)
	for _, b := range []byte("note: " + evil + "\n") { // a byte at a time
		if _, err := screen.Write([]byte{b}); err != nil {
			t.Fatal(err)
		}
	}
	want := "note: a\\u001b[2Jb\\u009b31mc\\u202egnp.exe\\u2066d\\u0007\\u000d\\u0000é\ttab\n"
	if out.String() != want {
		t.Errorf("on the screen stands %q", out.String())
	}
	out.Reset()
	if err := terminal.WriteJSON(terminal.NewScreen(&out), map[string]string{"note": evil}); err != nil {
		t.Fatal(err)
	}
	var back map[string]string
	if err := json.Unmarshal(out.Bytes(), &back); err != nil || back["note"] != evil {
		t.Errorf("JSON says %q, %v", back, err)
	}
	if strings.ContainsAny(out.String(), "\x1b\u009b\u202e") {
		t.Errorf("JSON brings %q to the screen", out.String())
	}
	out.Reset()
	table := terminal.NewTable(&out, "NOTE")
	table.Row(evil)
	if err := table.Flush(); err != nil || strings.ContainsAny(out.String(), "\x1b\u009b\u202e\u2066\x07\r\x00") {
		t.Errorf("a table shows %q, %v", out.String(), err)
	}
}

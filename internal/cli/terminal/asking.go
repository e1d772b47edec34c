package terminal

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"
)

// Ask asks a question that is answered with yes or no.
func Ask(w io.Writer, from io.Reader, question string) (bool, error) {
	fmt.Fprint(w, question)
	answer, err := bufio.NewReader(from).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return false, err
	}
	return strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "y"), nil
}

// Secret reads a PIN or password.
func Secret(c *cli.Command, flag, prompt string) (string, error) {
	if path := c.String(flag); path != "" {
		text, err := ReadAll(path)
		if err != nil {
			return "", err
		}
		line, _, _ := strings.Cut(string(text), "\n")
		return strings.TrimRight(line, "\r"), nil
	}
	if !OnTerminal(os.Stdin) {
		return "", Usage(fmt.Errorf("the PIN or password is needed: give a file with --%s", flag))
	}
	return askSecret(c.Root().ErrWriter, os.Stdin, prompt)
}

// AskPassword reads a password without showing it, or the first line of what is not a terminal.
func AskPassword(prompt io.Writer, from *os.File) (string, error) {
	if term.IsTerminal(int(from.Fd())) {
		return askSecret(prompt, from, "Password: ")
	}
	line, err := bufio.NewReader(from).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	if line = strings.TrimRight(line, "\r\n"); line == "" {
		return "", Usage(errors.New("no password: type it, or give it as the first line of standard input"))
	}
	return line, nil
}

// AskPasswords reads several passwords without showing them, or as many lines of what is not a terminal.
func AskPasswords(prompt io.Writer, from *os.File, questions ...string) (all []string, err error) {
	lines := bufio.NewReader(from)
	for _, question := range questions {
		text := ""
		if term.IsTerminal(int(from.Fd())) {
			text, err = askSecret(prompt, from, question)
		} else if text, err = lines.ReadString('\n'); errors.Is(err, io.EOF) {
			err = nil
		}
		if err != nil {
			return nil, err
		}
		if text = strings.TrimRight(text, "\r\n"); text == "" {
			return nil, Usage(errors.New("no password: type it, or give each as a line of standard input"))
		}
		all = append(all, text)
	}
	return all, nil
}

// askSecret reads a line from a terminal without showing it.
func askSecret(prompt io.Writer, from *os.File, question string) (string, error) {
	fmt.Fprint(prompt, question)
	text, err := term.ReadPassword(int(from.Fd()))
	fmt.Fprintln(prompt)
	return string(text), err
}

// Package office is the commands that run central and that people give to it: each is a call of the HTTP interface, as
// whoever is signed in.
package office

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"homing/internal/cli/terminal"
	"homing/link"
	"homing/wire"
)

// DefaultCentral is where homing serve listens when nobody says otherwise.
const DefaultCentral = "http://127.0.0.1:8400"

// CentralFlags are those of every command that asks central.
func CentralFlags(more ...cli.Flag) []cli.Flag {
	return append(more,
		&cli.StringFlag{Name: "central", Usage: "`URL` of central; otherwise the one signed in to, or " + DefaultCentral,
			Sources: Env("CENTRAL")},
		&cli.StringFlag{Name: "token", Usage: "`TOKEN` of a session, instead of signing in", Sources: Env("TOKEN")},
		InTheClear)
}

// InTheClear allows links that others can read.
var InTheClear = &cli.BoolFlag{Name: "in-the-clear", Usage: "allow plain HTTP to another machine, which others can read on the way",
	Sources: Env("IN_THE_CLEAR")}

// HowOf says how a command's links may be made.
func HowOf(c *cli.Command) link.How { return link.How{InTheClear: c.Bool("in-the-clear")} }

// signedIn is what a sign-in leaves behind for the next commands.
type signedIn struct {
	Central string `json:"central"`
	Worker  string `json:"worker"`
	Token   string `json:"token"`
}

func signInFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("no folder for the sign-in: %w", err)
	}
	return filepath.Join(dir, "homing", "sign-in.json"), nil
}

func readSignIn() (signedIn, error) {
	path, err := signInFile()
	if err != nil {
		return signedIn{}, nil // without a home there is nothing to read
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return signedIn{}, nil
	}
	var known signedIn
	if err == nil {
		err = json.Unmarshal(text, &known)
	}
	if err != nil {
		return known, fmt.Errorf("the sign-in in %s cannot be read: %w; sign in again", path, err)
	}
	return known, nil
}

// Caller calls central for the command that is run.
type Caller struct{ *link.Link }

// NewCaller calls central as whoever is signed in.
func NewCaller(c *cli.Command) (Caller, error) {
	known, err := readSignIn()
	if err != nil {
		return Caller{}, err
	}
	address, token := c.String("central"), c.String("token")
	if address == "" {
		address = known.Central
	}
	if address == "" {
		address = DefaultCentral
	}
	if token == "" && strings.TrimSuffix(address, "/") == known.Central {
		token = known.Token
	}
	l, err := link.New(address, token, "homing command line", HowOf(c))
	if err != nil {
		return Caller{}, terminal.Usage(err)
	}
	return Caller{l}, nil
}

// Get asks for what lies at a path.
func (c Caller) Get(ctx context.Context, path string, out any) error {
	return c.Send(ctx, http.MethodGet, path, nil, out)
}

// Send sends what a command writes.
func (c Caller) Send(ctx context.Context, method, path string, in, out any) error {
	_, err := c.Call(ctx, method, path, nil, in, out)
	var problem *link.Problem
	if errors.As(err, &problem) && problem.Status == http.StatusUnauthorized {
		return terminal.Coded(fmt.Errorf("%w: homing sign-in --central %s", err, c.Base()), terminal.ExitNotAllowed)
	}
	return err
}

// SignInCommand is homing sign-in.
func SignInCommand() *cli.Command {
	return &cli.Command{
		Name:  "sign-in",
		Usage: "sign in to central; later commands use it",
		Description: `The password is asked for, or read from the first line of standard input. What is kept lies in your configuration folder,
readable by you alone.`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "central", Usage: "`URL` of central", Value: DefaultCentral, Sources: Env("CENTRAL")},
			InTheClear,
			&cli.StringFlag{Name: "worker", Usage: "your `NAME`", Required: true},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			password, err := terminal.AskPassword(c.Root().ErrWriter, os.Stdin)
			if err != nil {
				return err
			}
			l, err := link.New(c.String("central"), "", "homing command line", HowOf(c))
			if err != nil {
				return terminal.Usage(err)
			}
			var got struct {
				Worker string `json:"worker"`
				Role   string `json:"role"`
				Token  string `json:"token"`
			}
			in := map[string]string{"worker": c.String("worker"), "password": password}
			if _, err := l.Call(ctx, http.MethodPost, "/v1/session", nil, in, &got); err != nil {
				return err
			}
			if err := keepSignIn(signedIn{Central: l.Base(), Worker: got.Worker, Token: got.Token}); err != nil {
				return err
			}
			fmt.Fprintf(c.Root().Writer, "Signed in to %s as %s (%s).\n", l.Base(), got.Worker, got.Role)
			return nil
		},
	}
}

func keepSignIn(s signedIn) error {
	path, err := signInFile()
	if err != nil {
		return err
	}
	text, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return os.WriteFile(path, append(text, '\n'), 0o600)
}

// SignOutCommand is homing sign-out.
func SignOutCommand() *cli.Command {
	return &cli.Command{
		Name:  "sign-out",
		Usage: "end the sign-in; local stores and what is unsent stay",
		Action: func(ctx context.Context, c *cli.Command) error {
			known, err := readSignIn()
			if err != nil || known.Token == "" {
				fmt.Fprintln(c.Root().Writer, "Nobody was signed in.")
				return err
			}
			// It was allowed when the sign-in was made.
			l, err := link.New(known.Central, known.Token, "homing command line", link.How{InTheClear: true})
			if err == nil {
				_, err = l.Call(ctx, http.MethodDelete, "/v1/session", nil, nil, nil)
			}
			path, pathErr := signInFile()
			if pathErr != nil {
				return pathErr
			}
			if err := os.Remove(path); err != nil {
				return err
			}
			fmt.Fprintln(c.Root().Writer, "Signed out.")
			if err != nil {
				fmt.Fprintf(c.Root().ErrWriter, "homing: central was not told (%v); the session there ends by itself\n", err)
			}
			return nil
		},
	}
}

// StatusCommand is homing status.
func StatusCommand() *cli.Command {
	return &cli.Command{
		Name:  "status",
		Usage: "show central's collections and who is signed in",
		Flags: CentralFlags(terminal.JSON),
		Action: func(ctx context.Context, c *cli.Command) error {
			call, err := NewCaller(c)
			if err != nil {
				return err
			}
			var status struct {
				Central string     `json:"central"`
				Hello   wire.Hello `json:"hello"`
				Session struct {
					Worker string `json:"worker"`
					Role   string `json:"role"`
				} `json:"session"`
				Collections []struct {
					Collection string  `json:"collection"`
					Version    int     `json:"version"`
					Records    int64   `json:"records"`
					Removed    int64   `json:"removed"`
					Head       int64   `json:"head"`
					LastChange *string `json:"last_change,omitempty"`
				} `json:"collections"`
			}
			status.Central = call.Base()
			if err := call.Get(ctx, "/v1/hello", &status.Hello); err != nil {
				return err
			}
			if err := errors.Join(call.Get(ctx, "/v1/session", &status.Session),
				call.Get(ctx, "/v1/collections", &status.Collections)); err != nil {
				return err
			}
			w := c.Root().Writer
			if c.Bool("json") {
				return terminal.WriteJSON(w, status)
			}
			fmt.Fprintf(w, "Central     %s (build %s, generation %s)\n", status.Central, status.Hello.Build,
				status.Hello.Generation)
			fmt.Fprintf(w, "Signed in   %s (%s)\n", status.Session.Worker, status.Session.Role)
			if status.Hello.Open {
				fmt.Fprintf(w, "%s\n", OpenNotice)
			}
			if len(status.Collections) == 0 {
				fmt.Fprintln(w, "\nNothing is defined yet: homing define FILE…")
				return nil
			}
			fmt.Fprintln(w)
			t := terminal.NewTable(w, "COLLECTION", "VERSION", "RECORDS", "REMOVED", "HEAD", "LAST CHANGE")
			for _, one := range status.Collections {
				last := "-"
				if one.LastChange != nil {
					last = *one.LastChange
				}
				t.Row(one.Collection, one.Version, one.Records, one.Removed, one.Head, last)
			}
			return t.Flush()
		},
	}
}

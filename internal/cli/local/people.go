package local

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"homing/device"
	"homing/internal/cli/terminal"
)

const secretHelp = "The PIN or password is asked for, or read from the first line of --secret-file; it is never " +
	"given on the command line, where others could see it."

func secretFlag() cli.Flag {
	return &cli.StringFlag{Name: "secret-file", Usage: "`FILE` whose first line is the PIN or password, - for " +
		"standard input"}
}

func oldSecretFlag() cli.Flag {
	return &cli.StringFlag{Name: "old-secret-file", Usage: "`FILE` whose first line is the one before"}
}

func localPeople(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		people, err := store.People(ctx)
		if err != nil {
			return err
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return terminal.WriteJSON(w, people)
		}
		if len(people) == 0 {
			fmt.Fprintln(w, "Nobody yet: homing local enrol")
			return nil
		}
		t := terminal.NewTable(w, "WORKER", "ROLE", "UNSENT", "PIN OR PASSWORD", "")
		for _, who := range people {
			set, now := "not set", ""
			if who.Secret {
				set = "set"
			}
			if who.SignedIn {
				now = "signed in"
			}
			t.Row(who.Name, who.Role, who.Unsent, set, now)
		}
		return t.Flush()
	})
}

func localJoin(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		people, err := store.People(ctx)
		if err != nil {
			return err
		}
		for _, who := range people {
			if who.SignedIn && !who.Secret {
				return terminal.Coded(fmt.Errorf("%s has no PIN or password on this device yet; set one first with homing local "+
					"secret, or whoever joins could sign in as %[1]s", who.Name), terminal.ExitRefused)
			}
		}
		text, err := terminal.Secret(c, "secret-file", "PIN or password for this device: ")
		if err != nil {
			return err
		}
		name, err := store.Join(ctx, c.String("code"), text)
		if err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "%s has joined this device and is signed in. Load what they cover with: homing "+
			"local exchange\n", name)
		return nil
	})
}

func localSecret(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		people, err := store.People(ctx)
		if err != nil {
			return err
		}
		old := ""
		for _, who := range people {
			if who.SignedIn && who.Secret {
				if old, err = terminal.Secret(c, "old-secret-file", "The one before: "); err != nil {
					return err
				}
			}
		}
		text, err := terminal.Secret(c, "secret-file", "New PIN or password: ")
		if err != nil {
			return err
		}
		if err := store.SetSecret(ctx, old, text); err != nil {
			return err
		}
		fmt.Fprintln(c.Root().Writer, "Set. It opens this device for you, with signal or without.")
		return nil
	})
}

func localSignIn(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "WORKER")
	if err != nil {
		return err
	}
	return withStore(ctx, c, func(store *device.Store) error {
		people, err := store.People(ctx)
		if err != nil {
			return err
		}
		text := ""
		for _, who := range people {
			if who.Name == args[0] && who.Secret {
				if text, err = terminal.Secret(c, "secret-file", "PIN or password: "); err != nil {
					return err
				}
			}
		}
		if err := store.SignIn(ctx, args[0], text); err != nil {
			return err
		}
		queue, err := store.Review(ctx)
		if err != nil {
			return err
		}
		if people, err = store.People(ctx); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "Signed in as %s.%s\n", args[0], unsentOf(people, len(queue)))
		return nil
	})
}

// unsentOf says what of theirs whoever is signed in finds again, and what stays sealed since they forgot a PIN.
func unsentOf(people []device.Worker, open int) (text string) {
	for _, who := range people {
		if !who.SignedIn {
			continue
		}
		if open > 0 {
			text = fmt.Sprintf(" Unsent of yours: %s.", terminal.Count(open, "change"))
		}
		if sealed := who.Unsent - open; sealed > 0 {
			text += fmt.Sprintf(" Sealed under an earlier PIN or password of yours: %s. The next exchange delivers them.",
				terminal.Count(sealed, "change"))
		}
	}
	return text
}

func localSignOut(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		unsent, err := store.SignOut(ctx)
		if err != nil {
			return err
		}
		if unsent == 0 {
			fmt.Fprintln(c.Root().Writer, "Signed out. Nothing of yours is unsent.")
			return nil
		}
		fmt.Fprintf(c.Root().Writer, "Signed out. Unsent of yours: %s. They stay here, sealed for you, and go to "+
			"central with the next exchange.\n", terminal.Count(unsent, "change"))
		return nil
	})
}

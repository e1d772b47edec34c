package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"homing/device"
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

// secret reads a PIN or password.
func secret(c *cli.Command, flag, prompt string) (string, error) {
	if path := c.String(flag); path != "" {
		text, err := readAll(path)
		if err != nil {
			return "", err
		}
		line, _, _ := strings.Cut(string(text), "\n")
		return strings.TrimRight(line, "\r"), nil
	}
	if !onTerminal(os.Stdin) {
		return "", usageError{fmt.Errorf("the PIN or password is needed: give a file with --%s", flag)}
	}
	return askSecret(c.Root().ErrWriter, os.Stdin, prompt)
}

func localPeople(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		people, err := store.People(ctx)
		if err != nil {
			return err
		}
		w := c.Root().Writer
		if c.Bool("json") {
			return writeJSON(w, people)
		}
		if len(people) == 0 {
			fmt.Fprintln(w, "Nobody yet: homing local enrol")
			return nil
		}
		t := newTable(w, "WORKER", "ROLE", "UNSENT", "PIN OR PASSWORD", "")
		for _, who := range people {
			set, now := "not set", ""
			if who.Secret {
				set = "set"
			}
			if who.SignedIn {
				now = "signed in"
			}
			t.row(who.Name, who.Role, who.Unsent, set, now)
		}
		return t.flush()
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
				return codedError{fmt.Errorf("%s has no PIN or password on this device yet; set one first with homing local "+
					"secret, or whoever joins could sign in as %[1]s", who.Name), exitRefused}
			}
		}
		text, err := secret(c, "secret-file", "PIN or password for this device: ")
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
				if old, err = secret(c, "old-secret-file", "The one before: "); err != nil {
					return err
				}
			}
		}
		text, err := secret(c, "secret-file", "New PIN or password: ")
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
	args, err := arguments(c, "WORKER")
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
				if text, err = secret(c, "secret-file", "PIN or password: "); err != nil {
					return err
				}
			}
		}
		if err := store.SignIn(ctx, args[0], text); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "Signed in as %s.\n", args[0])
		return nil
	})
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
			"central with the next exchange.\n", count(unsent, "change"))
		return nil
	})
}

func localMetered(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, "on or off")
	if err != nil {
		return err
	}
	if args[0] != "on" && args[0] != "off" {
		return usageError{fmt.Errorf("%q: say on or off", args[0])}
	}
	return withStore(ctx, c, func(store *device.Store) error {
		if err := store.SetMetered(ctx, args[0] == "on"); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "The link counts as %s.\n",
			map[string]string{"on": "metered: timed exchanges that are told to hold back wait", "off": "not metered"}[args[0]])
		return nil
	})
}

func localBudget(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, "SIZE")
	if err != nil {
		return err
	}
	bytes, err := parseSize(args[0])
	if err != nil {
		return usageError{err}
	}
	return withStore(ctx, c, func(store *device.Store) error {
		if err := store.SetBudget(ctx, bytes); err != nil {
			return err
		}
		used, _, err := store.LookedUp(ctx)
		if err != nil {
			return err
		}
		if bytes == 0 {
			fmt.Fprintf(c.Root().Writer, "No bound; records that were looked up take %s.\n", size(int(used)))
			return nil
		}
		fmt.Fprintf(c.Root().Writer, "Records that were looked up take %s of %s. When there are more, those used least "+
			"lately go first.\n", size(int(used)), size(int(bytes)))
		return nil
	})
}

// parseSize reads a number of bytes such as 800kB, 50MB or 2GB.
func parseSize(text string) (int64, error) {
	units := []struct {
		name  string
		bytes int64
	}{{"kb", 1000}, {"mb", 1000 * 1000}, {"gb", 1000 * 1000 * 1000}, {"", 1}}
	for _, unit := range units {
		if number, fits := strings.CutSuffix(strings.ToLower(strings.TrimSpace(text)), unit.name); fits {
			n, err := strconv.ParseInt(strings.TrimSpace(number), 10, 32)
			if err != nil || n < 0 {
				break
			}
			return n * unit.bytes, nil
		}
	}
	return 0, fmt.Errorf("%q is not a size: write it as 800kB, 50MB or 2GB", text)
}

func localBackup(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, "FILE")
	if err != nil {
		return err
	}
	return withStore(ctx, c, func(store *device.Store) error {
		if err := store.Backup(ctx, args[0]); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "Wrote %s.\n", args[0])
		return nil
	})
}

func localErase(ctx context.Context, c *cli.Command) error {
	return withStore(ctx, c, func(store *device.Store) error {
		status, err := store.Status(ctx)
		if err != nil {
			return err
		}
		unsent := status.Unsent + status.Refused + status.Waiting
		backup := c.String("backup")
		if backup == "" {
			backup = store.Path() + time.Now().Format(".2006-01-02-150405.backup")
		}
		if unsent > 0 && !c.Bool("discard") {
			return fmt.Errorf("%w: %s would be lost. Exchange first; or give them up with --discard, which writes a backup",
				device.ErrUnsent, count(unsent, "change"))
		}
		backups, err := store.Backups()
		if err != nil {
			return err
		}
		if !c.Bool("yes") {
			if !onTerminal(os.Stdin) {
				return usageError{errors.New("nothing was erased; say --yes to erase without being asked")}
			}
			yes, err := ask(c.Root().ErrWriter, os.Stdin, fmt.Sprintf("Erase %s with %s unsent, and %s beside it? [y/N] ",
				store.Path(), count(unsent, "change"), count(len(backups), "backup")))
			if err != nil || !yes {
				return codedError{errors.New("nothing was erased"), exitRefused}
			}
		}
		if err := store.Erase(ctx, c.Bool("discard"), backup); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "Erased %s", store.Path())
		if len(backups) > 0 {
			fmt.Fprintf(c.Root().Writer, ", and %s beside it that held what it held", count(len(backups), "backup"))
		}
		fmt.Fprintln(c.Root().Writer, ".")
		if unsent > 0 {
			fmt.Fprintf(c.Root().Writer, "What was unsent is in %s.\n", backup)
		}
		return nil
	})
}

// ask asks a question that is answered with yes or no.
func ask(w io.Writer, from io.Reader, question string) (bool, error) {
	fmt.Fprint(w, question)
	answer, err := bufio.NewReader(from).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return false, err
	}
	return strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "y"), nil
}

func localRestore(ctx context.Context, c *cli.Command) error {
	args, err := arguments(c, "FILE")
	if err != nil {
		return err
	}
	path, err := storePath(c)
	if err != nil {
		return err
	}
	passphrase, err := passphraseOf(c)
	if err != nil {
		return err
	}
	if err := device.Restore(ctx, args[0], path, device.Options{Passphrase: passphrase}); err != nil {
		return err
	}
	fmt.Fprintf(c.Root().Writer, "Restored to %s. Bring it up to date with: homing local exchange\n", path)
	return nil
}

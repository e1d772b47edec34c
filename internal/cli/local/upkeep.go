package local

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"homing/device"
	"homing/internal/cli/terminal"
)

func localMetered(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "on or off")
	if err != nil {
		return err
	}
	if args[0] != "on" && args[0] != "off" {
		return terminal.Usage(fmt.Errorf("%q: say on or off", args[0]))
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
	args, err := terminal.Arguments(c, "SIZE")
	if err != nil {
		return err
	}
	bytes, err := parseSize(args[0])
	if err != nil {
		return terminal.Usage(err)
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
			fmt.Fprintf(c.Root().Writer, "No bound; records that were looked up take %s.\n", terminal.Size(int(used)))
			return nil
		}
		fmt.Fprintf(c.Root().Writer, "Records that were looked up take %s of %s. When there are more, those used least "+
			"lately go first.\n", terminal.Size(int(used)), terminal.Size(int(bytes)))
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
	args, err := terminal.Arguments(c, "FILE")
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
				device.ErrUnsent, terminal.Count(unsent, "change"))
		}
		backups, err := store.Backups()
		if err != nil {
			return err
		}
		if !c.Bool("yes") {
			if !terminal.OnTerminal(os.Stdin) {
				return terminal.Usage(errors.New("nothing was erased; say --yes to erase without being asked"))
			}
			yes, err := terminal.Ask(c.Root().ErrWriter, os.Stdin, fmt.Sprintf("Erase %s with %s unsent, and %s beside it? [y/N] ",
				store.Path(), terminal.Count(unsent, "change"), terminal.Count(len(backups), "backup")))
			if err != nil || !yes {
				return terminal.Coded(errors.New("nothing was erased"), terminal.ExitRefused)
			}
		}
		if err := store.Erase(ctx, c.Bool("discard"), backup); err != nil {
			return err
		}
		fmt.Fprintf(c.Root().Writer, "Erased %s", store.Path())
		if len(backups) > 0 {
			fmt.Fprintf(c.Root().Writer, ", and %s beside it that held what it held", terminal.Count(len(backups), "backup"))
		}
		fmt.Fprintln(c.Root().Writer, ".")
		if unsent > 0 {
			fmt.Fprintf(c.Root().Writer, "What was unsent is in %s.\n", backup)
		}
		return nil
	})
}

func localRestore(ctx context.Context, c *cli.Command) error {
	args, err := terminal.Arguments(c, "FILE")
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

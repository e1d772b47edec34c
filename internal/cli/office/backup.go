package office

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"homing/internal/cli/terminal"
	"homing/service"
)

func databaseFlags(more ...cli.Flag) []cli.Flag {
	return append(more, &cli.StringFlag{Name: "database", Usage: "`URL` of a PostgreSQL database; none means the " +
		"private PostgreSQL in --data", Sources: Env("DATABASE")},
		&cli.StringFlag{Name: "data", Value: "homing-data", Usage: "`FOLDER` of the private PostgreSQL",
			Sources: Env("DATA")})
}

// BackupCommand is homing backup.
func BackupCommand() *cli.Command {
	return &cli.Command{
		Name:      "backup",
		Usage:     "write all that central has to a file, while it runs",
		ArgsUsage: "[FILE]",
		Description: `The file holds the whole database as of one moment, in the archive format of PostgreSQL's pg_dump. Without FILE it is called after the
time. Everything that devices have sent until that moment is in it.

EXAMPLES
   homing backup
   homing backup --database postgres://homing@db.example/homing /backups/tonight.dump`,
		Flags: databaseFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			path := "homing-" + time.Now().Format("2006-01-02-150405") + ".dump"
			if c.Args().Len() > 1 {
				return terminal.Usage(errors.New("homing backup takes one FILE"))
			}
			if c.Args().Present() {
				path = c.Args().First()
			}
			if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
				return terminal.Usage(fmt.Errorf("%s is there already; name a new file", path))
			}
			if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
				return err
			}
			if err := service.Backup(ctx, c.String("database"), c.String("data"), path); err != nil {
				return err
			}
			info, err := os.Stat(path)
			if err != nil {
				return err
			}
			fmt.Fprintf(c.Root().Writer, "Wrote %s (%s). Put it back with: homing restore %s\n", path, terminal.Size(int(info.Size())),
				path)
			return nil
		},
	}
}

// RestoreCommand is homing restore.
func RestoreCommand() *cli.Command {
	return &cli.Command{
		Name:      "restore",
		Usage:     "put central back as it was in a backup",
		ArgsUsage: "FILE",
		Description: `Stop central first. What the database has now is kept in a backup beside FILE, and is then replaced. The restored database gets a new
generation: devices notice that with their next exchange, load anew, and offer again what they had sent after the backup. Nobody counts
twice. Numbers of series go on a thousand further, so that none is handed out twice. People must sign in again.

Changes made after the backup by devices that never come back, or at central itself, are on the devices that had pulled them, and in the
backup of the replaced database: homing local lost lists them.`,
		Flags: databaseFlags(&cli.BoolFlag{Name: "yes", Usage: "do not ask"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			args, err := terminal.Arguments(c, "FILE")
			if err != nil {
				return err
			}
			if _, err := os.Stat(args[0]); err != nil {
				return terminal.Usage(err)
			}
			if !c.Bool("yes") {
				if !terminal.OnTerminal(os.Stdin) {
					return terminal.Usage(errors.New("nothing was restored; say --yes to restore without being asked"))
				}
				yes, err := terminal.Ask(c.Root().ErrWriter, os.Stdin, fmt.Sprintf("Replace all that central has by %s? [y/N] ", args[0]))
				if err != nil || !yes {
					return terminal.Coded(errors.New("nothing was restored"), terminal.ExitRefused)
				}
			}
			before := args[0] + ".replaced-" + time.Now().Format("2006-01-02-150405") + ".dump"
			generation, err := service.Restore(ctx, c.String("database"), c.String("data"), args[0], before)
			if err != nil {
				return err
			}
			fmt.Fprintf(c.Root().Writer, "Restored. The database's generation is %s now; what it had before is in "+
				"%s.\nStart central again; devices bring back what was lost with their next exchange.\n", generation, before)
			return nil
		},
	}
}

// Package cli is the command line: one file for each family of commands.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"homing/link"
)

// Main runs the program and returns its exit code.
func Main(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return Run(ctx, args, os.Stdout, os.Stderr)
}

// Run runs one command line and returns its exit code. Errors are one or two plain lines on stderr.
func Run(ctx context.Context, args []string, stdout, stderr io.Writer) int {
	root := command(stdout, stderr)
	err := root.Run(ctx, args)
	if err != nil {
		if text := err.Error(); text != "" {
			fmt.Fprintf(stderr, "homing: %s\n", text)
		}
		var problem *link.Problem
		if errors.As(err, &problem) {
			for n, reason := range problem.Reasons {
				if n > 0 || !strings.Contains(problem.Detail, reason.Message) {
					fmt.Fprintf(stderr, "  %s %s\n", reason.Field, reason.Message)
				}
			}
		}
	}
	return exitCode(err)
}

// build is the program's version: the revision it was built from, or "development".
func build() string {
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, setting := range info.Settings {
			if setting.Key == "vcs.revision" && len(setting.Value) >= 12 {
				return setting.Value[:12]
			}
		}
	}
	return "development"
}

func command(stdout, stderr io.Writer) *cli.Command {
	root := &cli.Command{
		Name:    "homing",
		Usage:   "carry field data home: records edited without signal, brought together at central",
		Version: build(),
		Description: `A first hour, on one machine:

   homing serve --open                              start central (leave it running)
   homing define trails.yaml                        say what is collected
   homing local enrol --name "Valley tablet"        make a local store and enrol it
   homing local exchange                            load it
   homing local add trails --set name="Ridge Path"  edit without signal
   homing local review                              see what will be sent
   homing local exchange                            back in signal
   homing records list trails                       see it at central

` + exitHelp,
		Writer: stdout, ErrWriter: stderr,
		ExitErrHandler:        func(context.Context, *cli.Command, error) {},
		EnableShellCompletion: true,
		Suggest:               true,
		Commands: []*cli.Command{
			serveCommand(), signInCommand(), signOutCommand(), statusCommand(), defineCommand(), importCommand(),
			exportCommand(), recordsCommand(), workersCommand(), territoriesCommand(),
			devicesCommand(), exchangesCommand(), conflictsCommand(), tryCommand(), rehearseCommand(), verifyCommand(),
			backupCommand(), restoreCommand(), localCommand(), generateCommand(), demoCommand(), openAPICommand(),
		},
	}
	walk(root)
	return root
}

// walk makes every command of the tree report wrong usage in one way, and take flags after arguments.
func walk(c *cli.Command) {
	c.DisableSliceFlagSeparator = true // commas belong to the values
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		return usageError{fmt.Errorf("%w (see %s --help)", err, c.FullName())}
	}
	if c.Action == nil && len(c.Commands) > 0 {
		c.Action = func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usageError{fmt.Errorf("there is no command %q (see %s --help)", c.Args().First(), c.FullName())}
			}
			return cli.ShowSubcommandHelp(c)
		}
	}
	for _, sub := range c.Commands {
		walk(sub)
	}
}

// arguments gives the command's arguments if there are as many as it wants.
func arguments(c *cli.Command, names ...string) ([]string, error) {
	if c.Args().Len() != len(names) {
		return nil, usageError{fmt.Errorf("%s takes %s, not %d arguments (see %s --help)", c.FullName(),
			strings.Join(names, " and "), c.Args().Len(), c.FullName())}
	}
	return c.Args().Slice(), nil
}

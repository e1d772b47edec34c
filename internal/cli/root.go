// Package cli is the command line: here the whole of it is put together, and each family of commands has a room of its
// own.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"homing/internal/cli/intake"
	"homing/internal/cli/local"
	"homing/internal/cli/office"
	"homing/internal/cli/terminal"
	"homing/internal/cli/trial"
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
	stdout, stderr = terminal.NewScreen(stdout), terminal.NewScreen(stderr)
	root := command(stdout, stderr)
	err := root.Run(ctx, args)
	if err != nil {
		if text := err.Error(); text != "" {
			if hint := terminal.Hint(err); hint != "" {
				text += " (" + hint + ")"
			}
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
	return terminal.ExitCode(err)
}

func command(stdout, stderr io.Writer) *cli.Command {
	root := &cli.Command{
		Name:    "homing",
		Usage:   "carry field data home: records edited without signal, brought together at central",
		Version: terminal.Build(),
		Description: `A first hour, on one machine:

   homing serve --open                              start central (leave it running)
   homing define trails.yaml                        say what is collected
   homing local enrol --name "Valley tablet"        make a local store and enrol it
   homing local exchange                            load it
   homing local add trails --set name="Ridge Path"  edit without signal
   homing local review                              see what will be sent
   homing local exchange                            back in signal
   homing records list trails                       see it at central

` + terminal.ExitHelp,
		Writer: stdout, ErrWriter: stderr,
		ExitErrHandler:        func(context.Context, *cli.Command, error) {},
		EnableShellCompletion: true,
		Suggest:               true,
		Commands: []*cli.Command{
			office.ServeCommand(), office.SignInCommand(), office.SignOutCommand(), office.StatusCommand(),
			office.DefineCommand(), intake.ImportCommand(), office.ExportCommand(), office.RecordsCommand(),
			office.WorkersCommand(), office.TerritoriesCommand(), office.DevicesCommand(), office.ExchangesCommand(),
			office.ConflictsCommand(), trial.TryCommand(), trial.RehearseCommand(), local.VerifyCommand(),
			office.AnalystsCommand(), office.BackupCommand(), office.RestoreCommand(), local.Command(), trial.GenerateCommand(), trial.ConformCommand(), trial.DriveCommand(), trial.DemoCommand(),
			office.PasswordCommand(), office.SignInsCommand(), office.AuditCommand(), office.CoverageCommand(), office.SettingsCommand(), office.FollowUpsCommand(), office.FeedsCommand(), office.HealthCommand(), office.OpenAPICommand(),
		},
	}
	walk(root)
	return root
}

// walk makes every command of the tree report wrong usage in one way, and take flags after arguments.
func walk(c *cli.Command) {
	c.DisableSliceFlagSeparator = true // commas belong to the values
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		return terminal.Usage(fmt.Errorf("%w (see %s --help)", err, c.FullName()))
	}
	if c.Action == nil && len(c.Commands) > 0 {
		c.Action = func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return terminal.Usage(fmt.Errorf("there is no command %q (see %s --help)", c.Args().First(), c.FullName()))
			}
			return cli.ShowSubcommandHelp(c)
		}
	}
	if act := c.Action; act != nil && len(c.Commands) == 0 && c.ArgsUsage == "" {
		c.Action = func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return terminal.Usage(fmt.Errorf("%s takes no %q (see %s --help)", c.FullName(), c.Args().First(), c.FullName()))
			}
			return act(ctx, c)
		}
	}
	for _, sub := range c.Commands {
		walk(sub)
	}
}

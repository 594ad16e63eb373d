// Package cli is the command line: it asks the service through the client, shows
// what comes back, and starts the processes (serve, worker, demo).
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"runtime"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/spf13/viper"
	"golang.org/x/term"

	"dustyferry/client"
)

// Exit codes, documented in the help of the root command and in [ExitCodes].
const (
	ExitOK       = 0
	ExitProblem  = 1
	ExitUsage    = 2
	ExitFindings = 3
	ExitHeld     = 4
	ExitUndone   = 5
	ExitStopped  = 130
)

// ExitCodes say what each exit code means.
var ExitCodes = []struct {
	Code  int
	Means string
}{
	{ExitOK, "Done."},
	{ExitProblem, "The service or a database refused it, or it failed; the message says why and what to do."},
	{ExitUsage, "The command line is wrong; nothing was asked of the service."},
	{ExitFindings, "A comparison found differences, or a fit check values that would stop the load."},
	{ExitHeld, "Something waits for a person, or a readiness check stands in the way."},
	{ExitUndone, "A cutover was undone: the source takes writes again."},
	{ExitStopped, "Stopped by Ctrl-C. What was begun goes on in the service."},
}

// version is set by the build.
var version = "0.1.0-dev"

// coded is an error with an exit code of its own.
type coded struct {
	code int
	err  error
}

func (c *coded) Error() string { return c.err.Error() }
func (c *coded) Unwrap() error { return c.err }

func exitWith(code int, format string, args ...any) error {
	return &coded{code, fmt.Errorf(format, args...)}
}

// app is what every command shares.
type app struct {
	conf *viper.Viper
	ran  bool // the command line was understood, and a command began
	out  io.Writer
	err  io.Writer
}

// Main runs the program and returns its exit code.
func Main() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{conf: viper.New(), out: os.Stdout, err: os.Stderr}
	grouping = term.IsTerminal(int(os.Stdout.Fd()))
	root := a.root()
	err := root.ExecuteContext(ctx)
	if err == nil {
		return ExitOK
	}
	if errors.Is(err, context.Canceled) && ctx.Err() != nil {
		return 130
	}
	fmt.Fprintln(os.Stderr, "Error: "+harmless(err.Error(), "\n\t"))
	var c *coded
	switch {
	case errors.As(err, &c):
		return c.code
	case !a.ran: // the command line was not even understood
		return ExitUsage
	}
	return ExitProblem
}

// groups gives every command that only holds others a way to say that one is not there:
// by itself it would print its help and succeed.
func groups(c *cobra.Command) {
	for _, sub := range c.Commands() {
		groups(sub)
	}
	if c.Runnable() || !c.HasSubCommands() {
		return
	}
	c.Args = cobra.ArbitraryArgs
	c.SuggestionsMinimumDistance = 2
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return cmd.Help()
		}
		text := fmt.Sprintf("%s has no command %q", cmd.CommandPath(), args[0])
		if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
			text += "; did you mean " + strings.Join(near, " or ") + "?"
		}
		return exitWith(ExitUsage, "%s; see '%s --help'", text, cmd.CommandPath())
	}
}

// atMostOne is for commands that take a name, or none.
func atMostOne(cmd *cobra.Command, args []string) error {
	if len(args) > 1 {
		return exitWith(ExitUsage, "unexpected argument %q; see '%s --help'", args[1], cmd.CommandPath())
	}
	return nil
}

// none is for commands that take no arguments.
func none(cmd *cobra.Command, args []string) error {
	if len(args) > 0 {
		return exitWith(ExitUsage, "unexpected argument %q; see '%s --help'", args[0], cmd.CommandPath())
	}
	return nil
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "dustyferry",
		Short: "Take tables from one live database to another without losing a row",
		Long: `Dusty Ferry takes tables from one live database to another, without stopping
the business and without losing a row: it copies them in resumable chunks while
change capture keeps up with live writes, compares both sides row by row, and
cuts over with a way to undo.

Settings come from flags, then environment variables (DUSTYFERRY_SERVICE for
--service and so on), then a YAML file (--config).

Exit codes: 0 done, 1 refused or failed, 2 wrong command line, 3 a comparison
found differences, 4 something waits for a person or stands in the way, 5 a
cutover was undone, 130 stopped by Ctrl-C.`,
		Example: `  dustyferry serve                       start the service
  dustyferry demo                        try everything on made-up data
  dustyferry database add old --host 127.0.0.1 --database shop --user dusty
  dustyferry crossing create spring --source old --target new --table 'shop.*'
  dustyferry survey spring
  dustyferry crossing start spring
  dustyferry watch spring`,
		SilenceUsage:  true,
		SilenceErrors: true,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			err := a.readConfig(cmd)
			a.ran = err == nil
			return err
		},
	}
	f := root.PersistentFlags()
	f.String("config", "", "settings file (YAML)")
	f.String("service", "http://127.0.0.1:7420", "address of the service")
	f.String("token", "", "access token; better given as DUSTYFERRY_TOKEN")
	f.StringP("output", "o", "table", "form of the answer: table, json or yaml")
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return exitWith(ExitUsage, "%w; see '%s --help'", err, cmd.CommandPath())
	})
	root.AddGroup(&cobra.Group{ID: "journey", Title: "The journey:"}, &cobra.Group{ID: "service", Title: "The service:"})
	for _, c := range []*cobra.Command{a.databaseCmd(), a.crossingCmd(), a.surveyCmd(), a.fitCmd(), a.watchCmd(),
		a.reconcileCmd(), a.findingsCmd(), a.repairCmd(), a.recheckCmd(), a.cutoverCmd(), a.gatewayCmd(), a.certificateCmd(),
		a.scheduleCmd(), a.runsCmd(), a.taskCmd(), a.journalCmd()} {
		c.GroupID = "journey"
		root.AddCommand(c)
	}
	for _, c := range []*cobra.Command{a.serveCmd(), a.workerCmd(), a.migrateCmd(), a.workersCmd(), a.webhookCmd(),
		a.demoCmd(), a.policy(), a.tokenCmd(), a.versionCmd()} {
		c.GroupID = "service"
		root.AddCommand(c)
	}
	groups(root)
	return root
}

// readConfig binds flags, environment and file, in that order of strength.
func (a *app) readConfig(cmd *cobra.Command) error {
	a.conf.SetEnvPrefix("DUSTYFERRY")
	a.conf.SetEnvKeyReplacer(dashes)
	a.conf.AutomaticEnv()
	if err := a.conf.BindPFlags(cmd.Flags()); err != nil {
		return err
	}
	if path := a.conf.GetString("config"); path != "" {
		a.conf.SetConfigFile(path)
		a.conf.SetConfigType("yaml")
		if err := a.conf.ReadInConfig(); err != nil {
			return exitWith(ExitUsage, "the settings file %s cannot be read: %w", path, err)
		}
		if err := a.knownKeys(cmd.Root(), path); err != nil {
			return err
		}
	}
	switch a.conf.GetString("output") {
	case "table", "json", "yaml":
		return nil
	}
	return exitWith(ExitUsage, "--output is %q; choose table, json or yaml", a.conf.GetString("output"))
}

// knownKeys refuses a settings file with a key that no command has a flag for: what was
// meant by it would be left out in silence.
func (a *app) knownKeys(root *cobra.Command, path string) error {
	known := map[string]bool{}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, set := range []*pflag.FlagSet{c.Flags(), c.PersistentFlags()} {
			set.VisitAll(func(f *pflag.Flag) { known[f.Name] = true })
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(root)
	file := viper.New()
	file.SetConfigFile(path)
	file.SetConfigType("yaml")
	if err := file.ReadInConfig(); err != nil {
		return exitWith(ExitUsage, "the settings file %s cannot be read: %w", path, err)
	}
	for _, key := range file.AllKeys() {
		if !known[key] {
			return exitWith(ExitUsage, "the settings file %s has the key %q, which is no setting; 'dustyferry serve "+
				"--help' lists them", path, key)
		}
	}
	return nil
}

func (a *app) client() (*client.Client, error) {
	token := a.conf.GetString("token")
	if token == "" {
		return nil, exitWith(ExitUsage, "no access token is given; set DUSTYFERRY_TOKEN (the service shows the first one "+
			"when it starts for the first time)")
	}
	return client.New(a.conf.GetString("service"), token)
}

// logger writes text on a terminal and JSON otherwise.
func (a *app) logger() *slog.Logger {
	level := slog.LevelInfo
	if a.conf.GetBool("debug") {
		level = slog.LevelDebug
	}
	opts := &slog.HandlerOptions{Level: level}
	if f, ok := a.err.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return slog.New(slog.NewTextHandler(a.err, opts))
	}
	return slog.New(slog.NewJSONHandler(a.err, opts))
}

func build() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	rev, at := "unknown", ""
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			rev = s.Value[:min(12, len(s.Value))]
		case "vcs.time":
			at = " of " + s.Value
		}
	}
	return rev + at
}

func (a *app) versionCmd() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Show version and build", Args: none,
		RunE: func(*cobra.Command, []string) error {
			return a.show(map[string]string{"version": version, "build": build(), "go": runtime.Version()}, func(w *table) {
				w.pairs("version", version, "build", build(), "go", runtime.Version())
			})
		},
	}
}

// exactly is cobra.ExactArgs with a sentence that says what is missing.
func exactly(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < len(names) {
			return exitWith(ExitUsage, "%s is missing; see '%s --help'", names[len(args)], cmd.CommandPath())
		}
		if len(args) > len(names) {
			return exitWith(ExitUsage, "unexpected argument %q; see '%s --help'", args[len(names)], cmd.CommandPath())
		}
		return nil
	}
}

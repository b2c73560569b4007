// Package cli is the command line: nouns first, then what can be done with
// them. Data goes to standard output, talk to standard error.
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

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"twinning/internal/core/budget"
	"twinning/internal/core/document"
)

// Exit codes.
const (
	Fine     = 0
	Failed   = 1
	Misused  = 2
	SomeToDo = 3 // a plan is not empty, or somebody is contested
	Guarded  = 4 // a guard stands in the way
)

// exit is an error that carries an exit code; a blank message says nothing.
type exit struct {
	code    int
	message string
}

func (e *exit) Error() string { return e.message }

func misuse(format string, args ...any) error { return &exit{Misused, fmt.Sprintf(format, args...)} }

// Main runs the command line and returns the exit code.
func Main(args []string, stdin io.Reader, stdout, stderr io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	for _, limit := range strings.Fields(os.Getenv("TWINNING_LIMITS")) {
		if err := budget.Set(limit); err != nil {
			fmt.Fprintln(stderr, "twinning: TWINNING_LIMITS: "+err.Error())
			return Misused
		}
	}
	root := newRoot()
	root.SetArgs(args)
	root.SetIn(stdin)
	stdout, stderr = plain{stdout}, plain{stderr}
	root.SetOut(stdout)
	root.SetErr(stderr)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return Fine
	}
	var known *exit
	if !errors.As(err, &known) {
		known = &exit{Failed, err.Error()}
	}
	if known.message != "" {
		fmt.Fprintln(stderr, "twinning: "+known.message)
	}
	return known.code
}

func newRoot() *cobra.Command {
	root := &cobra.Command{
		Use:   "twinning",
		Short: "Reconcile the people of an authority with the accounts of downstream systems",
		Long: `Reconcile the people of an authority with the accounts of downstream systems.

Every option can come from the environment: TWINNING_ADDRESS and TWINNING_OUTPUT,
and for those of one command its words, such as TWINNING_SERVE_LISTEN or
TWINNING_ROSTER_TAKE_EXTENT. A token is given as TWINNING_TOKEN, a password as
TWINNING_PASSWORD.`,
		Version:           version(),
		SilenceUsage:      true,
		SilenceErrors:     true,
		PersistentPreRunE: fromEnvironment,
		Args:              cobra.ArbitraryArgs,
		RunE:              onlyHolds,
	}
	root.SetVersionTemplate("twinning {{.Version}}\n")
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		near := ""
		if _, name, ok := strings.Cut(err.Error(), "unknown flag: --"); ok {
			var known []string
			cmd.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
			near = document.Suggest(name, known)
		}
		return misuse("%v%s; see %s --help", err, near, cmd.CommandPath())
	})
	connectFlags(root)
	root.AddCommand(newServe(), newDemo(), newStandin(), newSignIn(), newSignOut(), newPassword(), newUser(), newSystem(), newShape(), newRoster(), newLane(), newCharter(),
		newReconcile(), newTwin(), newFinding(), newIntention(), newAccount(), newDelivery(), newSheet(), newPlan(), newRun(), newTask(), newFreeze(), newAudit(), newReference())
	complete(root)
	return root
}

// group is a command that only holds others.
func group(use, short string, children ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, Args: cobra.ArbitraryArgs, RunE: onlyHolds}
	cmd.AddCommand(children...)
	return cmd
}

// onlyHolds is what a command does that only holds others.
func onlyHolds(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return cmd.Help()
	}
	var known []string
	for _, c := range cmd.Commands() {
		known = append(known, c.Name())
	}
	return misuse("%s has no command %q%s; see %s --help", cmd.CommandPath(), args[0], document.Suggest(args[0], known), cmd.CommandPath())
}

// version is what was built, and from which state of the source.
func version() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "of an unknown build"
	}
	told := map[string]string{}
	for _, s := range info.Settings {
		told[s.Key] = s.Value
	}
	revision := told["vcs.revision"]
	v := fmt.Sprintf("%s (%s, %s)", info.Main.Version, revision[:min(len(revision), 12)], info.GoVersion)
	return strings.ReplaceAll(v, "(, ", "(")
}

// variable is where an option comes from when it is not given.
func variable(cmd *cobra.Command, flag string) string {
	words := []string{flag}
	if cmd.Root().PersistentFlags().Lookup(flag) == nil {
		words = append(strings.Fields(cmd.CommandPath())[1:], flag)
	}
	return "TWINNING_" + strings.ToUpper(strings.ReplaceAll(strings.Join(words, "_"), "-", "_"))
}

// fromEnvironment takes the options that were not given from the environment.
func fromEnvironment(cmd *cobra.Command, _ []string) (err error) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		value, there := os.LookupEnv(variable(cmd, f.Name))
		if !there || f.Changed || f.Name == "help" || err != nil {
			return
		}
		if bad := cmd.Flags().Set(f.Name, value); bad != nil {
			err = misuse("%s: %v", variable(cmd, f.Name), bad)
		}
	})
	for _, check := range []func() error{cmd.ValidateRequiredFlags, cmd.ValidateFlagGroups} {
		if bad := check(); bad != nil && err == nil {
			err = misuse("%v; see %s --help", bad, cmd.CommandPath())
		}
	}
	return err
}

// exact wants exactly the named arguments.
// atLeast takes the arguments that are named, the last of them or what follows as often as
// wanted.
func atLeast(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) < len(names) {
			return misuse("%s needs %s, got %d arguments; see %s --help", cmd.CommandPath(), strings.Join(names, " "), len(args), cmd.CommandPath())
		}
		return nil
	}
}

func exact(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(names) == 0 && len(args) > 0 {
			return misuse("%s takes no arguments, got %q; see %s --help", cmd.CommandPath(), args[0], cmd.CommandPath())
		}
		if len(args) != len(names) {
			return misuse("%s needs %s, got %d arguments; see %s --help", cmd.CommandPath(), strings.Join(names, " "), len(args), cmd.CommandPath())
		}
		return nil
	}
}

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
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"twinning/internal/core/budget"
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
		Use:           "twinning",
		Short:         "Reconcile the people of an authority with the accounts of downstream systems",
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return misuse("%v; see %s --help", err, cmd.CommandPath())
	})
	connectFlags(root)
	root.AddCommand(newServe(), newDemo(), newStandin(), newSignIn(), newSignOut(), newPassword(), newUser(), newSystem(), newShape(), newRoster(), newLane(), newCharter(),
		newReconcile(), newTwin(), newFinding(), newPlan(), newRun(), newTask(), newFreeze(), newAudit())
	return root
}

// group is a command that only holds others.
func group(use, short string, children ...*cobra.Command) *cobra.Command {
	cmd := &cobra.Command{Use: use, Short: short, RunE: func(cmd *cobra.Command, args []string) error {
		if len(args) > 0 {
			return misuse("%s has no command %q; see %s --help", cmd.CommandPath(), args[0], cmd.CommandPath())
		}
		return cmd.Help()
	}}
	cmd.AddCommand(children...)
	return cmd
}

// exact wants exactly the named arguments.
func exact(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != len(names) {
			return misuse("%s needs %s, got %d arguments; see %s --help", cmd.CommandPath(), strings.Join(names, " "), len(args), cmd.CommandPath())
		}
		return nil
	}
}

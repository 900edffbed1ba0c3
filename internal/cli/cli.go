// Package cli is the command line: it starts gates, and is a client of gates that run.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime"
	"strings"
	"syscall"

	"github.com/fatih/color"
	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// Version of the gate.
const Version = "0.1.0"

// Exit codes.
const (
	exitFailed = 1
	exitUsage  = 2
)

// usageError is a command line that makes no sense.
type usageError struct{ error }

// terminal is where a command reads and writes.
type terminal struct {
	in       io.Reader
	out, err io.Writer
}

// isTerminal reports whether a person is reading or writing there.
func isTerminal(f any) bool {
	file, ok := f.(*os.File)
	return ok && term.IsTerminal(int(file.Fd()))
}

// paint gives a function that colours text for out, or leaves it as it is where colours are not wanted.
func paint(out io.Writer, attributes ...color.Attribute) func(string) string {
	c := color.New(attributes...)
	if isTerminal(out) && os.Getenv("NO_COLOR") == "" {
		c.EnableColor()
	} else {
		c.DisableColor()
	}
	return func(s string) string { return c.Sprint(s) }
}

// Run executes a command line and returns the exit code. SIGINT and SIGTERM end the command.
func Run(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	t := &terminal{in, out, errOut}
	root := t.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	var usage usageError
	switch {
	case err == nil:
		return 0
	case errors.As(err, &usage), strings.HasPrefix(err.Error(), "unknown command"):
		fmt.Fprintf(errOut, "kindred: %s; see \"kindred help\"\n", oneLine(err))
		return exitUsage
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		fmt.Fprintln(errOut, "kindred: interrupted")
		return exitFailed
	}
	fmt.Fprintf(errOut, "kindred: %s\n", oneLine(err))
	return exitFailed
}

func oneLine(err error) string { return strings.Join(strings.Fields(err.Error()), " ") }

func (t *terminal) root() *cobra.Command {
	root := &cobra.Command{
		Use:           "kindred",
		Short:         "Serve the language models on this computer to your applications",
		Long:          "Kindred Gate runs open-weight models on this computer and serves them behind one address and keys of your own,\nin the styles that applications speak already.",
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          cobra.NoArgs,
		RunE:          func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	root.CompletionOptions.HiddenDefaultCmd = true
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	root.AddCommand(t.serve(), t.demo(), t.ask(), t.bench(), t.snippet(), t.render(), t.models(), t.presets(), t.keys(), t.version())
	return root
}

// exactly is the arguments check of a command that takes them by these names.
func exactly(names ...string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		switch {
		case len(args) < len(names):
			return usageError{fmt.Errorf("%s needs %s", c.CommandPath(), strings.Join(names[len(args):], " and "))}
		case len(args) > len(names):
			return usageError{fmt.Errorf("%s does not know what to do with %q", c.CommandPath(), args[len(names)])}
		}
		return nil
	}
}

// group is a command that only holds others.
func group(name, short string, commands ...*cobra.Command) *cobra.Command {
	g := &cobra.Command{
		Use:   name,
		Short: short,
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usageError{fmt.Errorf("there is no %q in %s", args[0], c.CommandPath())}
			}
			return c.Help()
		},
	}
	g.AddCommand(commands...)
	return g
}

func (t *terminal) version() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Print the version",
		Args:  exactly(),
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprintf(t.out, "kindred %s (%s, %s/%s)\n", Version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
			return err
		},
	}
}

// Package cli is the command line: it starts gates, and is a client of gates that run.
package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime"
	"strings"
	"syscall"

	"kindredgate/internal/system"

	"github.com/fatih/color"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"
)

// Version of the gate.
const Version = "0.1.0"

// Exit codes.
const (
	exitFailed      = 1
	exitUsage       = 2
	exitInterrupted = 130 // 128 and the number of SIGINT, as shells have it
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
	if isTerminal(out) && os.Getenv("NO_COLOR") == "" && !dumb() {
		c.EnableColor()
	} else {
		c.DisableColor()
	}
	return func(s string) string { return c.Sprint(s) }
}

// dumb reports whether the terminal understands no more than text and ends of lines.
func dumb() bool { return os.Getenv("TERM") == "dumb" }

// Run executes a command line and returns the exit code. SIGINT and SIGTERM end the command.
func Run(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	for _, w := range []io.Writer{out, errOut} {
		if f, ok := w.(*os.File); ok {
			system.Terminal(f)
		}
	}
	t := &terminal{in, out, errOut}
	root := t.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	cmd, err := root.ExecuteContextC(ctx)
	var usage usageError
	switch {
	case err == nil:
		return 0
	case errors.As(err, &usage):
		if cmd.Name() == "help" {
			cmd = root
		}
		fmt.Fprintf(errOut, "kindred: %s; see \"%s --help\"\n", oneLine(err), cmd.CommandPath())
		return exitUsage
	case ctx.Err() != nil && errors.Is(err, context.Canceled):
		fmt.Fprintln(errOut, "kindred: interrupted")
		return exitInterrupted
	}
	fmt.Fprintf(errOut, "kindred: %s\n", oneLine(err))
	return exitFailed
}

func oneLine(err error) string { return shown(strings.Join(strings.Fields(err.Error()), " ")) }

func (t *terminal) root() *cobra.Command {
	root := &cobra.Command{
		Use:           "kindred",
		Short:         "Serve the language models on this computer to your applications",
		Long:          "Kindred Gate runs open-weight models on this computer and serves them behind one address and keys of your own,\nin the styles that applications speak already.",
		SilenceErrors: true,
		SilenceUsage:  true,
		Version:       Version,
		Args:          known,
		RunE:          func(c *cobra.Command, _ []string) error { return c.Help() },
	}
	root.SetVersionTemplate(t.versionLine())
	root.CompletionOptions.HiddenDefaultCmd = true
	root.SetFlagErrorFunc(flagError)
	root.AddCommand(t.serve(), t.demo(), t.ask(), t.talk(), t.bench(), t.snippet(), t.render(), t.models(), t.presets(), t.names(), t.machines(), t.join(), t.gates(), t.tools(), t.demoTools(), t.apply(), t.arrange(), t.replay(), t.suite(), t.keys(), t.groups(), t.traffic(), t.costs(), t.status(), t.check(), t.version())
	root.SetHelpCommand(&cobra.Command{
		Use:   "help [COMMAND]",
		Short: "Explain a command",
		RunE: func(c *cobra.Command, args []string) error {
			found, rest, err := root.Find(args)
			if err != nil || found == nil || len(rest) > 0 && found.HasSubCommands() {
				return unknownCommand(cmp.Or(found, root), cmp.Or(append(rest, args...)[0]))
			}
			return found.Help()
		},
	})
	return root
}

// known is the arguments check of a command that only holds others.
func known(c *cobra.Command, args []string) error {
	if len(args) > 0 {
		return unknownCommand(c, args[0])
	}
	return nil
}

// unknownCommand says that there is no such command, and which are nearly called so.
func unknownCommand(c *cobra.Command, name string) error {
	if c.SuggestionsMinimumDistance <= 0 {
		c.SuggestionsMinimumDistance = 2
	}
	text := fmt.Sprintf("there is no command %q in %s", name, c.CommandPath())
	if known, ok := meant[c.CommandPath()][name]; ok {
		return usageError{fmt.Errorf("%s; did you mean \"kindred %s\"?", text, known)}
	}
	if near := c.SuggestionsFor(name); len(near) > 0 {
		text += "; did you mean " + strings.Join(near, " or ") + "?"
	}
	return usageError{errors.New(text)}
}

// kinds are what options take, in words, by the names that pflag has for the types.
var kinds = map[string]string{"int": "a whole number", "int64": "a whole number", "float64": "a number, such as 0.7", "bool": "true or false", "duration": "a time, such as 90s or 15m"}

// flagError says in words what is wrong with an option.
func flagError(_ *cobra.Command, err error) error {
	var value *pflag.InvalidValueError
	var missing *pflag.ValueRequiredError
	var unknown *pflag.NotExistError
	switch {
	case errors.As(err, &value):
		f := value.GetFlag()
		if kind, ok := kinds[f.Value.Type()]; ok {
			return usageError{fmt.Errorf("--%s is %q; it must be %s", f.Name, value.GetValue(), kind)}
		}
		return usageError{fmt.Errorf("--%s is %q: %w", f.Name, value.GetValue(), errors.Unwrap(value))}
	case errors.As(err, &missing):
		return usageError{fmt.Errorf("--%s needs a value", missing.GetFlag().Name)}
	case errors.As(err, &unknown):
		name := unknown.GetSpecifiedName()
		if short := unknown.GetSpecifiedShortnames(); short != "" {
			return usageError{fmt.Errorf("there is no option -%s; a text that begins with a dash goes behind --", name)}
		}
		return usageError{fmt.Errorf("there is no option --%s; a text that begins with a dash goes behind --", name)}
	}
	return usageError{err}
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

// group is a command that holds others. Without one of them it lists.
func group(name, short string, commands ...*cobra.Command) *cobra.Command {
	g := &cobra.Command{Use: name, Short: short, Args: known, RunE: func(c *cobra.Command, _ []string) error { return c.Help() }}
	g.AddCommand(commands...)
	for _, c := range commands {
		if c.Name() == "list" {
			g.RunE = c.RunE
			g.Flags().AddFlagSet(c.Flags())
		}
	}
	return g
}

func (t *terminal) versionLine() string {
	return fmt.Sprintf("kindred %s (%s, %s/%s)\n", Version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
}

func (t *terminal) version() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Print the version",
		Args:  exactly(),
		RunE: func(*cobra.Command, []string) error {
			_, err := fmt.Fprint(t.out, t.versionLine())
			return err
		},
	}
}

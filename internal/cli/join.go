package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kindredgate/internal/boot"
	"kindredgate/internal/config"
	"kindredgate/internal/server"
)

// joinSettings are the settings that the options of join give.
var joinSettings = map[string]string{"fingerprint": "join.fingerprint", "models": "join.models", "at-once": "join.at_once", "hours": "join.hours", "on-mains": "join.on_mains", "data": "data", "folder": "models.folders"}

func (t *terminal) join() *cobra.Command {
	var path, token string
	cmd := &cobra.Command{
		Use:   "join ADDRESS",
		Short: "Work for a gate elsewhere with the models of this computer, by a connection from here",
		Long: `Work for a gate elsewhere with the models of this computer. The connection is made from here, encrypted, and no port is opened.
"kindred machines invite NAME" at the gate prints the whole command. The token is needed once: after that this computer has a key of its own.

A gate that serves applications here too does this with "join" in its gate.yaml.`,
		Example: `  kindred join tls://gate.example:7718 --token … --fingerprint …
  kindred join tls://gate.example:7718 --models harbour-4m --at-once 2 --hours 20:00-08:00`,
		Args: exactly("the address of a gate"),
		RunE: func(c *cobra.Command, args []string) error {
			flags := settingsOf(c.Flags(), joinSettings)
			flags = append(flags, config.Flag{Name: "join.gate", Flag: "the address", Values: args})
			read := func() (config.Reading, error) { return config.Read(path, flags...) }
			r, err := read()
			if err != nil {
				return err
			}
			return t.work(c, r.Config, read, token)
		},
	}
	f := cmd.Flags()
	f.StringVar(&path, "config", "", "configuration file (default gate.yaml in the configuration folder)")
	f.StringVar(&token, "token", "", "token of an invitation, needed once")
	f.String("fingerprint", "", "SHA-256 sum of the gate's certificate, as the invitation says")
	f.StringSlice("models", nil, "names of models that are offered (default all that are installed)")
	f.Int("at-once", 0, "answers that the gate may have at once (default any number)")
	f.String("hours", "", "hours of the day in which work is taken, such as 20:00-08:00")
	f.Bool("on-mains", false, "take work only while the computer is not on battery")
	f.StringSlice("folder", nil, "folder of model weights; may be repeated")
	f.String("data", "", "folder of this machine's state")
	return cmd
}

// settingsOf are the settings that were given by options.
func settingsOf(flags *pflag.FlagSet, names map[string]string) (list []config.Flag) {
	flags.Visit(func(f *pflag.Flag) {
		name, ok := names[f.Name]
		if !ok {
			return
		}
		values := []string{f.Value.String()}
		if many, ok := f.Value.(pflag.SliceValue); ok {
			values = many.GetSlice()
		}
		list = append(list, config.Flag{Name: name, Flag: "--" + f.Name, Values: values})
	})
	return list
}

// work runs a machine that works for a gate elsewhere, until it is told to stop.
func (t *terminal) work(c *cobra.Command, cfg config.Config, read func() (config.Reading, error), token string) (err error) {
	collectLess()
	app, err := boot.Open(c.Context(), cfg, boot.Options{Log: slog.New(slog.NewTextHandler(t.err, nil)), Version: Version, Read: read, Token: token, NoPort: true})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, app.Close()) }()
	as, err := app.Enter(c.Context())
	if err != nil {
		return err
	}
	models, problem := app.Gate.Catalog.Models()
	var names []string
	for _, m := range models {
		if m.Usable() && (len(cfg.Join.Models) == 0 || slices.Contains(cfg.Join.Models, m.ID)) {
			names = append(names, m.ID)
		}
	}
	if len(names) == 0 {
		fmt.Fprintf(t.err, "kindred: no model is installed in %s yet\n", shown(strings.Join(cfg.Models.Folders, string(os.PathListSeparator))))
	}
	if problem != nil {
		fmt.Fprintf(t.err, "kindred: some models could not be looked for: %s\n", oneLine(problem))
	}
	fmt.Fprintf(t.out, "This machine works for %s as %q with %s. Its key is in %s. Ctrl-C stops it.\n", cfg.Join.Gate, as, strings.Join(names, ", "), filepath.Join(cfg.Data, "joined.keys"))
	return app.Serve(c.Context())
}

func (t *terminal) gates() *cobra.Command {
	return group("gates", "Show the gates that share what they know with this one", t.gatesList(), t.gatesPrepare())
}

func (t *terminal) gatesPrepare() *cobra.Command {
	return &cobra.Command{
		Use:   "prepare FILE",
		Short: "Make the keys of gates that share NATS servers, and print what those servers' configuration needs",
		Args:  exactly("a file for the keys"),
		RunE: func(_ *cobra.Command, args []string) error {
			text, err := boot.Prepare(args[0])
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(t.out, "# The keys are in %s: every gate has that file as fleet.credentials.\n# The configuration of each NATS server needs this:\n%s", args[0], text)
			return err
		},
	}
}

func (t *terminal) gatesList() *cobra.Command {
	return listing(t, "List the gates and how they do", func(ctx context.Context, gate *client) (got server.GateList, err error) {
		return got, gate.call(ctx, http.MethodGet, "/gate/gates", nil, &got)
	}, func(got server.GateList) (rows [][]string, empty string) {
		if len(got.Gates) == 0 {
			return nil, "This gate shares what it knows with no other: fleet.nats in the configuration names the servers at which gates meet (docs/fleet.md)."
		}
		rows = [][]string{{"GATE", "STATE", "VERSION", "OPEN", "LINE", "CLOCK", "PENDING", "BASE URL"}}
		for _, g := range got.Gates {
			state := "in touch"
			switch {
			case g.Self:
				state = "this one"
			case !g.There:
				state = "gone since " + g.Heard.Local().Format(time.TimeOnly)
			case g.Unseen:
				state = "does not hear this one"
			}
			rows = append(rows, []string{g.Name, state, g.Program, fmt.Sprint(g.Open), fmt.Sprintf("%.1f ms", g.Line), fmt.Sprintf("%+.1f s", g.Skew/1000), fmt.Sprint(g.Pending), g.BaseURL})
		}
		return rows, ""
	})
}

package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/demo"
	"kindredgate/internal/boot"
	"kindredgate/internal/config"
	"kindredgate/internal/keyring"
	"kindredgate/web"
)

// demoKeyFile is in the demo's data folder.
const demoKeyFile = "application.key"

func (t *terminal) serve() *cobra.Command {
	var path string
	var print bool
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the gate",
		Long:  "Run the gate until it is told to stop. Settings come from gate.yaml, then KINDRED_* variables, then flags.",
		Args:  exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			if path == "" {
				path = os.Getenv("KINDRED_CONFIG")
			}
			read := func() (config.Reading, error) { return config.Read(path, settingsOf(c.Flags(), flagSettings)...) }
			r, err := read()
			if err != nil {
				return err
			}
			if print {
				text, err := r.Print()
				fmt.Fprint(t.out, text)
				return err
			}
			return t.run(c.Context(), r.Config, read, t.greet)
		},
	}
	f := cmd.Flags()
	f.StringVar(&path, "config", "", "configuration file (default gate.yaml in the configuration folder)")
	f.String("listen", "", "address to listen on (default "+config.DefaultListen+")")
	f.String("data", "", "folder of the gate's state")
	f.String("access", "", "who may use the models: keys or open")
	f.StringSlice("models", nil, "folder of model weights; may be repeated")
	f.BoolVar(&print, "print-config", false, "print what holds, and where each setting comes from, instead of running")
	return cmd
}

// flagSettings are the settings that flags give, by the names of the flags.
var flagSettings = map[string]string{"listen": "listen", "data": "data", "access": "access", "models": "models.folders"}

// collectLess has garbage be collected less often: what a gate has in memory of its own is little beside the weights, which are mapped.
func collectLess() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(500)
	}
}

// demoServer is the name of the tool server of the sample data.
const demoServer = "ferry"

func (t *terminal) demo() *cobra.Command {
	var folder, listen string
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Run a gate with sample models, to try it with nothing installed",
		Args:  exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			cfg := config.Default()
			cfg.Listen, cfg.Data = listen, folder
			if folder == "" {
				cfg.Data = filepath.Join(config.DataFolder(), "demo")
			}
			cfg.Models.Folders = []string{filepath.Join(cfg.Data, "models")}
			cfg.Record.Content = true // so that replay and suite from can be tried
			self, err := os.Executable()
			if err != nil {
				return err
			}
			cfg.Tools = map[string]config.Tool{demoServer: {Command: []string{self, "demo-tools"}}}
			if err := cfg.Check(); err != nil {
				return err
			}
			if err := demo.Install(cfg.Data); err != nil {
				return boot.FolderError(cfg.Data, err)
			}
			return t.run(c.Context(), cfg, nil, t.greetDemo)
		},
	}
	cmd.Flags().StringVar(&folder, "folder", "", "folder to keep the demo in (default demo in the gate's data folder)")
	cmd.Flags().StringVar(&listen, "listen", config.DefaultListen, "address to listen on")
	return cmd
}

// run builds a gate, greets, and serves until ctx is done.
func (t *terminal) run(ctx context.Context, cfg config.Config, read func() (config.Reading, error), greet func(context.Context, *boot.App) error) (err error) {
	collectLess()
	h, err := boot.Open(ctx, cfg, boot.Options{Log: slog.New(slog.NewTextHandler(t.err, nil)), Console: web.Console(), Version: Version, Read: read})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, h.Close()) }()
	withdraw, err := announce(h.Listener.Addr(), h.Config.Data)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, withdraw()) }()
	if err := greet(ctx, h); err != nil {
		return err
	}
	again := make(chan os.Signal, 1)
	if read != nil {
		signal.Notify(again, syscall.SIGHUP)
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	inTerminal := isTerminal(t.err)
	go func() {
		for range again {
			if inTerminal && !isTerminal(t.err) {
				stop() // the signal says that the terminal was closed, with which the gate ends
				continue
			}
			h.Reload()
		}
	}()
	defer func() {
		signal.Stop(again)
		close(again)
	}()
	return h.Serve(ctx)
}

// greet tells where everything is.
func (t *terminal) greet(_ context.Context, h *boot.App) error {
	strong := paint(t.out, color.Bold)
	models, problem := h.Gate.Catalog.Models()
	names := "none yet: \"kindred models add\" brings one into " + h.Config.Models.Folders[0]
	if len(models) > 0 {
		var list []string
		for _, m := range models {
			if m.Usable() {
				list = append(list, m.ID)
			} else {
				list = append(list, m.ID+" (unusable)")
			}
		}
		names = strings.Join(list, ", ")
	}
	for _, folder := range h.Config.Models.Folders {
		if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) {
			fmt.Fprintf(t.err, "kindred: the models folder %s does not exist yet; \"kindred models add\" makes the first one, \"--models\" names another\n", shown(folder))
		}
	}
	owner := filepath.Join(h.Config.Data, boot.OwnerFile)
	if h.NewOwner {
		owner += " (new)"
	}
	fmt.Fprintf(t.out, "%s\n\n  base URL   %s\n  console    %s\n  owner key  %s\n  models     %s\n\n",
		strong("Kindred Gate "+Version+" is up."), strong(h.Server.BaseURL()), strings.TrimSuffix(h.Server.BaseURL(), "v1"), owner, names)
	if h.Config.Access == config.Open {
		fmt.Fprintln(t.out, "Access is open: every program on this computer may use the models, with any key or none.")
	}
	if h.Config.Declared() && !h.Config.ApplyAtStart {
		fmt.Fprintln(t.out, "The configuration declares names, presets or keys; \"kindred apply\" with the file has them hold, and with --check shows what would change.")
	}
	if problem != nil {
		fmt.Fprintf(t.err, "kindred: some models could not be looked for: %s\n", oneLine(problem))
	}
	return nil
}

// greetDemo gives what is needed for a first call.
func (t *terminal) greetDemo(ctx context.Context, h *boot.App) error {
	file := filepath.Join(h.Config.Data, demoKeyFile)
	valid, err := boot.KeepsKey(ctx, h.Gate.Keys, file)
	if err != nil {
		return err
	}
	if !valid {
		secret, _, err := h.Gate.IssueKey(ctx, keyring.Terms{Label: "demo application", Tools: []string{demoServer}})
		if err != nil {
			return err
		}
		if err := boot.WriteSecret(file, secret); err != nil {
			return err
		}
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if known, err := h.Gate.Keys.Check(ctx, strings.TrimSpace(string(raw))); err != nil {
		return err
	} else if !known.MayCall(demoServer, "") { // it was issued by a gate that had no tools
		if _, err := h.Gate.ChangeKey(ctx, known.ID, func(t *keyring.Terms) error { t.Tools = append(t.Tools, demoServer); return nil }); err != nil {
			return err
		}
	}
	key := strings.TrimSpace(string(raw))
	strong, quiet := paint(t.out, color.Bold), paint(t.out, color.Faint)
	base := h.Server.BaseURL()
	kindred := os.Args[0] // as it was called here, it can be called beside
	_, err = fmt.Fprintf(t.out, `%s

  base URL   %s
  key        %s
  console    %s
             sign in with the owner key: cat %s

%s

  curl %s/chat/completions -H "Authorization: Bearer %s" \
    -H "Content-Type: application/json" \
    -d '{"model": "harbour-4m", "messages": [{"role": "user", "content": "When is the last boat to Osmer?"}]}'

  %s ask "How long is the crossing to Wick Skerry?"

  %s render --instructions "You are a cheerful harbour master." "And to Quillay?"

  curl %s/responses -H "Authorization: Bearer %s" \
    -H "Content-Type: application/json" \
    -d '{"model": "harbour-4m", "input": "Find the next boat to Osmer after 10:00 and hold 2 seats.", "temperature": 0, "tools": [{"type": "mcp", "server_label": "%s", "require_approval": "never"}]}'

%s
`, strong("Kindred Gate "+Version+" is up, with the sample models of Sorrel Sound Ferries, a made-up ferry line."),
		strong(base), strong(key), strings.TrimSuffix(base, "v1"), filepath.Join(h.Config.Data, boot.OwnerFile),
		strong("Four things to try, in another terminal; in the last one the gate runs tools for the model:"), base, key, kindred, kindred, base, key, demoServer,
		quiet("Every exchange shows up below. Ctrl-C stops the gate."))
	return err
}

package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"

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
	var path, listen, data, access string
	var folders []string
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Run the gate",
		Long:  "Run the gate until it is told to stop. Settings come from gate.yaml, then KINDRED_* variables, then flags.",
		Args:  exactly(),
		RunE: func(c *cobra.Command, _ []string) error {
			if path == "" {
				path = os.Getenv("KINDRED_CONFIG")
			}
			cfg, err := config.Load(path)
			if err != nil {
				return err
			}
			if listen != "" {
				cfg.Listen = listen
			}
			if data != "" {
				cfg.Data = data
			}
			if access != "" {
				cfg.Access = config.Access(access)
			}
			if len(folders) > 0 {
				cfg.Models.Folders = folders
			}
			return t.run(c.Context(), cfg, t.greet)
		},
	}
	f := cmd.Flags()
	f.StringVar(&path, "config", "", "configuration file (default gate.yaml in the configuration folder)")
	f.StringVar(&listen, "listen", "", "address to listen on (default "+config.DefaultListen+")")
	f.StringVar(&data, "data", "", "folder of the gate's state")
	f.StringVar(&access, "access", "", "who may use the models: keys or open")
	f.StringSliceVar(&folders, "models", nil, "folder of model weights; may be repeated")
	return cmd
}

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
			if err := cfg.Check(); err != nil {
				return err
			}
			if err := demo.Install(cfg.Data); err != nil {
				return boot.FolderError(cfg.Data, err)
			}
			return t.run(c.Context(), cfg, t.greetDemo)
		},
	}
	cmd.Flags().StringVar(&folder, "folder", "", "folder to keep the demo in (default demo in the gate's data folder)")
	cmd.Flags().StringVar(&listen, "listen", config.DefaultListen, "address to listen on")
	return cmd
}

// run builds a gate, greets, and serves until ctx is done.
func (t *terminal) run(ctx context.Context, cfg config.Config, greet func(context.Context, *boot.House) error) (err error) {
	h, err := boot.Open(ctx, cfg, boot.Options{Log: slog.New(slog.NewTextHandler(t.err, nil)), Console: web.Console(), Version: Version})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, h.Close()) }()
	forget, err := announce(h.Listener.Addr(), h.Config.Data)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, forget()) }()
	if err := greet(ctx, h); err != nil {
		return err
	}
	return h.Serve(ctx)
}

// greet tells where everything is.
func (t *terminal) greet(_ context.Context, h *boot.House) error {
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
	if problem != nil {
		fmt.Fprintf(t.err, "kindred: some models could not be looked for: %s\n", oneLine(problem))
	}
	return nil
}

// greetDemo gives what is needed for a first call.
func (t *terminal) greetDemo(ctx context.Context, h *boot.House) error {
	file := filepath.Join(h.Config.Data, demoKeyFile)
	valid, err := boot.KeepsKey(ctx, h.Gate.Keys, file)
	if err != nil {
		return err
	}
	if !valid {
		secret, _, err := h.Gate.IssueKey(ctx, keyring.Terms{Label: "demo application"})
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

%s
`, strong("Kindred Gate "+Version+" is up, with the sample models of Sorrel Sound Ferries, a made-up ferry line."),
		strong(base), strong(key), strings.TrimSuffix(base, "v1"), filepath.Join(h.Config.Data, boot.OwnerFile),
		strong("Three things to try, in another terminal:"), base, key, kindred, kindred,
		quiet("Every exchange shows up below. Ctrl-C stops the gate."))
	return err
}

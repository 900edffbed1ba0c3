package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/fatih/color"
	"github.com/spf13/cobra"

	"kindredgate/demo"
	"kindredgate/internal/answers"
	"kindredgate/internal/catalog"
	"kindredgate/internal/config"
	"kindredgate/internal/fetch"
	"kindredgate/internal/gate"
	"kindredgate/internal/keyring"
	"kindredgate/internal/kv"
	"kindredgate/internal/library"
	"kindredgate/internal/machine"
	"kindredgate/internal/prepared"
	"kindredgate/internal/runner/native"
	"kindredgate/internal/server"
	"kindredgate/internal/store"
	"kindredgate/internal/tensor"
	"kindredgate/web"
)

// Files of the data folder.
const (
	databaseFile = "gate.db"
	ownerFile    = "owner.key"
	demoKeyFile  = "application.key"
)

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
				return folderError(cfg.Data, err)
			}
			return t.run(c.Context(), cfg, t.greetDemo)
		},
	}
	cmd.Flags().StringVar(&folder, "folder", "", "folder to keep the demo in (default demo in the gate's data folder)")
	cmd.Flags().StringVar(&listen, "listen", config.DefaultListen, "address to listen on")
	return cmd
}

// house is a gate with all that belongs to it.
type house struct {
	cfg      config.Config
	gate     *gate.Gate
	server   *server.Server
	newOwner bool // whether the owner key was made just now
}

// run builds a gate, greets, and serves until ctx is done. What it opens it closes, the last first.
func (t *terminal) run(ctx context.Context, cfg config.Config, greet func(context.Context, *house) error) (err error) {
	closing := func(close func() error) { err = errors.Join(err, close()) }
	if err := cfg.Check(); err != nil {
		return err
	}
	kernels, err := tensor.Kernels()
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", cfg.Listen)
	if errors.Is(err, syscall.EADDRINUSE) {
		return fmt.Errorf("%s is in use, perhaps by a gate that runs already; stop that, or choose another address with --listen", cfg.Listen)
	} else if err != nil {
		return fmt.Errorf("listen on %s: %w", cfg.Listen, err)
	}
	defer listener.Close() // the server has closed it before; its error tells nothing then

	if err := os.MkdirAll(cfg.Data, 0o700); err != nil {
		return folderError(cfg.Data, err)
	}
	db, err := store.Open(filepath.Join(cfg.Data, databaseFile))
	if err != nil {
		return folderError(cfg.Data, err)
	}
	defer closing(db.Close)
	log := slog.New(slog.NewTextHandler(t.err, nil))
	log.Info("the engine is ready", "kernels", kernels, "threads", runtime.GOMAXPROCS(0))
	installed := catalog.New(db, cfg.Models.Folders...)
	runner := native.New(runnerOptions(cfg, installed, log))
	defer closing(runner.Close)

	shelf := library.New(cfg.Models.Folders[0], fetch.Source{})
	h := &house{cfg: cfg, gate: &gate.Gate{
		Catalog: installed,
		Keys:    keyring.New(db),
		Presets: db,
		Runner:  runner,
		Prompts: runner,
		Loader:  runner,
		Library: shelf,
		Meter:   server.Meter(log),
	}}
	if h.newOwner, err = ensureOwner(ctx, h.gate.Keys, filepath.Join(cfg.Data, ownerFile)); err != nil {
		return folderError(cfg.Data, err)
	}
	desk, err := answers.Open(ctx, h.gate, db, log)
	if err != nil {
		return err
	}
	defer closing(desk.Close)
	h.server = server.New(server.Options{
		Gate: h.gate, Answers: desk, Console: web.Console(), Log: log, Version: Version,
		Open: cfg.Access == config.Open, HostNames: cfg.HostNames,
	}, listener.Addr())
	forget, err := announce(listener.Addr(), cfg.Data)
	if err != nil {
		return err
	}
	defer closing(forget)
	if err := greet(ctx, h); err != nil {
		return err
	}
	var preparing sync.WaitGroup
	defer preparing.Wait()
	preparing.Go(func() { prepare(ctx, h.gate, cfg.Models, log) })
	return h.server.Serve(ctx, listener)
}

// runnerOptions are the limits of loaded models, by the configuration and what the machine has.
func runnerOptions(cfg config.Config, installed *catalog.Catalog, log *slog.Logger) native.Options {
	o := native.Options{Memory: int64(cfg.Models.Memory), Context: int64(cfg.Models.ContextMemory), Idle: cfg.Models.IdleUnload}
	if cfg.Models.ContextType == config.Bytes {
		o.Engine.Contexts = kv.Q8
	}
	o.Prepared = prepared.Cache{Folder: filepath.Join(cfg.Data, "prepared"), Space: int64(cfg.Models.Prepared)}
	if o.Memory == 0 {
		o.Memory = machine.Memory() / 4 * 3
	}
	if o.Context == 0 {
		o.Context = min(o.Memory/8, 4<<30)
	}
	if len(cfg.Models.Drafters) > 0 {
		o.Drafter = func(path string) (string, error) { return drafter(cfg.Models.Drafters, installed, path) }
	}
	o.Told = func(what, path string, err error) {
		if err != nil {
			log.Error("model "+what, "path", path, "error", err.Error())
			return
		}
		log.Info("model "+what, "path", path)
	}
	return o
}

// drafter finds the model that is to guess tokens for the one at path; "" if none is named.
func drafter(named map[string]string, installed *catalog.Catalog, path string) (string, error) {
	models, err := installed.Models()
	for _, m := range models {
		if m.Path == path {
			if small := named[m.ID]; small != "" && small != m.ID {
				found, err := installed.Find(small)
				return found.Path, err
			}
			return "", nil
		}
	}
	return "", err
}

// prepare fetches the models that the configuration names with an address, and loads those that are to be kept loaded. What
// fails is logged; the gate serves what it has.
func prepare(ctx context.Context, g *gate.Gate, models config.Models, log *slog.Logger) {
	defer func() {
		if p := recover(); p != nil {
			log.Error("preparing models panicked", "error", fmt.Sprint(p))
		}
	}()
	for _, f := range models.Fetch {
		name := f.Name
		if name == "" {
			name = library.NameOf(f.Address)
		}
		if _, err := g.Installed(strings.ToLower(name)); err == nil {
			continue
		}
		log.Info("fetching a model", "name", name, "address", f.Address)
		last := time.Now()
		_, err := g.AddModel(ctx, library.Addition{Source: f.Address, Name: f.Name, SHA256: f.SHA256}, func(p library.Progress) {
			if time.Since(last) > 10*time.Second {
				last = time.Now()
				log.Info("fetching a model", "name", name, "file", p.File, "done", p.Done, "total", p.Total)
			}
		})
		if err != nil {
			log.Error("a model could not be fetched", "name", name, "address", f.Address, "error", err.Error())
		}
	}
	for _, name := range models.KeepLoaded {
		if _, err := g.LoadModel(ctx, name, true); err != nil {
			log.Error("a model could not be loaded", "name", name, "error", err.Error())
		}
	}
}

func folderError(folder string, err error) error {
	if errors.Is(err, fs.ErrPermission) || errors.Is(err, syscall.EROFS) {
		return fmt.Errorf("the folder %s cannot be written: %w; choose another", folder, err)
	}
	return err
}

// ensureOwner makes sure that there is an owner key and that its file holds it.
func ensureOwner(ctx context.Context, keys *keyring.Keyring, file string) (made bool, err error) {
	valid, err := keepsKey(ctx, keys, file)
	if valid || err != nil {
		return false, err
	}
	secret, err := keys.IssueOwner(ctx)
	if err != nil {
		return false, err
	}
	return true, writeSecret(file, secret)
}

// keepsKey reports whether a file holds a key that is valid.
func keepsKey(ctx context.Context, keys *keyring.Keyring, file string) (bool, error) {
	raw, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	} else if err != nil {
		return false, err
	}
	_, err = keys.Check(ctx, strings.TrimSpace(string(raw)))
	return err == nil, nil
}

// writeSecret writes a file that only its owner can read, whatever stood there before.
func writeSecret(file, secret string) error {
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.WriteFile(file, []byte(secret+"\n"), 0o600)
}

// greet tells where everything is.
func (t *terminal) greet(_ context.Context, h *house) error {
	strong := paint(t.out, color.Bold)
	models, problem := h.gate.Catalog.Models()
	names := "none yet: \"kindred models add\" brings one into " + h.cfg.Models.Folders[0]
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
	owner := filepath.Join(h.cfg.Data, ownerFile)
	if h.newOwner {
		owner += " (new)"
	}
	fmt.Fprintf(t.out, "%s\n\n  base URL   %s\n  console    %s\n  owner key  %s\n  models     %s\n\n",
		strong("Kindred Gate "+Version+" is up."), strong(h.server.BaseURL()), strings.TrimSuffix(h.server.BaseURL(), "v1"), owner, names)
	if h.cfg.Access == config.Open {
		fmt.Fprintln(t.out, "Access is open: every program on this computer may use the models, with any key or none.")
	}
	if problem != nil {
		fmt.Fprintf(t.err, "kindred: some models could not be looked for: %s\n", oneLine(problem))
	}
	return nil
}

// greetDemo gives what is needed for a first call.
func (t *terminal) greetDemo(ctx context.Context, h *house) error {
	file := filepath.Join(h.cfg.Data, demoKeyFile)
	valid, err := keepsKey(ctx, h.gate.Keys, file)
	if err != nil {
		return err
	}
	if !valid {
		secret, _, err := h.gate.IssueKey(ctx, "demo application", nil)
		if err != nil {
			return err
		}
		if err := writeSecret(file, secret); err != nil {
			return err
		}
	}
	raw, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	key := strings.TrimSpace(string(raw))
	strong, quiet := paint(t.out, color.Bold), paint(t.out, color.Faint)
	base := h.server.BaseURL()
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
		strong(base), strong(key), strings.TrimSuffix(base, "v1"), filepath.Join(h.cfg.Data, ownerFile),
		strong("Three things to try, in another terminal:"), base, key, kindred, kindred,
		quiet("Every exchange shows up below. Ctrl-C stops the gate."))
	return err
}

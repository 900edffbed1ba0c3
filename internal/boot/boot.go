// Package boot puts a gate together from a configuration: for the command line, and for tests that want a whole one.
package boot

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"

	"kindredgate/internal/answers"
	"kindredgate/internal/cache"
	"kindredgate/internal/catalog"
	"kindredgate/internal/config"
	"kindredgate/internal/dialect"
	"kindredgate/internal/fetch"
	"kindredgate/internal/gate"
	"kindredgate/internal/kept"
	"kindredgate/internal/keyring"
	"kindredgate/internal/kv"
	"kindredgate/internal/ledger"
	"kindredgate/internal/library"
	"kindredgate/internal/loop"
	"kindredgate/internal/machine"
	"kindredgate/internal/metrics"
	"kindredgate/internal/prepared"
	"kindredgate/internal/record"
	"kindredgate/internal/runner/native"
	"kindredgate/internal/runner/remote"
	"kindredgate/internal/server"
	"kindredgate/internal/store"
	"kindredgate/internal/suites"
	"kindredgate/internal/system"
	"kindredgate/internal/tensor"
	"kindredgate/internal/tool"
	"kindredgate/internal/tool/web"
)

// Files of the data folder.
const (
	DatabaseFile    = "gate.db"
	OwnerFile       = "owner.key"
	lockFile        = "gate.lock"
	holderFile      = "gate.holder"
	preparedDir     = "prepared"
	contextsDir     = "contexts"
	certificatesDir = "certificates" // that an authority has made
	keysDir         = "keys"         // that were created as the configuration declares them
)

// Options are what a gate needs beside its configuration.
type Options struct {
	Log     *slog.Logger
	Console fs.FS // the built console
	Version string
	// Read reads the configuration anew, for it to be applied while the gate runs; nil if there is nothing to read.
	Read func() (config.Reading, error)
	// Runner answers in the place of the engine; nil for the engine.
	Runner gate.Runner
	// Token is that of an invitation to the gate that this one joins; "" if the environment has it, or none is needed any more.
	Token string
	// NoPort has the gate listen nowhere: it works for the gate that it joins, and for nobody else.
	NoPort bool
}

// App is a gate with all that belongs to it.
type App struct {
	Config   config.Config
	Gate     *gate.Gate
	Server   *server.Server // nil for one without a port
	Listener net.Listener   // likewise
	// Listeners are those for others, beside Listener.
	Listeners []server.Listener
	NewOwner  bool // whether the owner key was made just now

	tools         *tool.Set
	declaredTools map[string]declaredTool
	loops         *loop.Service
	rules         atomic.Pointer[loop.Rules]

	certificate *certificate // nil if there is none by a file
	engine      *native.Runner
	machines    *remote.Fleet
	layouts     map[config.RunnerLayout]*remote.Layout // that were opened
	joining     *server.Joining                        // of machines; nil if none can
	moved       chan struct{}                          // has room for one: machines came or went
	peers       *server.Peers                          // gates that share what they know; nil if none do
	rows        *rows                                  // of the ledger, that others can read; nil if none can
	installed   *catalog.Catalog
	db          *store.Store
	said        *ledger.Recorder
	prices      atomic.Pointer[config.Prices]
	ledger      *ledger.Writer
	counted     *metrics.Metrics
	lately      ledger.Lately
	options     Options
	settings    settings
	asked       atomic.Pointer[server.Server] // Server, for other gates, who may ask while this one is still being opened
	again       chan struct{}                 // for the configuration to be read anew
	preparing   sync.WaitGroup                // goroutines that Serve waits for
	log         *slog.Logger
	close       []func() error // what was opened, in that order
}

// Open builds a gate that listens, but does not serve yet. What it opened before something failed it closes.
func Open(ctx context.Context, cfg config.Config, o Options) (h *App, err error) {
	if err := cfg.Check(); err != nil {
		return nil, err
	}
	h = &App{Config: cfg, options: o, log: o.Log, again: make(chan struct{}, 1), moved: make(chan struct{}, 1)}
	h.prices.Store(&cfg.Prices)
	if err := h.settings.begin(cfg, o.Read); err != nil {
		return nil, err
	}
	for _, step := range []func(context.Context) error{h.claim, h.build, h.account, h.gather, h.open} {
		if err := step(ctx); err != nil {
			return nil, errors.Join(err, h.Close())
		}
	}
	return h, nil
}

// claim takes what only one gate can have: its addresses, its data folder and its database.
func (app *App) claim(context.Context) (err error) {
	if !app.options.NoPort {
		if err := app.listenAll(); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(app.Config.Data, 0o700); err != nil {
		return FolderError(app.Config.Data, err)
	}
	if err := app.lock(); err != nil {
		return err
	}
	if app.db, err = database(app.Config, app.log); err != nil {
		return FolderError(app.Config.Data, err)
	}
	app.closing(app.db.Close)
	return nil
}

// listenAll opens the addresses.
func (app *App) listenAll() (err error) {
	app.Listener, err = net.Listen("tcp", app.Config.Listen)
	if system.AddressInUse(err) {
		return fmt.Errorf("%s is in use, perhaps by a gate that runs already; stop that, or choose another address with --listen", app.Config.Listen)
	} else if err != nil {
		return fmt.Errorf("listen on %s: %w", app.Config.Listen, err)
	}
	app.closing(func() error {
		_ = app.Listener.Close() // the server has closed it before, if there was one; its error tells nothing then
		return nil
	})
	return app.listen(app.Config.Network)
}

// build makes the engine, the other machines and the gate over them.
func (app *App) build(context.Context) error {
	kernels, err := tensor.Kernels()
	if err != nil {
		return err
	}
	app.installed = catalog.New(app.db, app.Config.Models.Folders...)
	options := app.runnerOptions(app.installed)
	app.log.Info("the engine is ready", "kernels", kernels, "threads", options.Threads)
	app.engine = native.New(options)
	app.closing(app.engine.Close)
	app.machines = remote.NewFleet(app.log)
	app.closing(app.machines.Close)
	others, problem := app.others(config.Config{}, app.Config)
	if problem != nil {
		// The gate is not to stand still for a machine that it cannot ask.
		app.log.Error("some runners cannot be used as they are set up; they are listed with the reason, and tried again when what they need changes", "error", problem.Error())
	}
	if err := app.machines.Set(others); err != nil {
		return err
	}
	app.Gate = &gate.Gate{
		Catalog:   app.installed,
		Keys:      keyring.New(app.db, app.log),
		Presets:   app.db,
		Names:     app.db,
		Runner:    app.engine,
		Prompts:   app.engine,
		Loader:    app.engine,
		Machines:  app.machines,
		ID:        strings.ToLower(rand.Text()[:8]),
		Library:   library.New(app.Config.Models.Folders[0], fetch.Source{}),
		Settings:  "contexts " + string(app.Config.Models.ContextType),
		Observers: []gate.Observer{server.Logged{Log: app.log}},
	}
	app.closing(app.Gate.Close)
	servers, declared, problem := app.toolServers(app.Config)
	if problem != nil {
		app.log.Error("some tool servers cannot be used as they are set up; they are listed with the reason, and tried again when what they need changes", "error", problem.Error())
	}
	app.tools = tool.NewSet(toolLimits(app.Config))
	app.tools.Replace(servers, toolLimits(app.Config))
	app.closing(app.tools.Close)
	rules := toolRules(app.Config)
	app.declaredTools = declared
	app.rules.Store(&rules)
	app.loops = loop.New(app.Gate, app.tools, func() loop.Rules { return *app.rules.Load() }, app.remoteTools, app.log)
	if app.options.Runner != nil {
		app.Gate.Runner = app.options.Runner
	}
	return nil
}

// account has exchanges recorded, counted and priced, and lets in those who have a key.
func (app *App) account(ctx context.Context) (err error) {
	if app.ledger, err = ledger.Open(ctx, app.Config.Data, app.db, keeping(app.Config), app.log); err != nil {
		return FolderError(app.Config.Data, fmt.Errorf("the ledger of exchanges: %w", err))
	}
	app.closing(app.ledger.Close)
	app.said = ledger.NewRecorder(app.db, recording(app.Config), app.Gate.Layout, app.log)
	app.closing(app.said.Close)
	app.Gate.Recorder = app.said
	app.Gate.Price = func(r *record.Record) int64 {
		passed := slices.Contains(dialect.Passed, dialect.Style(r.Style))
		return app.prices.Load().Of(cmp.Or(r.Answered, r.Model), config.Use{Prompt: r.PromptTokens, Cached: r.CachedTokens, Answer: r.CompletionTokens, Passed: passed})
	}
	tracer, err := app.passOn(ctx, app.options.Version)
	if err != nil {
		return err
	}
	app.counted = metrics.New(app.Gate, app.options.Version, app.ledger.Lost)
	app.Gate.Observers = append(app.Gate.Observers, app.ledger, app.counted, &app.lately)
	if tracer != nil {
		app.Gate.Observers = append(app.Gate.Observers, tracer)
	}
	if err := app.Gate.Keys.Load(ctx); err != nil {
		return err
	}
	if err := app.recount(ctx); err != nil {
		return err
	}
	if app.NewOwner, err = ensureOwner(ctx, app.Gate.Keys, filepath.Join(app.Config.Data, OwnerFile), sharingName(app.Config)); err != nil {
		return FolderError(app.Config.Data, err)
	}
	app.closing(func() error {
		flush(context.WithoutCancel(ctx), app.Gate.Keys, app.log)
		return nil
	})
	app.settings.unapplied = app.declare(ctx, app.Config)
	return nil
}

// open makes the server over all that.
func (app *App) open(ctx context.Context) error {
	if app.options.NoPort {
		return nil
	}
	var records kept.Records = app.db
	queue, err := answers.Alone(ctx, app.db, app.log)
	if err != nil {
		return err
	}
	if app.peers != nil {
		app.peers.Queue = app.peers.Gates.Queue(app.db, queue)
		records, queue = app.peers.Queue, app.peers.Queue
	}
	responses := answers.Open(ctx, app.Gate, app.loops, records, queue, app.log)
	app.closing(responses.Close)
	addresses := []net.Addr{app.Listener.Addr()}
	for _, e := range app.Listeners {
		addresses = append(addresses, e.Listener.Addr())
	}
	app.Server = server.New(server.Options{
		Gate: app.Gate, Loops: app.loops, Tools: app.tools, Answers: responses, Ledger: app.ledger, Lately: &app.lately, Contents: app.said, Suites: &suites.Runs{Gate: app.Gate, Loops: app.loops, Records: app.db}, Prices: app.shownPrices, Metrics: app.counted.Handler(), Console: app.options.Console, Log: app.log, Version: app.options.Version,
		Exposure: exposure(app.Config), Settings: app.settings.tell, Check: app.look, Joining: app.joining, Peers: app.peers, Bodies: min(max(machine.Memory()/16, 128<<20), 2<<30),
	}, addresses...)
	app.asked.Store(app.Server)
	return nil
}

// recount counts the exchanges that the ledger has and the counts of limits do not, since the gate before this one was killed.
func (app *App) recount(ctx context.Context) error {
	since, known := app.Gate.Keys.Counted()
	if !known {
		return nil
	}
	if now := time.Now(); since.IsZero() {
		since = time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, now.Location()) // no limit looks further back
	}
	for e, err := range app.ledger.All(ctx, record.Filter{Since: since}) {
		if err != nil {
			return fmt.Errorf("count what was used of limits: %w", err)
		}
		if e.ShadowOf != "" {
			continue
		}
		e = e.Own()
		if err := app.Gate.Keys.Recount(ctx, keyring.Used{Part: e.IsStep(), Account: e.Key, Model: e.Model, Begun: e.Begun.Local(), Tokens: e.PromptTokens + e.CompletionTokens, Cost: e.Cost, Refused: e.State == record.Refused}); err != nil {
			return err
		}
	}
	return nil
}

// lock keeps a second gate out of the data folder: it would not know of keys that this one revokes. Who has it stands beside the lock, since a
// locked file cannot be read everywhere.
func (app *App) lock() error {
	lock := flock.New(filepath.Join(app.Config.Data, lockFile))
	mine, err := lock.TryLock()
	if err != nil {
		return FolderError(app.Config.Data, err)
	}
	if !mine {
		who := "another gate"
		if raw, err := os.ReadFile(filepath.Join(app.Config.Data, holderFile)); err == nil && len(raw) > 0 {
			who = strings.TrimSpace(string(raw))
		}
		return fmt.Errorf("the folder %s is in use by %s; stop that one, or give this one another folder with --data", app.Config.Data, who)
	}
	app.closing(lock.Unlock)
	who := "the machine that has joined " + app.Config.Join.Gate
	if app.Listener != nil {
		who = "the gate at " + app.Listener.Addr().String()
	}
	return FolderError(app.Config.Data, os.WriteFile(filepath.Join(app.Config.Data, holderFile), fmt.Appendf(nil, "%s, process %d\n", who, os.Getpid()), 0o600))
}

// database opens the database; one that is damaged is set aside.
func database(cfg config.Config, log *slog.Logger) (*store.Store, error) {
	path := filepath.Join(cfg.Data, DatabaseFile)
	limits := storedLimits(cfg)
	db, err := store.Open(path, limits)
	if !errors.Is(err, store.ErrDamaged) {
		return db, err
	}
	said, failure := store.Rescue(path, limits)
	if failure != nil {
		return nil, errors.Join(err, failure)
	}
	log.Error("the database was damaged: "+said+"; applications whose keys did not come over need new ones (\"kindred keys issue\"); if you have a backup, stop the gate and put that in its place", "error", err.Error())
	return store.Open(path, limits)
}

func (app *App) closing(f func() error) { app.close = append(app.close, f) }

// Serve answers requests until ctx is done; meanwhile the models are brought that the configuration wants.
func (app *App) Serve(ctx context.Context) error {
	defer app.preparing.Wait()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	app.preparing.Go(func() { prepare(ctx, app.Gate, app.Config.Models, app.log) })
	app.preparing.Go(func() { app.follow(ctx) })
	app.preparing.Go(func() { app.redeclare(ctx) })
	app.preparing.Go(func() { retry(ctx, app.Gate.Keys, app.log) })
	if app.joining != nil {
		app.preparing.Go(func() { app.followMachines(ctx) })
	}
	if app.rows != nil {
		app.preparing.Go(func() { app.rows.follow(ctx) })
	}
	if app.Config.Join.Gate != "" {
		app.preparing.Go(func() { app.join(ctx) })
	}
	if app.Server == nil {
		<-ctx.Done()
		return nil
	}
	return app.Server.Serve(ctx, append([]server.Listener{{Listener: app.Listener}}, app.Listeners...)...)
}

// retryAfter is how often what could not be written is tried again.
const retryAfter = 5 * time.Second

// retry writes what could not be written when it should have been.
func retry(ctx context.Context, keys *keyring.Keyring, log *slog.Logger) {
	defer func() {
		if p := recover(); p != nil {
			log.Error("writing what was left panicked", "error", fmt.Sprint(p))
		}
	}()
	tick := time.NewTicker(retryAfter)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			keys.Retry(ctx)
			keys.Square()
			flush(ctx, keys, log)
		case <-ctx.Done():
			keys.Retry(context.WithoutCancel(ctx)) // for the last time
			return
		}
	}
}

// flush writes what was used of limits. What cannot be written stays in memory.
func flush(ctx context.Context, keys *keyring.Keyring, log *slog.Logger) {
	if err := keys.Flush(ctx); err != nil && ctx.Err() == nil {
		log.Warn("what was used of limits is not written yet", "error", err.Error())
	}
}

// Close closes what was opened, the last first.
func (app *App) Close() (err error) {
	for _, f := range slices.Backward(app.close) {
		err = errors.Join(err, f())
	}
	app.close = nil
	return err
}

// runnerOptions are the limits of loaded models, by the configuration and what the machine has.
func (app *App) runnerOptions(installed *catalog.Catalog) native.Options {
	cfg := app.Config
	o := native.Options{Memory: modelMemory(cfg), Context: int64(cfg.Models.ContextMemory), Idle: cfg.Models.IdleUnload, PictureMemory: int64(cfg.Models.PictureMemory), PictureTokens: cfg.Models.PictureTokens, Threads: cfg.Models.Threads}
	if o.Threads == 0 {
		var gains []tensor.Gain
		o.Threads, gains = machine.Threads()
		for _, g := range gains {
			app.log.Info("threads were measured", "threads", g.Threads, "memory_gb_per_second", math.Round(g.Read/1e8)/10, "operations_per_second", fmt.Sprintf("%.0fG", g.Integer/1e9))
		}
	}
	switch cfg.Models.PictureAddresses {
	case "public":
		o.FetchPicture = pictureFetcher(web.Public)
	case "private":
		o.FetchPicture = pictureFetcher(web.Private)
	}
	if cfg.Models.ContextType == config.Bytes {
		o.Engine.Contexts = kv.Q8
	}
	o.Prepared = prepared.Cache{Folder: filepath.Join(cfg.Data, preparedDir), Space: int64(cfg.Models.Prepared)}
	o.Contexts = cache.Folder{Path: filepath.Join(cfg.Data, contextsDir), Space: int64(cfg.Models.SavedContexts), Suffix: ".contexts", What: "contexts", Setting: "models.saved_contexts"}
	if o.Context == 0 {
		o.Context = min(o.Memory/8, 4<<30)
	}
	o.Drafter = func(path string) (string, error) {
		return drafter(app.settings.holding().Models.Drafters, installed, path)
	}
	o.Told = func(what, path string, err error) {
		if err != nil {
			app.log.Error("model "+what, "path", path, "error", err.Error())
			return
		}
		app.log.Info("model "+what, "path", path)
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
		_, err := g.AddModel(ctx, library.Addition{Source: f.Address, Name: f.Name, SHA256: f.SHA256, Projector: f.Projector}, func(p library.Progress) {
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

// FolderError says what to do about a folder that cannot be written.
func FolderError(folder string, err error) error {
	if system.NotWritable(err) {
		return fmt.Errorf("the folder %s cannot be written: %w; choose another", folder, err)
	}
	return err
}

// ensureOwner makes sure that there is an owner key and that its file holds it.
func ensureOwner(ctx context.Context, keys *keyring.Keyring, file, gate string) (made bool, err error) {
	valid, err := KeepsKey(ctx, keys, file)
	if valid || err != nil {
		return false, err
	}
	secret, err := keys.IssueOwner(ctx, gate)
	if err != nil {
		return false, err
	}
	return true, WriteSecret(file, secret)
}

// KeepsKey reports whether a file holds a key that is valid.
func KeepsKey(ctx context.Context, keys *keyring.Keyring, file string) (bool, error) {
	raw, err := system.ReadFile(file, 1<<10)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	} else if err != nil {
		return false, err
	}
	_, err = keys.Check(ctx, strings.TrimSpace(string(raw)))
	return err == nil, nil
}

// WriteSecret writes a file that only its owner can read, whatever stood there before.
func WriteSecret(file, secret string) error {
	if err := os.Remove(file); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.WriteFile(file, []byte(secret+"\n"), 0o600)
}

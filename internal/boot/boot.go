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
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"

	"kindredgate/internal/answers"
	"kindredgate/internal/catalog"
	"kindredgate/internal/config"
	"kindredgate/internal/dialect"
	"kindredgate/internal/fetch"
	"kindredgate/internal/gate"
	"kindredgate/internal/keyring"
	"kindredgate/internal/kv"
	"kindredgate/internal/ledger"
	"kindredgate/internal/library"
	"kindredgate/internal/machine"
	"kindredgate/internal/metrics"
	"kindredgate/internal/prepared"
	"kindredgate/internal/record"
	"kindredgate/internal/runner/native"
	"kindredgate/internal/runner/remote"
	"kindredgate/internal/server"
	"kindredgate/internal/store"
	"kindredgate/internal/system"
	"kindredgate/internal/tensor"
)

// Files of the data folder.
const (
	DatabaseFile    = "gate.db"
	OwnerFile       = "owner.key"
	lockFile        = "gate.lock"
	holderFile      = "gate.holder"
	preparedDir     = "prepared"
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
}

// House is a gate with all that belongs to it.
type House struct {
	Config   config.Config
	Gate     *gate.Gate
	Server   *server.Server
	Listener net.Listener
	// Entrances are those for others, beside Listener.
	Entrances []server.Entrance
	NewOwner  bool // whether the owner key was made just now

	certificate *certificate // nil if there is none by a file
	engine      *native.Runner
	machines    *remote.Fleet
	layouts     map[config.RunnerLayout]*remote.Layout // that were opened
	installed   *catalog.Catalog
	db          *store.Store
	said        *ledger.Recorder
	prices      atomic.Pointer[config.Prices]
	book        *ledger.Book
	counted     *metrics.Metrics
	lately      ledger.Lately
	options     Options
	settings    settings
	again       chan struct{}  // for the configuration to be read anew
	preparing   sync.WaitGroup // goroutines that Serve waits for
	log         *slog.Logger
	close       []func() error // what was opened, in that order
}

// Open builds a gate that listens, but does not serve yet. What it opened before something failed it closes.
func Open(ctx context.Context, cfg config.Config, o Options) (h *House, err error) {
	if err := cfg.Check(); err != nil {
		return nil, err
	}
	h = &House{Config: cfg, options: o, log: o.Log, again: make(chan struct{}, 1)}
	h.prices.Store(&cfg.Prices)
	if err := h.settings.begin(cfg, o.Read); err != nil {
		return nil, err
	}
	for _, step := range []func(context.Context) error{h.claim, h.build, h.account, h.open} {
		if err := step(ctx); err != nil {
			return nil, errors.Join(err, h.Close())
		}
	}
	return h, nil
}

// claim takes what only one gate can have: its addresses, its data folder and its database.
func (h *House) claim(context.Context) (err error) {
	h.Listener, err = net.Listen("tcp", h.Config.Listen)
	if system.AddressInUse(err) {
		return fmt.Errorf("%s is in use, perhaps by a gate that runs already; stop that, or choose another address with --listen", h.Config.Listen)
	} else if err != nil {
		return fmt.Errorf("listen on %s: %w", h.Config.Listen, err)
	}
	h.closing(func() error {
		_ = h.Listener.Close() // the server has closed it before, if there was one; its error tells nothing then
		return nil
	})
	if err := h.listen(h.Config.Network); err != nil {
		return err
	}
	if err := os.MkdirAll(h.Config.Data, 0o700); err != nil {
		return FolderError(h.Config.Data, err)
	}
	if err := h.lock(); err != nil {
		return err
	}
	if h.db, err = database(h.Config, h.log); err != nil {
		return FolderError(h.Config.Data, err)
	}
	h.closing(h.db.Close)
	return nil
}

// build makes the engine, the other machines and the gate over them.
func (h *House) build(context.Context) error {
	kernels, err := tensor.Kernels()
	if err != nil {
		return err
	}
	h.log.Info("the engine is ready", "kernels", kernels, "threads", runtime.GOMAXPROCS(0))
	h.installed = catalog.New(h.db, h.Config.Models.Folders...)
	h.engine = native.New(h.runnerOptions(h.installed))
	h.closing(h.engine.Close)
	h.machines = remote.NewFleet(h.log)
	h.closing(h.machines.Close)
	others, problem := h.others(config.Config{}, h.Config)
	if problem != nil {
		// The gate is not to stand still for a machine that it cannot ask.
		h.log.Error("some runners cannot be used as they are set up; they are listed with the reason, and tried again when what they need changes", "error", problem.Error())
	}
	if err := h.machines.Set(others); err != nil {
		return err
	}
	h.Gate = &gate.Gate{
		Catalog:   h.installed,
		Keys:      keyring.New(h.db, h.log),
		Presets:   h.db,
		Names:     h.db,
		Runner:    h.engine,
		Prompts:   h.engine,
		Loader:    h.engine,
		Machines:  h.machines,
		ID:        strings.ToLower(rand.Text()[:8]),
		Library:   library.New(h.Config.Models.Folders[0], fetch.Source{}),
		Settings:  "contexts " + string(h.Config.Models.ContextType),
		Observers: []gate.Observer{server.Logged{Log: h.log}},
	}
	h.closing(h.Gate.Close)
	if h.options.Runner != nil {
		h.Gate.Runner = h.options.Runner
	}
	return nil
}

// account has exchanges recorded, counted and priced, and lets in those who have a key.
func (h *House) account(ctx context.Context) (err error) {
	if h.book, err = ledger.Open(ctx, h.Config.Data, h.db, keeping(h.Config), h.log); err != nil {
		return FolderError(h.Config.Data, fmt.Errorf("the ledger of exchanges: %w", err))
	}
	h.closing(h.book.Close)
	h.said = ledger.NewRecorder(h.db, recording(h.Config), h.Gate.Layout, h.log)
	h.closing(h.said.Close)
	h.Gate.Recorder = h.said
	h.Gate.Price = func(r *record.Record) int64 {
		passed := slices.Contains(dialect.Passed, dialect.Style(r.Style))
		return h.prices.Load().Of(cmp.Or(r.Answered, r.Model), config.Use{Prompt: r.PromptTokens, Cached: r.CachedTokens, Answer: r.CompletionTokens, Passed: passed})
	}
	tracer, err := h.passOn(ctx, h.options.Version)
	if err != nil {
		return err
	}
	h.counted = metrics.New(h.Gate, h.options.Version, h.book.Lost)
	h.Gate.Observers = append(h.Gate.Observers, h.book, h.counted, &h.lately)
	if tracer != nil {
		h.Gate.Observers = append(h.Gate.Observers, tracer)
	}
	if err := h.Gate.Keys.Load(ctx); err != nil {
		return err
	}
	if err := h.recount(ctx); err != nil {
		return err
	}
	if h.NewOwner, err = ensureOwner(ctx, h.Gate.Keys, filepath.Join(h.Config.Data, OwnerFile)); err != nil {
		return FolderError(h.Config.Data, err)
	}
	h.closing(func() error {
		flush(context.WithoutCancel(ctx), h.Gate.Keys, h.log)
		return nil
	})
	h.settings.unapplied = h.declare(ctx, h.Config)
	return nil
}

// open makes the server over all that.
func (h *House) open(ctx context.Context) error {
	desk, err := answers.Open(ctx, h.Gate, h.db, h.log)
	if err != nil {
		return err
	}
	h.closing(desk.Close)
	addresses := []net.Addr{h.Listener.Addr()}
	for _, e := range h.Entrances {
		addresses = append(addresses, e.Listener.Addr())
	}
	h.Server = server.New(server.Options{
		Gate: h.Gate, Answers: desk, Ledger: h.book, Lately: &h.lately, Contents: h.said, SuiteRuns: h.db, Prices: h.shownPrices, Metrics: h.counted.Handler(), Console: h.options.Console, Log: h.log, Version: h.options.Version,
		Exposure: exposure(h.Config), Settings: h.settings.tell, Check: h.look, Bodies: min(max(machine.Memory()/16, 128<<20), 2<<30),
	}, addresses...)
	return nil
}

// recount counts the exchanges that the ledger has and the counts of limits do not, since the gate before this one was killed.
func (h *House) recount(ctx context.Context) error {
	since, known := h.Gate.Keys.Counted()
	if !known {
		return nil
	}
	if now := time.Now(); since.IsZero() {
		since = time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, now.Location()) // no limit looks further back
	}
	for e, err := range h.book.All(ctx, record.Filter{Since: since}) {
		if err != nil {
			return fmt.Errorf("count what was used of limits: %w", err)
		}
		if e.ShadowOf != "" {
			continue
		}
		if err := h.Gate.Keys.Recount(ctx, keyring.Used{Account: e.Key, Model: e.Model, Begun: e.Begun.Local(), Tokens: e.PromptTokens + e.CompletionTokens, Cost: e.Cost, Refused: e.State == record.Refused}); err != nil {
			return err
		}
	}
	return nil
}

// lock keeps a second gate out of the data folder: it would not know of keys that this one revokes. Who has it stands beside the lock, since a
// locked file cannot be read everywhere.
func (h *House) lock() error {
	lock := flock.New(filepath.Join(h.Config.Data, lockFile))
	mine, err := lock.TryLock()
	if err != nil {
		return FolderError(h.Config.Data, err)
	}
	if !mine {
		who := "another gate"
		if raw, err := os.ReadFile(filepath.Join(h.Config.Data, holderFile)); err == nil && len(raw) > 0 {
			who = strings.TrimSpace(string(raw))
		}
		return fmt.Errorf("the folder %s is in use by %s; stop that one, or give this one another folder with --data", h.Config.Data, who)
	}
	h.closing(lock.Unlock)
	return FolderError(h.Config.Data, os.WriteFile(filepath.Join(h.Config.Data, holderFile), fmt.Appendf(nil, "the gate at %s, process %d\n", h.Listener.Addr(), os.Getpid()), 0o600))
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

func (h *House) closing(f func() error) { h.close = append(h.close, f) }

// Serve answers requests until ctx is done; meanwhile the models are brought that the configuration wants.
func (h *House) Serve(ctx context.Context) error {
	defer h.preparing.Wait()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	h.preparing.Go(func() { prepare(ctx, h.Gate, h.Config.Models, h.log) })
	h.preparing.Go(func() { h.follow(ctx) })
	h.preparing.Go(func() { h.redeclare(ctx) })
	h.preparing.Go(func() { retry(ctx, h.Gate.Keys, h.log) })
	return h.Server.Serve(ctx, append([]server.Entrance{{Listener: h.Listener}}, h.Entrances...)...)
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
func (h *House) Close() (err error) {
	for _, f := range slices.Backward(h.close) {
		err = errors.Join(err, f())
	}
	h.close = nil
	return err
}

// runnerOptions are the limits of loaded models, by the configuration and what the machine has.
func (h *House) runnerOptions(installed *catalog.Catalog) native.Options {
	cfg := h.Config
	o := native.Options{Memory: modelMemory(cfg), Context: int64(cfg.Models.ContextMemory), Idle: cfg.Models.IdleUnload}
	if cfg.Models.ContextType == config.Bytes {
		o.Engine.Contexts = kv.Q8
	}
	o.Prepared = prepared.Cache{Folder: filepath.Join(cfg.Data, preparedDir), Space: int64(cfg.Models.Prepared)}
	if o.Context == 0 {
		o.Context = min(o.Memory/8, 4<<30)
	}
	o.Drafter = func(path string) (string, error) {
		return drafter(h.settings.holding().Models.Drafters, installed, path)
	}
	o.Told = func(what, path string, err error) {
		if err != nil {
			h.log.Error("model "+what, "path", path, "error", err.Error())
			return
		}
		h.log.Info("model "+what, "path", path)
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

// FolderError says what to do about a folder that cannot be written.
func FolderError(folder string, err error) error {
	if system.NotWritable(err) {
		return fmt.Errorf("the folder %s cannot be written: %w; choose another", folder, err)
	}
	return err
}

// ensureOwner makes sure that there is an owner key and that its file holds it.
func ensureOwner(ctx context.Context, keys *keyring.Keyring, file string) (made bool, err error) {
	valid, err := KeepsKey(ctx, keys, file)
	if valid || err != nil {
		return false, err
	}
	secret, err := keys.IssueOwner(ctx)
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

package boot

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"

	"kindredgate/internal/apply"
	"kindredgate/internal/config"
	"kindredgate/internal/kept"
	"kindredgate/internal/ledger"
	"kindredgate/internal/machine"
	"kindredgate/internal/server"
)

// settings are what a gate was told, and what of that holds. It is safe for concurrent use.
type settings struct {
	reread func() (config.Reading, error)

	mu        sync.Mutex
	holds     config.Config
	set       config.Reading // as it was read last
	read      time.Time
	problem   string        // why what is there now cannot be used
	unapplied string        // why what it declares was not applied
	trying    config.Config // that was read last, whether it can be used or not
}

// begin takes over the configuration that the gate is started with.
func (s *settings) begin(cfg config.Config, reread func() (config.Reading, error)) error {
	s.holds, s.trying, s.reread, s.read = cfg, cfg, reread, time.Now()
	if reread == nil {
		return nil
	}
	set, err := reread()
	s.set = set
	return err
}

// problems are what keeps the file from holding; "" if nothing does. mu is held.
func (s *settings) problems() string {
	return strings.TrimPrefix(strings.TrimSuffix(s.problem+"; "+s.unapplied, "; "), "; ")
}

func (s *settings) holding() config.Config {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.holds
}

// tell is what the interface shows.
func (s *settings) tell() server.Settings {
	s.mu.Lock()
	defer s.mu.Unlock()
	told := server.Settings{File: s.set.File, Read: s.read.UTC(), Problem: s.problems(), Settings: []server.Setting{}}
	running, err := s.holds.Values()
	if err != nil {
		told.Problem = err.Error()
	}
	for _, one := range s.set.Settings {
		shown := server.Setting{Setting: one}
		if now := running[one.Name]; one.Restart && now != one.Value {
			shown.Running = now
		}
		told.Settings = append(told.Settings, shown)
	}
	return told
}

// Reload has the configuration read anew, as it is when its file changes. One that cannot be used changes nothing; why, is in the log and
// among the settings.
func (app *App) Reload() {
	select {
	case app.again <- struct{}{}:
	default: // it is going to be
	}
}

// reload reads the configuration anew and applies what can be applied while the gate runs.
func (app *App) reload(ctx context.Context) {
	s := &app.settings
	s.mu.Lock()
	defer s.mu.Unlock()
	set, err := s.reread()
	if err == nil && set.Empty && !s.set.Empty {
		err = fmt.Errorf("configuration %s is gone, or has nothing in it any more; if the defaults are what is wanted, let it have a comment", set.File)
	}
	held := config.Held(s.holds, set.Config)
	if err == nil {
		// What it says may hold only together with what needs a restart: access may not be opened while others still reach the gate.
		err = held.Check()
	}
	var parts []func()
	if err == nil {
		s.trying = set.Config // whose files are looked after, whether they can be used or not
		parts, err = app.prepared(ctx, s.holds, held)
	}
	if err != nil {
		if s.problem != err.Error() {
			app.log.Error("the configuration cannot be used, and none of it was applied; the one before stays", "error", err.Error())
		}
		s.problem = err.Error()
		return
	}
	changed := config.Differences(s.set, set)
	if len(changed) > 0 || s.problem != "" {
		app.log.Info("the configuration was read anew", "file", set.File, "changes", len(changed))
	}
	s.set, s.read, s.problem, s.holds = set, time.Now(), "", held
	for _, c := range changed {
		if c.Restart {
			app.log.Warn("a setting changed that holds from the next start on", "setting", c.Name, "value", c.Value)
		} else {
			app.log.Info("a setting changed", "setting", c.Name, "value", c.Value)
		}
	}
	for _, apply := range parts {
		apply()
	}
	s.unapplied = app.declare(ctx, held)
}

// declare has names, presets and keys hold as a configuration declares them, if it wants that. It says why they do not.
func (app *App) declare(ctx context.Context, c config.Config) (problem string) {
	if !c.ApplyAtStart || !c.Declared() {
		return ""
	}
	steps, err := app.applied(ctx, c)
	if err != nil {
		app.log.Error("what the configuration declares was not applied; it is tried again", "error", err.Error())
		return "apply_at_start: " + err.Error()
	}
	for _, s := range steps {
		app.log.Info("applied", "what", s.What, "name", s.Name, "change", s.Change)
	}
	return ""
}

func (app *App) applied(ctx context.Context, c config.Config) ([]apply.Step, error) {
	raw, err := c.Declarations()
	if err != nil {
		return nil, err
	}
	d, err := apply.Parse(raw)
	if err != nil {
		return nil, err
	}
	steps, err := apply.Apply(ctx, app.Gate, d)
	for _, s := range steps {
		if s.Key == "" {
			continue
		}
		// Nobody is there to be shown it.
		folder := filepath.Join(c.Data, keysDir)
		file := filepath.Join(folder, url.PathEscape(s.Name)+".key")
		if err := errors.Join(os.MkdirAll(folder, 0o700), WriteSecret(file, s.Key)); err != nil {
			return steps, fmt.Errorf("the key %q was created, but not written to %s: %w; rotate it to get another", s.Name, file, err)
		}
		app.log.Info("a key was created, and is in a file", "key", s.Name, "file", file)
	}
	return steps, err
}

// declareAgain is how often what could not be applied is tried again, such as names of machines that were not there yet.
const declareAgain = 5 * time.Second

// redeclare tries again what could not be applied, until ctx is done.
func (app *App) redeclare(ctx context.Context) {
	defer func() {
		if p := recover(); p != nil {
			app.log.Error("applying what is declared panicked", "error", fmt.Sprint(p))
		}
	}()
	tick := time.NewTicker(declareAgain)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		app.settings.mu.Lock()
		missing, holds := app.settings.unapplied != "", app.settings.holds
		app.settings.mu.Unlock()
		if !missing {
			continue
		}
		problem := app.declare(ctx, holds)
		app.settings.mu.Lock()
		if app.settings.unapplied != "" { // else a reload has applied it meanwhile
			app.settings.unapplied = problem
		}
		app.settings.mu.Unlock()
	}
}

// prepared gets ready what changes for each room, and returns what then has each follow. Nothing has changed when there is an error, which
// names the parts of the configuration that cannot be used.
func (app *App) prepared(ctx context.Context, before, now config.Config) (apply []func(), err error) {
	others, err := app.others(before, now)
	if err != nil {
		return nil, err
	}
	ready, err := app.machines.Ready(others)
	if err != nil {
		return nil, err
	}
	apply = append(apply, ready)
	servers, declared, err := app.toolServers(now)
	if err != nil {
		return nil, err
	}
	apply = append(apply, func() {
		rules := toolRules(now)
		app.declaredTools = declared
		app.tools.Replace(servers, toolLimits(now))
		app.rules.Store(&rules)
	})
	if !reflect.DeepEqual(exposure(before), exposure(now)) {
		apply = append(apply, func() { app.Server.Expose(exposure(now)) })
	}
	return append(apply, func() {
		app.engine.Limit(modelMemory(now), now.Models.IdleUnload)
		app.db.Limit(storedLimits(now))
		app.ledger.Keep(keeping(now))
		app.said.Set(recording(now))
		app.prices.Store(&now.Prices)
		if !reflect.DeepEqual(before.Models.KeepLoaded, now.Models.KeepLoaded) || !reflect.DeepEqual(before.Models.Fetch, now.Models.Fetch) {
			app.preparing.Go(func() { prepare(ctx, app.Gate, now.Models, app.log) })
		}
	}), nil
}

// settleAfter is how long the file must have been left alone before it is read: editors write in several steps.
const settleAfter = 200 * time.Millisecond

// follow applies the configuration whenever its file changes, or one that it names, until ctx is done. Folders are watched rather than files,
// which may vanish, and come again under the same name; of a folder that is not there yet, the nearest one above it that is.
func (app *App) follow(ctx context.Context) {
	defer func() {
		if p := recover(); p != nil {
			app.log.Error("following the configuration panicked", "error", fmt.Sprint(p))
		}
	}()
	if app.settings.reread == nil {
		return
	}
	var events chan fsnotify.Event
	var failures chan error
	watcher, err := fsnotify.NewWatcher()
	if err == nil {
		defer watcher.Close()
		events, failures = watcher.Events, watcher.Errors
		_, err = watch(watcher, app.settings.files())
	}
	if err != nil {
		app.log.Info("the configuration is read anew only when it is asked for (SIGHUP), since its folder cannot be watched", "error", err.Error())
	}
	settled := time.NewTimer(time.Hour)
	settled.Stop()
	again := func() {
		app.reload(ctx)
		if watcher == nil {
			return
		}
		more, err := watch(watcher, app.settings.files())
		if err != nil {
			app.log.Warn("a file that the configuration names cannot be watched", "error", err.Error())
		}
		if more { // what changed in these folders since the files were read was not seen
			settled.Reset(settleAfter)
		}
	}
	for {
		select {
		case event := <-events:
			// A folder that is swapped as a whole changes the files in it without naming them.
			if slices.Contains(app.settings.files(), filepath.Clean(event.Name)) || event.Has(fsnotify.Create) {
				settled.Reset(settleAfter)
			}
		case err := <-failures:
			app.log.Warn("a change of the configuration may have been missed", "error", err.Error())
		case <-settled.C:
			again()
		case <-app.again:
			again()
		case <-ctx.Done():
			return
		}
	}
}

// files are the configuration's own, and those that it names, whether they are there or not.
func (s *settings) files() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]string{s.set.File}, s.trying.Files()...)
}

// watch has a watcher look after the folders of files, or what there is of the way to them, and reports whether there are more than before.
func watch(w *fsnotify.Watcher, files []string) (more bool, err error) {
	watched := w.WatchList()
	for _, file := range files {
		folder := filepath.Dir(file)
		for info, e := os.Stat(folder); (e != nil || !info.IsDir()) && folder != filepath.Dir(folder); info, e = os.Stat(folder) {
			folder = filepath.Dir(folder)
		}
		if !slices.Contains(watched, folder) {
			failure := w.Add(folder)
			more = more || failure == nil
			err = errors.Join(err, failure)
		}
	}
	return more, err
}

// What the rooms are told of a configuration.

func exposure(c config.Config) server.Exposure {
	return server.Exposure{Open: c.Access == config.Open, HostNames: c.HostNames, BrowserOrigins: c.BrowserOrigins, BaseURL: c.Network.BaseURL, TrustedProxies: c.Network.TrustedProxies}
}

func storedLimits(c config.Config) kept.Limits {
	return kept.Limits{Age: days(c.Responses.Days), Space: int64(c.Responses.Space)}
}

func keeping(c config.Config) kept.Keep {
	return kept.Keep{Age: days(c.Ledger.Days), Rows: c.Ledger.Rows, Space: int64(c.Ledger.Space)}
}

func recording(c config.Config) ledger.Recording {
	r := ledger.Recording{All: c.Record.Content, Age: days(c.Record.Days), Space: int64(c.Record.Space)}
	for _, pattern := range c.Record.Redact {
		r.Redact = append(r.Redact, regexp.MustCompile(pattern)) // which the configuration has checked
	}
	return r
}

// shownPrices are what the interface needs to know of prices.
func (app *App) shownPrices() server.Prices {
	p := app.prices.Load()
	return server.Prices{Currency: p.Currency, Machine: p.Machine}
}

func days(n int) time.Duration { return time.Duration(n) * 24 * time.Hour }

// modelMemory is what the weights and contexts of all models may take, in bytes.
func modelMemory(c config.Config) int64 {
	if c.Models.Memory > 0 {
		return int64(c.Models.Memory)
	}
	return machine.Memory() / 4 * 3
}

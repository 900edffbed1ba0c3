package boot

import (
	"context"
	"fmt"
	"path/filepath"
	"reflect"
	"regexp"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"

	"kindredgate/internal/config"
	"kindredgate/internal/kept"
	"kindredgate/internal/ledger"
	"kindredgate/internal/machine"
	"kindredgate/internal/server"
)

// settings are what a gate was told, and what of that holds. It is safe for concurrent use.
type settings struct {
	reread func() (config.Reading, error)

	mu      sync.Mutex
	holds   config.Config
	set     config.Reading // as it was read last
	read    time.Time
	problem string // why what is there now cannot be used
}

// begin takes over the configuration that the gate is started with.
func (s *settings) begin(cfg config.Config, reread func() (config.Reading, error)) error {
	s.holds, s.reread, s.read = cfg, reread, time.Now()
	if reread == nil {
		return nil
	}
	set, err := reread()
	s.set = set
	return err
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
	told := server.Settings{File: s.set.File, Read: s.read.UTC(), Problem: s.problem, Settings: []server.Setting{}}
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
func (h *House) Reload() {
	select {
	case h.again <- struct{}{}:
	default: // it is going to be
	}
}

// reload reads the configuration anew and applies what can be applied while the gate runs.
func (h *House) reload(ctx context.Context) {
	s := &h.settings
	s.mu.Lock()
	defer s.mu.Unlock()
	set, err := s.reread()
	held := config.Held(s.holds, set.Config)
	if err == nil {
		// What it says may hold only together with what needs a restart: access may not be opened while others still reach the gate.
		err = held.Check()
	}
	if err != nil {
		if s.problem != err.Error() {
			h.log.Error("the configuration cannot be used; the one before stays", "error", err.Error())
		}
		s.problem = err.Error()
		return
	}
	changed := config.Differences(s.set, set)
	if len(changed) == 0 && s.problem == "" {
		return
	}
	before := s.holds
	s.set, s.read, s.problem, s.holds = set, time.Now(), "", held
	h.log.Info("the configuration was read anew", "file", set.File, "changes", len(changed))
	for _, c := range changed {
		if c.Restart {
			h.log.Warn("a setting changed that holds from the next start on", "setting", c.Name, "value", c.Value)
		} else {
			h.log.Info("a setting changed", "setting", c.Name, "value", c.Value)
		}
	}
	h.apply(ctx, before, s.holds)
}

// apply tells each room what changed for it.
func (h *House) apply(ctx context.Context, before, now config.Config) {
	if !reflect.DeepEqual(exposure(before), exposure(now)) {
		h.Server.Expose(exposure(now))
	}
	if !reflect.DeepEqual(before.Runners, now.Runners) {
		if err := h.reach(now); err != nil {
			h.log.Error("the runners of the configuration cannot be used; those before stay", "error", err.Error())
		}
	}
	h.engine.Limit(modelMemory(now), now.Models.IdleUnload)
	h.db.Limit(storedLimits(now))
	h.book.Keep(keeping(now))
	h.said.Set(recording(now))
	h.prices.Store(&now.Prices)
	if !reflect.DeepEqual(before.Models.KeepLoaded, now.Models.KeepLoaded) || !reflect.DeepEqual(before.Models.Fetch, now.Models.Fetch) {
		h.preparing.Go(func() { prepare(ctx, h.Gate, now.Models, h.log) })
	}
}

// settleAfter is how long the file must have been left alone before it is read: editors write in several steps.
const settleAfter = 200 * time.Millisecond

// follow applies the configuration whenever its file changes, until ctx is done. The folder is watched rather than the file, which may
// vanish, and come again under the same name.
func (h *House) follow(ctx context.Context) {
	defer func() {
		if p := recover(); p != nil {
			h.log.Error("following the configuration panicked", "error", fmt.Sprint(p))
		}
	}()
	if h.settings.reread == nil {
		return
	}
	file := h.settings.set.File // which never changes
	var events chan fsnotify.Event
	var failures chan error
	watcher, err := fsnotify.NewWatcher()
	if err == nil {
		defer watcher.Close()
		events, failures = watcher.Events, watcher.Errors
		err = watcher.Add(filepath.Dir(file))
	}
	if err != nil {
		h.log.Info("the configuration is read anew only when it is asked for (SIGHUP), since its folder cannot be watched", "error", err.Error())
	}
	settled := time.NewTimer(time.Hour)
	settled.Stop()
	for {
		select {
		case event := <-events:
			// A folder that is swapped as a whole changes the file without naming it.
			if filepath.Clean(event.Name) == file || event.Has(fsnotify.Create) {
				settled.Reset(settleAfter)
			}
		case err := <-failures:
			h.log.Warn("a change of the configuration may have been missed", "error", err.Error())
		case <-settled.C:
			h.reload(ctx)
		case <-h.again:
			h.reload(ctx)
		case <-ctx.Done():
			return
		}
	}
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
func (h *House) shownPrices() server.Prices {
	p := h.prices.Load()
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

package boot

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"kindredgate/internal/check"
	"kindredgate/internal/config"
	"kindredgate/internal/machine"
	"kindredgate/internal/record"
	"kindredgate/internal/tensor"
	"kindredgate/internal/tool"
)

// look gathers what the gate knows of itself, and judges it.
func (app *App) look(ctx context.Context) ([]check.Finding, error) {
	app.settings.mu.Lock()
	set, holds, problem := app.settings.set, app.settings.holds, app.settings.problems()
	app.settings.mu.Unlock()
	kernels, err := tensor.Kernels()
	if err != nil {
		return nil, err
	}
	f := check.Facts{Now: time.Now(), Config: holds, File: set.File, Problem: problem, Declared: set.Declared() && !holds.ApplyAtStart, BaseURL: app.Server.BaseURL(), Mishaps: app.Server.Mishaps(),
		Lost: app.ledger.Lost(), Memory: modelMemory(holds), Available: machine.Available(), Processors: runtime.GOMAXPROCS(0), Kernels: kernels}
	for _, s := range app.settings.tell().Settings {
		if s.Running != "" {
			f.Pending = append(f.Pending, s.Name)
		}
	}
	if app.certificate != nil {
		f.Certificate, f.CertificateError = app.certificate.standing()
	}
	if f.Keys, err = app.Gate.Keys.Keys(ctx); err != nil {
		return nil, fmt.Errorf("keys: %w", err)
	}
	models, err := app.Gate.Catalog.Models()
	if err != nil {
		f.ModelsProblem = err.Error()
	}
	f.Models = models
	if f.Names, err = app.Gate.Names.Names(ctx); err != nil {
		return nil, fmt.Errorf("names: %w", err)
	}
	if f.Presets, err = app.Gate.Presets.Presets(ctx); err != nil {
		return nil, fmt.Errorf("presets: %w", err)
	}
	for _, m := range app.machines.Machines() {
		s := m.State()
		one := check.Machine{Name: s.Name, URL: s.URL, Healthy: s.Healthy, Seen: !s.Looked.IsZero(), Why: s.Why, Encrypted: m.Private()}
		for _, there := range s.Models {
			one.Models = append(one.Models, there.Name)
		}
		app.joinedFacts(&one)
		f.Machines = append(f.Machines, one)
	}
	f.Version = app.options.Version
	if app.peers != nil {
		for _, g := range app.peers.Gates.List() {
			f.Gates = append(f.Gates, check.Gate{Name: g.Name, Self: g.Self, There: g.There(), Unseen: g.Unseen, Program: g.Program, Skew: g.Skew, Pending: g.Pending})
		}
	}
	for _, name := range app.tools.Names() {
		if server, err := app.tools.Get(name); err == nil { // else it has just been taken out
			st := server.Status()
			one := check.Tools{Name: name, Skipped: st.Skipped}
			if st.State == tool.Down {
				one.Failed = st.Error
			}
			f.Tools = append(f.Tools, one)
		}
	}
	if f.Bad, err = app.ledger.Find(ctx, record.Filter{Bad: true, Since: f.Now.Add(-24 * time.Hour), Limit: 1000}); err != nil {
		return nil, fmt.Errorf("the ledger: %w", err)
	}
	last, err := app.ledger.Find(ctx, record.Filter{Limit: 1})
	if err != nil {
		return nil, fmt.Errorf("the ledger: %w", err)
	}
	for _, e := range last {
		f.Longest = e.Begun
	}
	for _, address := range holds.Network.Listen {
		if path, ok := strings.CutPrefix(address, config.SocketPrefix); ok {
			s := check.Socket{Path: path}
			if info, err := os.Stat(path); err != nil {
				s.Missing = true
			} else {
				s.Mode = info.Mode()
			}
			f.Sockets = append(f.Sockets, s)
		}
	}
	f.Disks = disks(holds)
	f.Private = private(holds)
	return check.Look(f), nil
}

// joinedFacts adds what is known of a machine that has joined.
func (app *App) joinedFacts(m *check.Machine) {
	if app.joining == nil {
		return
	}
	j, ok := app.joining.Hub.Machine(m.Name)
	if !ok {
		return
	}
	s := j.State()
	m.Joined, m.Program, m.Skew, m.Returns, m.Digests = true, s.Program, s.Skew, s.Returns, map[string]string{}
	for _, one := range s.Models {
		m.Digests[one.Name] = one.Digest
	}
}

func disks(c config.Config) (list []check.Disk) {
	for _, d := range []check.Disk{{What: "data", Path: c.Data}, {What: "models", Path: c.Models.Folders[0]}} {
		free, ok := machine.FreeSpace(d.Path)
		if d.Free = free; !ok {
			d.Free = -1
		}
		list = append(list, d)
	}
	return list
}

// private are the files that only the owner should be able to read. Windows has rights of another kind, which go by the folder.
func private(c config.Config) (list []check.Private) {
	if runtime.GOOS == "windows" {
		return nil
	}
	for _, name := range []string{OwnerFile, DatabaseFile} {
		path := filepath.Join(c.Data, name)
		if info, err := os.Stat(path); err == nil {
			list = append(list, check.Private{Path: path, Mode: info.Mode()})
		}
	}
	return list
}

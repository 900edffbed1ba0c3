package remote

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"

	"kindredgate/internal/exchange"
)

// Fleet are the machines of a gate, by their names. It is safe for concurrent use; a nil one has none.
type Fleet struct {
	log *slog.Logger
	ctx context.Context // for looking after machines
	end context.CancelFunc

	mu       sync.RWMutex
	machines map[string]*Machine
}

// NewFleet makes a fleet without machines.
func NewFleet(log *slog.Logger) *Fleet {
	f := &Fleet{log: log, machines: map[string]*Machine{}}
	f.ctx, f.end = context.WithCancel(context.Background())
	return f
}

// Set changes which machines there are. One whose settings are as they were stays; answers of one that goes come to their end.
func (f *Fleet) Set(all map[string]Settings) error {
	set, err := f.Ready(all)
	if err == nil {
		set()
	}
	return err
}

// Ready makes machines, and returns what has them take the place of those that there are.
func (f *Fleet) Ready(all map[string]Settings) (set func(), err error) {
	fresh := map[string]*Machine{}
	for name, s := range all {
		m, err := New(name, s, f.log)
		if err != nil {
			return nil, fmt.Errorf("runners.%s: %w", name, err)
		}
		fresh[name] = m
	}
	return func() { f.replace(fresh) }, nil
}

func (f *Fleet) replace(fresh map[string]*Machine) {
	f.mu.Lock()
	var gone []*Machine
	for name, old := range f.machines {
		if m, ok := fresh[name]; ok && reflect.DeepEqual(old.set, m.set) {
			fresh[name] = old
		} else {
			gone = append(gone, old)
		}
	}
	for name, m := range fresh {
		if f.machines[name] != m {
			m.LookAfter(f.ctx)
		}
	}
	f.machines = fresh
	f.mu.Unlock()
	for _, m := range gone {
		m.Close()
	}
}

// Close ends looking after the machines.
func (f *Fleet) Close() error {
	f.end()
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, m := range f.machines {
		m.Close()
	}
	f.machines = map[string]*Machine{}
	return nil
}

// Machine finds a machine by its name.
func (f *Fleet) Machine(name string) (*Machine, bool) {
	if f == nil {
		return nil, false
	}
	f.mu.RLock()
	defer f.mu.RUnlock()
	m, ok := f.machines[name]
	return m, ok
}

// Machines lists all, by their names.
func (f *Fleet) Machines() (list []*Machine) {
	if f == nil {
		return nil
	}
	f.mu.RLock()
	defer f.mu.RUnlock()
	for _, name := range slices.Sorted(maps.Keys(f.machines)) {
		list = append(list, f.machines[name])
	}
	return list
}

// Split takes the name of a model elsewhere apart: its machine, and its name there.
func Split(name string) (machine, model string, ok bool) {
	machine, model, ok = strings.Cut(name, "/")
	return machine, model, ok && machine != "" && model != ""
}

// Find finds a model by its name here, such as attic/harbour-4m. ok is false if no machine of that name is there.
func (f *Fleet) Find(name string) (m *Machine, model Model, ok bool, err error) {
	machine, there, ok := Split(name)
	if !ok {
		return nil, Model{}, false, nil
	}
	if m, ok = f.Machine(machine); !ok {
		return nil, Model{}, false, nil
	}
	model, err = m.Model(there)
	return m, model, true, err
}

// Unknown is the error for a machine that is not there.
func (f *Fleet) Unknown(name string) error {
	var names []string
	for _, m := range f.Machines() {
		names = append(names, m.Name())
	}
	said := "none is set up (runners, in the configuration)"
	if len(names) > 0 {
		said = "these are: " + strings.Join(names, ", ")
	}
	return exchange.Errorf(exchange.NotFound, "machine_not_found", "there is no machine %q; %s", name, said)
}

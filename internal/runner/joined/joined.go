// Package joined answers requests with the models of machines that have joined the gate.
package joined

import (
	"slices"
	"time"

	"kindredgate/internal/fleet"
	"kindredgate/internal/runner/remote"
)

// Settings are those of a machine that has joined, for the machines of a gate.
func Settings(m *fleet.Machine) remote.Settings {
	// It is asked once: another target is tried rather than the same machine again.
	return remote.Settings{Line: line{m}, Tries: 1, Silence: silence}
}

// silence is how long nothing may come of an answer. It is long, since a tool call comes whole, and a slow machine takes minutes to write one.
const silence = 5 * time.Minute

// line is a machine's line. Two of the same machine are equal.
type line struct{ *fleet.Machine }

// Models are those that the machine offers, with what each can do.
func (l line) Models() (list []remote.Model) {
	answer := func(yes bool) remote.Answer {
		if yes {
			return remote.Yes
		}
		return remote.No
	}
	for _, m := range l.Machine.Models() {
		one := remote.Model{Name: m.Name, Context: max(0, m.Context), Use: m.Use, Digest: m.Digest, Abilities: remote.LineAbilities()}
		one.Abilities.Images, one.Abilities.Tools = answer(m.Sees), answer(m.Tools)
		one.Abilities.Vectors = answer(m.Use == "embedding")
		list = append(list, one)
	}
	slices.SortFunc(list, func(a, b remote.Model) int {
		if a.Name < b.Name {
			return -1
		}
		return 1
	})
	return list
}

package placement

import (
	"sync"
	"time"
)

// Meter measures a model by what it is asked, and remembers how its prompts begin. The zero value is ready. It is safe for concurrent use.
type Meter struct {
	mu              sync.Mutex
	memory          Memory
	load            time.Duration // that loading took last
	prefill, decode float64       // tokens a second, moving means
}

// What is too short to tell how fast a model is, in tokens.
const (
	leastRead  = 32
	leastWrote = 8
)

func mean(of *float64, now float64) {
	if *of == 0 {
		*of = now
	}
	*of += (now - *of) / 8
}

// Read notes that the prompt of a request was read: so many tokens beside those that were known, in that time, after loading the model for load.
func (m *Meter) Read(chain []uint32, tokens int, took, load time.Duration) {
	m.memory.Add(chain)
	m.mu.Lock()
	defer m.mu.Unlock()
	if load > 0 {
		m.load = load
	}
	if tokens >= leastRead && took > 0 {
		mean(&m.prefill, float64(tokens)/took.Seconds())
	}
}

// Wrote notes an answer: so many tokens, in that time after its first.
func (m *Meter) Wrote(tokens int, took time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if tokens >= leastWrote && took > 0 {
		mean(&m.decode, float64(tokens)/took.Seconds())
	}
}

// Forget forgets the prompts, as a model does that is unloaded.
func (m *Meter) Forget() { m.memory.Forget() }

// Known are the beginnings of prompts that are remembered.
func (m *Meter) Known() Known { return m.memory.Known() }

// Measured are the time that loading takes, and prompt tokens and tokens of an answer a second; 0 for what was not measured.
func (m *Meter) Measured() (load time.Duration, prefill, decode float64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.load, m.prefill, m.decode
}

// Candidate is what the meter knows of a model for a request that begins as the chain says.
func (m *Meter) Candidate(chain []uint32) Candidate {
	c := Candidate{Cached: m.Known().Tokens(chain)}
	c.Load, c.Prefill, c.Decode = m.Measured()
	return c
}

package main

import (
	"cmp"
	"container/heap"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"time"

	"kindredgate/internal/placement"
)

// setup is what is simulated.
type setup struct {
	machines, gates, apps, models int
	hours                         float64
	load                          float64 // conversations of an application a day
	seed                          uint64
	strategy                      string // placement, or least_busy and random to compare it with
}

// Times of the real protocol (internal/fleet).
const (
	helloEvery = 1.0 // seconds
	lostAfter  = 4.0
)

// machine is a simulated one. It does as the engine does in placement's own model, with what it does not know of: chance.
type machine struct {
	id, model       int
	prefill, decode float64 // tokens a second, alone
	parallel        int
	delay           time.Duration
	nights          bool // it works from 20:00 to 8:00 only
	memory          *cache
	up              bool
	downAt          float64 // when it went down last

	running []*request
	queue   []*request
	told    int  // requests, when it said so last
	heardUp bool // what gates believe
	busy    float64
	free    []float64 // when each of its places is free
}

// cache is what a machine has of prompts: of conversations and of instructions, the least recently used make room.
type cache struct {
	most  int
	order []int
	has   map[int]int // tokens, by what they are the beginning of
}

func (c *cache) get(key int) int { return c.has[key] }

func (c *cache) put(key, tokens int) {
	if _, ok := c.has[key]; !ok {
		if c.order = append(c.order, key); len(c.order) > c.most {
			delete(c.has, c.order[0])
			c.order = c.order[1:]
		}
	}
	c.has[key] = max(c.has[key], tokens)
}

// request is one step of a conversation.
type request struct {
	app, gate, model int
	conversation     int
	prompt, answer   int
	before           int // tokens that the step before had
	begun            float64
	tries            int
	ends             float64
	machine          *machine
	first            float64
	steps            int // that follow
}

// event is something that happens at a time.
type event struct {
	at   float64
	kind int
	r    *request
	m    *machine
}

const (
	arrives = iota
	finishes
	fails
	returns
	noticed
)

type queue []event

func (q queue) Len() int           { return len(q) }
func (q queue) Less(i, j int) bool { return q[i].at < q[j].at }
func (q queue) Swap(i, j int)      { q[i], q[j] = q[j], q[i] }
func (q *queue) Push(x any)        { *q = append(*q, x.(event)) }
func (q *queue) Pop() any {
	old := *q
	e := old[len(old)-1]
	*q = old[:len(old)-1]
	return e
}

// result is what came of it.
type result struct {
	requests, cut, moved, refused int
	first                         []float64 // seconds until the first token
	waits                         []float64 // of that, in queues
	cached, prompts               float64   // tokens
	answers                       float64   // tokens
	busy                          float64   // share of the machines' places
	worst                         float64   // requests a second, in the busiest minute
}

// system is a simulation on its way.
type system struct {
	setup
	rng      *rand.Rand
	events   queue
	list     []*machine
	of       [][]*machine  // by model
	own      []map[int]int // by gate: requests in progress at a machine, since it said how many it has
	told     []map[int]float64
	now      float64
	next     int
	minutes  map[int]int
	out      result
	capacity float64
}

// between draws from a range, with short ones more often (log-uniform).
func (s *system) between(low, high float64) float64 {
	return math.Exp(math.Log(low) + s.rng.Float64()*(math.Log(high)-math.Log(low)))
}

func (s *system) exponential(mean float64) float64 { return -mean * math.Log(1-s.rng.Float64()) }

// day is how much is asked at a time of the day, against the mean: most in the afternoon, a tenth of that at night.
func day(at float64) float64 {
	hour := math.Mod(at/3600, 24)
	return max(0.15, 1+0.9*math.Sin((hour-9)/24*2*math.Pi))
}

// simulate runs a system for its time.
func simulate(set setup) result {
	s := &system{setup: set, rng: rand.New(rand.NewPCG(set.seed, 1)), minutes: map[int]int{}, of: make([][]*machine, set.models)}
	for i := range set.machines {
		m := &machine{id: i, model: i % set.models, up: true, heardUp: true, prefill: s.between(80, 1500), decode: s.between(8, 60), parallel: 4 + s.rng.IntN(9), delay: time.Duration(s.between(2, 60)) * time.Millisecond,
			nights: s.rng.Float64() < 0.2, memory: &cache{most: 40 + s.rng.IntN(120), has: map[int]int{}}}
		m.free = make([]float64, m.parallel)
		s.list, s.of[m.model] = append(s.list, m), append(s.of[m.model], m)
		s.capacity += float64(m.parallel)
		s.push(event{at: s.exponential(24 * 3600), kind: fails, m: m})
	}
	for range set.gates {
		s.own, s.told = append(s.own, map[int]int{}), append(s.told, map[int]float64{})
	}
	// Conversations begin as a Poisson process that goes with the day.
	end := set.hours * 3600
	rate := float64(set.apps) * set.load / 86400
	for at := 0.0; ; {
		at += s.exponential(1 / (rate * 1.9))
		if at > end {
			break
		}
		if s.rng.Float64() < day(at)/1.9 {
			s.begin(at)
		}
	}
	for len(s.events) > 0 {
		e := heap.Pop(&s.events).(event)
		s.now = e.at
		switch e.kind {
		case arrives:
			s.arrives(e.r)
		case finishes:
			s.finishes(e.r)
		case fails:
			s.fails(e.m)
		case noticed:
			e.m.heardUp = e.m.up
		case returns:
			e.m.up = true
			s.push(event{at: s.now + helloEvery, kind: noticed, m: e.m})
		}
		if s.now > end+3600 {
			break
		}
	}
	for _, m := range s.list {
		s.out.busy += m.busy
	}
	s.out.busy /= s.capacity * end
	for _, n := range s.minutes {
		s.out.worst = max(s.out.worst, float64(n)/60)
	}
	return s.out
}

func (s *system) push(e event) { heap.Push(&s.events, e) }

// begin begins a conversation of an application: its instructions are as long as they are for all of its conversations.
func (s *system) begin(at float64) {
	app := s.rng.IntN(s.apps)
	s.next++
	r := &request{app: app, gate: s.rng.IntN(s.gates), model: app % s.models, conversation: s.next, begun: at, steps: int(s.exponential(3))}
	r.prompt = s.instructions(app) + int(s.between(10, 1500))
	r.answer = int(s.between(15, 900))
	s.push(event{at: at, kind: arrives, r: r})
}

// instructions are how long those of an application are, in tokens.
func (s *system) instructions(app int) int { return 50 + (app*7919)%1950 }

// believed is how many requests a gate takes a machine to have: what that has said last, and what it has given it since.
func (s *system) believed(gate int, m *machine) int {
	// A machine says it once a second, at a moment of its own.
	said := math.Floor(s.now/helloEvery-float64(m.id)/97) + float64(m.id)/97
	if s.told[gate][m.id] < said {
		s.told[gate][m.id] = said
		s.own[gate][m.id] = 0
		m.told = len(m.running) + len(m.queue)
	}
	return m.told + s.own[gate][m.id]
}

func works(m *machine, at float64) bool {
	hour := math.Mod(at/3600, 24)
	return !m.nights || hour >= 20 || hour < 8
}

// choose gives the machine that a gate sends a request to; nil if it knows of none.
func (s *system) choose(r *request) *machine {
	var list []placement.Candidate
	var machines []*machine
	for _, m := range s.of[r.model] {
		if !m.heardUp || !works(m, s.now) {
			continue
		}
		cached := max(m.memory.get(r.conversation), min(m.memory.get(-1-r.app), s.instructions(r.app)))
		list = append(list, placement.Candidate{Name: strconv.Itoa(len(list)), Loaded: true, Cached: cached, Queued: s.believed(r.gate, m), Parallel: m.parallel, Prefill: m.prefill, Decode: m.decode, Delay: m.delay})
		machines = append(machines, m)
	}
	if len(machines) == 0 {
		return nil
	}
	switch s.strategy {
	case "random":
		return machines[s.rng.IntN(len(machines))]
	case "least_busy":
		best := 0
		for i, c := range list {
			if c.Queued < list[best].Queued {
				best = i
			}
		}
		return machines[best]
	}
	got := placement.Rank(list, placement.Request{Prompt: r.prompt}, s.rng.Float64)
	i, _ := strconv.Atoi(got[0].Target) // as it was written above
	return machines[i]
}

func (s *system) arrives(r *request) {
	if r.tries == 0 {
		s.out.requests++
		s.minutes[int(s.now/60)]++
	}
	m := s.choose(r)
	if m == nil || r.tries > 5 {
		s.out.refused++
		return
	}
	s.own[r.gate][m.id]++
	if !m.up { // which the gate does not know yet: it waits until it does, and takes another
		r.tries++
		s.out.moved++
		s.push(event{at: s.now + lostAfter, kind: arrives, r: r})
		return
	}
	s.run(m, r)
}

// run has a machine work on a request as soon as it has a place.
func (s *system) run(m *machine, r *request) {
	place := 0
	for i, at := range m.free {
		if at < m.free[place] {
			place = i
		}
	}
	beside := 0
	for _, at := range m.free {
		if at > s.now {
			beside++
		}
	}
	wait := max(0, m.free[place]-s.now)
	cached := min(r.prompt-1, max(m.memory.get(r.conversation), min(m.memory.get(-1-r.app), s.instructions(r.app))))
	c := placement.Candidate{Loaded: true, Cached: cached, Queued: min(beside, m.parallel-1), Parallel: m.parallel, Prefill: m.prefill, Decode: m.decode, Delay: m.delay}
	e := placement.Of(c, placement.Request{Prompt: r.prompt, Answer: r.answer})
	noise := 0.8 + 0.4*s.rng.Float64()
	reads, writes := e.Prefill/1000*noise, e.Decode/1000*noise
	r.machine, r.first = m, s.now+e.Line/1000+wait+reads
	r.ends = r.first + writes
	m.free[place] = r.ends
	m.busy += reads + writes
	m.running = append(m.running, r)
	m.memory.put(r.conversation, r.prompt+r.answer)
	m.memory.put(-1-r.app, s.instructions(r.app))
	s.out.cached, s.out.prompts, s.out.answers = s.out.cached+float64(cached), s.out.prompts+float64(r.prompt), s.out.answers+float64(r.answer)
	s.out.waits = append(s.out.waits, wait)
	s.push(event{at: r.ends, kind: finishes, r: r})
}

func (s *system) finishes(r *request) {
	m := r.machine
	i := slices.Index(m.running, r)
	if i < 0 {
		return // it was cut
	}
	m.running = slices.Delete(m.running, i, i+1)
	s.out.first = append(s.out.first, r.first-r.begun)
	if r.steps > 0 {
		at := s.now + s.exponential(20)
		s.push(event{at: at, kind: arrives, r: &request{app: r.app, gate: s.rng.IntN(s.gates), model: r.model, conversation: r.conversation, before: r.prompt + r.answer, begun: at, steps: r.steps - 1,
			prompt: r.prompt + r.answer + int(s.between(10, 600)), answer: int(s.between(15, 900))}})
	}
}

// fails takes a machine down for some minutes. What it had begun to answer is cut; the rest is answered elsewhere.
func (s *system) fails(m *machine) {
	if m.up {
		m.up, m.downAt = false, s.now
		m.memory.has, m.memory.order = map[int]int{}, nil
		for _, r := range m.running {
			if r.first < s.now {
				s.out.cut++
				continue
			}
			s.out.moved++
			again := *r
			again.tries++
			s.push(event{at: s.now + lostAfter, kind: arrives, r: &again})
		}
		m.running = nil
		for i := range m.free {
			m.free[i] = s.now
		}
		s.push(event{at: s.now + lostAfter, kind: noticed, m: m})
		s.push(event{at: s.now + s.between(60, 3600), kind: returns, m: m})
	}
	s.push(event{at: s.now + s.exponential(24*3600), kind: fails, m: m})
}

// part is the value that a share of a list does not exceed.
func part(list []float64, share float64) float64 {
	if len(list) == 0 {
		return 0
	}
	slices.SortFunc(list, cmp.Compare[float64])
	return list[min(len(list)-1, int(share*float64(len(list))))]
}

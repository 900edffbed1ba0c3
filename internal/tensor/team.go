package tensor

import (
	"fmt"
	"math/bits"
	"reflect"
	"runtime"
	"runtime/debug"
	"sync"
	"sync/atomic"
	"time"
)

// Team is a set of goroutines that share out pieces of work. There is one for the process, so that a product costs a
// hand-over and not the start of goroutines, and several models do not compete for the processors. nil is a team of
// the caller alone.
//
// Pieces are claimed one by one by whoever is free, and the caller waits for pieces that were claimed, never for a
// helper to wake: on a busy machine it does all the work itself.
type Team struct {
	mu      sync.Mutex // held by who splits
	helpers []*helper
	closed  atomic.Bool
	ended   sync.WaitGroup

	// state is the piece of work under way: its generation in the highest 24 bits, in how many chunks it is cut in the
	// 20 below, and how many of these are claimed in the lowest 20. Who raises the lowest by one owns that chunk; so a
	// helper that comes late finds nothing, whatever it saw before.
	state atomic.Uint64
	done  atomic.Int64 // chunks that have ended
	// What follows is written before state is, and read only by owners of a chunk.
	work   Work
	rows   int
	chunk  int // rows of a chunk
	failed atomic.Pointer[Panic]
	alone  solitude // guarded by mu
}

// Work can be done in pieces. Do does rows from ≤ row < to; worker is below the team's size, and no two pieces are done
// at once with the same one, so that it can choose working memory.
type Work interface{ Do(worker, from, to int) }

// Func is work that is a function.
type Func func(worker, from, to int)

// Do calls the function.
func (f Func) Do(worker, from, to int) { f(worker, from, to) }

// Panic is what Split panics with if a piece of work did. All pieces have ended then.
type Panic struct {
	Value any
	Stack []byte // of the goroutine that panicked
}

func (p *Panic) Error() string { return fmt.Sprintf("%v\n%s", p.Value, p.Stack) }

type helper struct {
	parked atomic.Bool
	wake   chan struct{} // has room for one
}

const (
	chunkBits = 20
	maxChunks = 1<<chunkBits - 1
)

// NewTeam starts a team that uses size processors, the caller's own included; 0 means all there are.
func NewTeam(size int) *Team {
	if size <= 0 {
		size = runtime.GOMAXPROCS(0)
	}
	t := &Team{}
	for i := range size - 1 {
		h := &helper{wake: make(chan struct{}, 1)}
		t.helpers = append(t.helpers, h)
		t.ended.Go(func() {
			debug.SetPanicOnFault(true) // a weights file that is cut short is a panic, which run recovers
			for t.await(h) {
				t.take(i + 1)
			}
		})
	}
	return t
}

// Size is the number of workers, the caller included.
func (t *Team) Size() int {
	if t == nil {
		return 1
	}
	return len(t.helpers) + 1
}

// Close ends the team's goroutines and waits for them. No Split may be running or follow.
func (t *Team) Close() {
	if t == nil {
		return
	}
	t.closed.Store(true)
	for _, h := range t.helpers {
		h.rouse()
	}
	t.ended.Wait()
}

// How a goroutine waits: it looks so often without giving the processor away, some 5 µs, since between two products of a
// step there is less than that; then so often giving it to other goroutines; then it sleeps.
const (
	spins  = 4000
	yields = 200
)

// open reports whether there are chunks that nobody has claimed.
func open(state uint64) bool { return state&maxChunks < state>>chunkBits&maxChunks }

// await waits for work; false means that the team is closed.
func (t *Team) await(h *helper) bool {
	for i := 0; ; i++ {
		switch {
		case t.closed.Load():
			return false
		case open(t.state.Load()):
			return true
		case i < spins:
		case i < spins+yields:
			runtime.Gosched()
		default:
			h.parked.Store(true)
			if !open(t.state.Load()) && !t.closed.Load() {
				<-h.wake
			} else if !h.parked.CompareAndSwap(true, false) {
				<-h.wake // who saw it parked has sent something
			}
			i = 0
		}
	}
}

// rouse wakes a helper that sleeps.
func (h *helper) rouse() {
	if h.parked.Load() && h.parked.CompareAndSwap(true, false) {
		h.wake <- struct{}{}
	}
}

// take claims chunks and does them until none is left.
func (t *Team) take(worker int) {
	for {
		s := t.state.Load()
		if !open(s) {
			return
		}
		if t.state.CompareAndSwap(s, s+1) {
			t.run(worker, int(s&maxChunks))
		}
	}
}

// run does a chunk. If it or another one panics, the rest is left undone.
func (t *Team) run(worker, chunk int) {
	defer t.done.Add(1)
	if t.failed.Load() != nil {
		return
	}
	defer func() {
		if p := recover(); p != nil {
			t.failed.CompareAndSwap(nil, &Panic{p, debug.Stack()})
		}
	}()
	t.work.Do(worker, chunk*t.chunk, min((chunk+1)*t.chunk, t.rows))
}

// solitude keeps short work from being split for a while when that takes longer than doing it alone, as beside another process
// that keeps a processor busy: a helper comes too late for any chunk, though waking it took time; or it loses its processor
// in the middle of one, for some milliseconds; or it takes the caller's own. What work takes alone is measured on some of it.
// Each time that splitting does not pay again, whoever splits stays alone for longer.
type solitude struct {
	alone   map[reflect.Type]*[bits.UintSize + 1]lone // by what the work is, and by the number of digits of its multiplications
	balance time.Duration                             // what splitting has saved
	until   time.Time
	pause   time.Duration
}

// lone is how long work takes that nobody helps with.
type lone struct {
	perMillion time.Duration // for a million multiplications
	count      int
}

// of is how long work like this takes. A multiplication of floats takes several times as long as one of bytes.
func (s *solitude) of(w Work, multiplications int) *lone {
	kind := reflect.TypeOf(w)
	classes := s.alone[kind]
	if classes == nil {
		if s.alone == nil {
			s.alone = map[reflect.Type]*[bits.UintSize + 1]lone{}
		}
		classes = new([bits.UintSize + 1]lone)
		s.alone[kind] = classes
	}
	return &classes[bits.Len(uint(multiplications))]
}

const (
	// shortWork is the number of multiplications below which a lost processor cannot be made up for by the rest of the work.
	shortWork             = 16 << 20
	aloneOneIn            = 64
	mostSaved, mostLost   = 4 * time.Millisecond, time.Millisecond
	leastPause, mostPause = 50 * time.Millisecond, 2 * time.Second
)

// try reports whether work is to be done alone.
func (s *solitude) try(class *lone) bool {
	class.count++
	return class.perMillion == 0 || class.count%aloneOneIn == 0 || s.pause > 0 && time.Now().Before(s.until)
}

// took notes how long that took. A disturbance counts for little.
func (class *lone) took(multiplications int, d time.Duration) {
	d = d * 1e6 / time.Duration(multiplications)
	if class.perMillion == 0 {
		class.perMillion = d
	}
	class.perMillion += (min(d, 2*class.perMillion) - class.perMillion) / 4
}

// split notes how long it took with helpers.
func (s *solitude) split(class *lone, multiplications int, d time.Duration) {
	alone := class.perMillion * time.Duration(multiplications) / 1e6
	s.balance = min(s.balance+alone-d, mostSaved)
	if s.balance > -mostLost {
		return
	}
	now := time.Now()
	if now.Sub(s.until) > 4*s.pause {
		s.pause = leastPause / 2
	}
	s.pause, s.balance = min(2*s.pause, mostPause), 0
	s.until = now.Add(s.pause)
}

// AdditionCost is how many multiplications of a product take as long as an addition of floats that lie in the caches, about. The team learns how
// long multiplications take, so work of other kinds has to be given in the same measure.
func AdditionCost() int {
	switch {
	case inUse == nil:
		return 1
	case inUse.biased:
		return 16
	}
	return 6
}

// smallWork is the number of multiplications below which handing over costs more than it saves.
const smallWork = 16 << 10

// Split does work of so many rows, on several goroutines at once, and returns when all is done. cost is the number of
// multiplications a row takes. If a piece panics, Split panics with a *[Panic] or, if the caller did it alone, as it did.
func (t *Team) Split(rows, cost int, w Work) {
	if t == nil || len(t.helpers) == 0 || rows < 2 || rows*cost < smallWork || !t.mu.TryLock() {
		// Another model has the helpers: its processors are busy.
		w.Do(0, 0, rows)
		return
	}
	defer t.mu.Unlock()
	short := rows*cost < shortWork
	begun := time.Now()
	var class *lone
	if short {
		if class = t.alone.of(w, rows*cost); t.alone.try(class) {
			w.Do(0, 0, rows)
			class.took(rows*cost, time.Since(begun))
			return
		}
	}
	// Several chunks for each goroutine, since one of them may come late; of whole cache lines, if there are enough.
	chunk := max(1, rows/(8*t.Size()))
	if chunk > 16 {
		chunk = (chunk + 15) &^ 15
	}
	chunk = max(chunk, (rows+maxChunks-1)/maxChunks)
	chunks := (rows + chunk - 1) / chunk
	t.work, t.rows, t.chunk = w, rows, chunk
	t.done.Store(0)
	t.failed.Store(nil)
	generation := t.state.Load()>>(2*chunkBits) + 1
	t.state.Store(generation<<(2*chunkBits) | uint64(chunks)<<chunkBits)
	for _, h := range t.helpers[:min(len(t.helpers), chunks-1)] {
		h.rouse()
	}
	t.take(0)
	for i := 0; t.done.Load() < int64(chunks); i++ {
		switch {
		case i < spins:
		case i < spins+yields:
			runtime.Gosched()
		default:
			time.Sleep(20 * time.Microsecond)
		}
	}
	if short {
		t.alone.split(class, rows*cost, time.Since(begun))
	}
	t.work = nil
	if p := t.failed.Load(); p != nil {
		panic(p)
	}
}

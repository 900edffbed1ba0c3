package tensor

import (
	"runtime"
	"sync"
	"sync/atomic"
)

// Team is a set of goroutines that share out the rows of a product. It lives as long as a model, so that a
// product costs a hand-over and not the start of goroutines. The zero of *Team (nil) does all work in the
// caller.
type Team struct {
	size  int
	wake  chan *task
	ended sync.WaitGroup
}

// task is one piece of work, taken in chunks by whoever is free.
type task struct {
	do      func(from, to int)
	rows    int
	chunk   int
	next    atomic.Int64
	helping atomic.Int32   // helpers that have not finished
	pending sync.WaitGroup // the same, to sleep on
}

func (t *task) run() {
	for {
		from := int(t.next.Add(int64(t.chunk))) - t.chunk
		if from >= t.rows {
			return
		}
		t.do(from, min(from+t.chunk, t.rows))
	}
}

// NewTeam starts a team that uses size processors, the caller's own included; 0 means all there are.
func NewTeam(size int) *Team {
	if size <= 0 {
		size = runtime.GOMAXPROCS(0)
	}
	t := &Team{size: size, wake: make(chan *task, size)}
	for range size - 1 {
		t.ended.Go(func() {
			for task := t.receive(); task != nil; task = t.receive() {
				task.run()
				task.helping.Add(-1)
				task.pending.Done()
			}
		})
	}
	return t
}

// spins is how often a goroutine looks for what it waits for before it sleeps: for some 100 µs. Waking from sleep
// takes about as long on a virtual machine, which is longer than most products; between two products of a step
// there are only a few µs.
const spins = 50_000

// receive waits for a task, at first without sleeping. It returns nil when the team is closed.
func (t *Team) receive() *task {
	for range spins {
		if len(t.wake) > 0 {
			break
		}
	}
	return <-t.wake
}

// Close ends the team's goroutines and waits for them. No Split may be running or follow.
func (t *Team) Close() {
	if t != nil {
		close(t.wake)
		t.ended.Wait()
	}
}

// smallWork is the number of multiplications below which handing over costs more than it saves: a hand-over to a
// goroutine that is awake takes some µs, in which one processor does about 10,000 of them.
const smallWork = 16 << 10

// Split calls do for ranges that together cover 0 ≤ row < rows, on several goroutines at once, and returns
// when all are done. cost is the number of multiplications a row takes.
func (t *Team) Split(rows, cost int, do func(from, to int)) {
	if t == nil || t.size == 1 || rows < 2 || rows*cost < smallWork {
		do(0, rows)
		return
	}
	helpers := min(t.size, rows) - 1
	// Several chunks for each goroutine, since one of them may wake late.
	work := &task{do: do, rows: rows, chunk: max(1, rows/(4*t.size))}
	work.pending.Add(helpers)
	work.helping.Store(int32(helpers))
	for range helpers {
		t.wake <- work
	}
	work.run()
	for i := 0; i < spins && work.helping.Load() > 0; i++ {
	}
	work.pending.Wait()
}

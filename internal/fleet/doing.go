package fleet

import "sync"

// doing is the work that a gate does, until its end was told to the servers. It is safe for concurrent use.
type doing struct {
	mu   sync.Mutex
	work map[string]chan struct{} // closed when it has ended
}

func newDoing() *doing { return &doing{work: map[string]chan struct{}{}} }

func (d *doing) begin(id string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.work[id] == nil {
		d.work[id] = make(chan struct{})
	}
}

func (d *doing) end(id string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if c := d.work[id]; c != nil {
		select {
		case <-c:
		default:
			close(c)
		}
	}
}

func (d *doing) forget(id string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.work, id)
}

// state reports whether work is this gate's, and whether it has ended.
func (d *doing) state(id string) (ended, ours bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	c, ours := d.work[id]
	if !ours {
		return false, false
	}
	select {
	case <-c:
		return true, true
	default:
		return false, true
	}
}

// wait is closed when work has ended.
func (d *doing) wait(id string) <-chan struct{} {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.work[id]
}

// Package native answers requests with the gate's own engine: it loads models when they are first asked for, lends them
// to those who use them, and unloads what nobody has used for a while or what another needs the memory of.
package native

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"kindredgate/internal/cache"
	"kindredgate/internal/engine"
	"kindredgate/internal/exchange"
	"kindredgate/internal/prepared"
	"kindredgate/internal/prompt"
	"kindredgate/internal/tensor"
	"kindredgate/internal/weights/disk"
)

// Options are the limits of a runner. Zero fields take the defaults.
type Options struct {
	Memory  int64         // bytes for weights and contexts of all loaded models together; no limit
	Context int64         // bytes for the contexts of each model; an engine's default
	Idle    time.Duration // after which a model that nobody uses is unloaded; never
	Threads int           // processors to use; all
	// Prepared keeps weights in the order of this processor. They are made in the background; nothing is if it has no space.
	Prepared prepared.Cache
	// Contexts keeps what the contexts of models have in common; nothing if it has no space.
	Contexts cache.Folder
	Engine   engine.Options
	// Drafter gives the path of the small model that guesses tokens for the one at path, "" for none. It may be nil.
	Drafter func(path string) (string, error)
	// PictureMemory is how many bytes decoding a picture may take, and PictureTokens how many tokens one becomes at the most, unless a request says otherwise.
	PictureMemory int64
	PictureTokens int
	// FetchPicture gets a picture from its address; nil where addresses are not taken.
	FetchPicture func(ctx context.Context, address string) ([]byte, error)
	// Told is called when something happens to a model that whoever runs the gate may want to know; it may be nil.
	Told func(what, path string, err error)
}

// Runner holds the loaded models. It is safe for concurrent use.
type Runner struct {
	opts    Options
	team    *tensor.Team
	looking chan struct{} // has room for one: who is in looks at a picture
	making  chan struct{} // has room for one: who is in prepares weights; two at once would each count on the same space

	mu     sync.Mutex
	loaded map[string]*entry // by path
	live   map[*entry]bool   // these, and those that somebody still uses though nobody can get them any more
	// contexts are those of entries that may write them.
	contexts map[*contexts]struct{}
	used     int64 // bytes that all entries account for, those included that are on their way out
	leaving  int64 // bytes of those that are being closed, which are as good as free
	closed   bool
	pending  int       // goroutines that load or close an entry
	settled  sync.Cond // told when pending falls
}

// entry is a model that is loaded, or being loaded.
type entry struct {
	path     string
	identity string        // of its files when they were opened
	ready    chan struct{} // closed when the model or err is set
	err      error
	*loadedModel
	// What follows is nil until the model is loaded: the reading of its files, its prepared weights if there were some, and
	// their making if there were none.
	ahead     *readAhead
	prepared  *prepared.File
	preparing *preparing
	contexts  *contexts // nil if they are not kept

	// The runner's mutex guards what follows.
	leases  int
	bytes   int64
	kept    bool // not unloaded for being idle
	retired bool // gone from the map: it is closed when the last lease ends
	last    time.Time
	timer   *time.Timer
}

// New makes a runner.
func New(o Options) *Runner {
	r := &Runner{opts: o, team: tensor.NewTeam(o.Threads), loaded: map[string]*entry{}, live: map[*entry]bool{}, contexts: map[*contexts]struct{}{}, making: make(chan struct{}, 1), looking: make(chan struct{}, 1)}
	r.settled.L = &r.mu
	if err := o.Prepared.Clean(); err != nil {
		r.tell("what was left half prepared cannot be removed", o.Prepared.Folder, err)
	}
	if o.Contexts.Space > 0 {
		if err := o.Contexts.Clean(); err != nil {
			r.tell("what was left half written cannot be removed", o.Contexts.Path, err)
		}
	}
	r.opts.Engine.Team = r.team
	if o.Context > 0 {
		r.opts.Engine.Memory = o.Context
	}
	return r
}

// Limit changes the memory of all loaded models together, and when one that nobody uses is unloaded. What is loaded beyond the memory
// stays until another model needs it.
func (r *Runner) Limit(memory int64, idle time.Duration) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.opts.Memory, r.opts.Idle = memory, idle
	for _, e := range r.loaded {
		if e.timer != nil {
			e.timer.Stop()
		}
		if e.leases == 0 && e.done() {
			r.watch(e)
		}
	}
}

func (r *Runner) tell(what, path string, err error) {
	if r.opts.Told != nil {
		r.opts.Told(what, path, err)
	}
}

// Close unloads all models; answers that run end with an error. The weights of one whose reader has not taken that error
// yet are unmapped when it has.
func (r *Runner) Close() error {
	r.mu.Lock()
	if r.closed {
		r.mu.Unlock()
		return nil
	}
	r.closed = true
	var list []*entry
	for e := range r.live {
		list = append(list, e)
	}
	r.mu.Unlock()
	for _, e := range list {
		<-e.ready
		if e.err != nil {
			continue
		}
		// Those who hold a lease are told now; the weights stay mapped until they have given it back.
		if e.engine != nil {
			e.engine.Close()
		}
		if e.encoder != nil {
			e.encoder.Close()
		}
		r.mu.Lock()
		r.retire(e)
		r.mu.Unlock()
	}
	r.mu.Lock()
	for r.pending > 0 {
		r.settled.Wait()
	}
	r.mu.Unlock()
	r.team.Close()
	return nil
}

// start runs something in the background that Close waits for. The runner is locked.
func (r *Runner) start(do func()) {
	r.pending++
	go func() {
		defer func() {
			r.mu.Lock()
			r.pending--
			r.settled.Broadcast()
			r.mu.Unlock()
		}()
		do()
	}()
}

// lease is the right to use a loaded model. It is given back by release, once.
type lease struct {
	*entry
	r    *Runner
	load time.Duration // that getting it took, if the model had to be loaded
}

func (l *lease) release() {
	r, e := l.r, l.entry
	r.mu.Lock()
	defer r.mu.Unlock()
	e.leases--
	e.last = time.Now()
	if e.leases > 0 {
		return
	}
	if e.retired {
		r.finish(e)
	} else {
		r.watch(e)
		e.contexts.soon()
	}
}

// watch has an entry looked at when it will have been idle for as long as is allowed. The runner is locked.
func (r *Runner) watch(e *entry) {
	if r.opts.Idle <= 0 || e.kept || r.closed {
		return
	}
	if e.timer != nil {
		e.timer.Stop()
	}
	e.timer = time.AfterFunc(r.opts.Idle, func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		if e.leases == 0 && !e.retired && !e.kept && time.Since(e.last) >= r.opts.Idle {
			r.retire(e)
			r.tell("unloaded: nobody has used it for a while", e.path, nil)
		}
	})
}

// retire takes an entry out of the map, so that nobody gets it any more. The runner is locked.
func (r *Runner) retire(e *entry) {
	if e.retired {
		return
	}
	e.retired = true
	if r.loaded[e.path] == e {
		delete(r.loaded, e.path)
	}
	if e.leases == 0 {
		r.finish(e)
	}
}

// finish closes an entry that nobody uses and nobody can get. The runner is locked.
func (r *Runner) finish(e *entry) {
	delete(r.live, e)
	if e.timer != nil {
		e.timer.Stop()
	}
	leaving := e.bytes
	r.leaving += leaving
	r.start(func() {
		<-e.ready // it may be on its way yet, and what is not there cannot be closed
		if e.ahead != nil {
			e.ahead.end()
			e.preparing.end()
		}
		if e.loadedModel != nil {
			if err := errors.Join(e.close(), e.preparing.close(), e.prepared.Close()); err != nil {
				r.tell("closing failed", e.path, err)
			}
			e.contexts.end()
		}
		r.mu.Lock()
		delete(r.contexts, e.contexts)
		r.used -= e.bytes
		r.leaving -= leaving
		r.mu.Unlock()
		debug.FreeOSMemory() // what was built for it is not waited for to be in the collector's way
	})
}

// get lends the model at path, loading it if nobody has, or if its files are not those that were loaded. Waiting ends with
// ctx; the loading goes on for whoever comes next. A failure is not kept: the files may be mended.
func (r *Runner) get(ctx context.Context, path string) (*lease, error) {
	identity, err := disk.Identity(path)
	if err != nil {
		return nil, unloadable(path, err)
	}
	begun := time.Now()
	r.mu.Lock()
	if r.closed {
		r.mu.Unlock()
		return nil, exchange.Errorf(exchange.Unavailable, "shutting_down", "the gate is shutting down")
	}
	e, ok := r.loaded[path]
	if ok && e.identity != identity {
		r.retire(e) // those who use it go on with the old files, which stay mapped
		r.tell("its files were replaced: it is loaded anew", path, nil)
		ok = false
	}
	if !ok {
		e = &entry{path: path, identity: identity, ready: make(chan struct{})}
		r.loaded[path], r.live[e] = e, true
		r.start(func() { r.fill(e) })
	}
	e.leases++
	r.mu.Unlock()
	l := &lease{entry: e, r: r}
	select {
	case <-e.ready:
		if !ok {
			l.load = time.Since(begun)
		}
	default:
		exchange.Report(ctx, "loading the model")
		select {
		case <-e.ready:
			l.load = time.Since(begun)
			exchange.Report(ctx, "")
		case <-ctx.Done():
			l.release()
			return nil, context.Cause(ctx)
		}
	}
	if e.err != nil {
		l.release()
		var known *exchange.Error
		if errors.As(e.err, &known) {
			return nil, known
		}
		return nil, unloadable(path, e.err)
	}
	return l, nil
}

// fill loads a model into its entry. Those who wait for it are let go whatever happens, a panic included.
func (r *Runner) fill(e *entry) {
	e.err = errors.New("loading did not come to its end")
	defer func() {
		if p := recover(); p != nil {
			e.err = fmt.Errorf("loading panicked: %v\n%s", p, debug.Stack())
		}
		if e.err != nil {
			r.mu.Lock()
			r.retire(e)
			r.mu.Unlock()
		}
		close(e.ready)
	}()
	if e.err = r.open(e); e.err == nil {
		if e.unfit != nil {
			r.tell("is loaded without the model that is to draft for it", e.path, e.unfit)
		}
		r.warm(e)
		r.restore(e)
		r.tell("loaded", e.path, nil)
	}
}

// mostOpenings is how often a model is opened whose files are replaced meanwhile.
const mostOpenings = 3

// open opens a model into its entry, such that the entry knows the state of the files that were opened.
func (r *Runner) open(e *entry) error {
	for n := 1; ; n++ {
		l, err := open(e.path, r.opts, r.drafter(e.path), func(n needs) error { return r.admit(e, n) })
		if err != nil {
			return err
		}
		identity, err := disk.Identity(e.path)
		r.mu.Lock()
		same := err == nil && identity == e.identity
		e.identity = identity
		r.mu.Unlock()
		if same {
			e.loadedModel = l
			return nil
		}
		if err := errors.Join(err, l.close()); err != nil {
			return err
		}
		if n == mostOpenings {
			return errors.New("its files are being replaced; try again when that is done")
		}
		r.tell("its files were replaced while it was loaded: it is opened anew", e.path, nil)
	}
}

// drafter opens the small model that is to guess tokens for the one at path; nil if there is none, or if it cannot be used,
// which is told.
func (r *Runner) drafter(path string) *draftModel {
	if r.opts.Drafter == nil {
		return nil
	}
	small, err := r.opts.Drafter(path)
	var d *draftModel
	if err == nil && small != "" {
		d, err = openDrafter(small)
	}
	if err != nil {
		r.tell("is loaded without the model that is to draft for it", path, err)
	}
	return d
}

// warm begins to read the files of an entry, and to check its prepared weights or to make them.
func (r *Runner) warm(e *entry) {
	files, err := disk.Files(e.path)
	if err != nil {
		files = nil // whoever needs them will see it
	}
	if e.prepared, err = r.opts.Prepared.Open(e.model, e.identity); err != nil {
		r.tell("is used as it is in its file until its weights are prepared anew", e.path, err)
	}
	if e.prepared != nil && e.prepared.All {
		files = nil // it is read by being checked
	}
	e.ahead = beginReading(files, func(took time.Duration) {
		if took > time.Second {
			r.tell("is in memory as a whole", e.path, nil)
		}
	})
	r.prepare(e)
}

// admit makes room for what an entry needs, by unloading idle models, the least recently used first. If there is not enough, the error has the
// figures.
func (r *Runner) admit(e *entry, n needs) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.used -= e.bytes // of an earlier opening
	e.bytes = 0
	if err := r.makeRoom(e, n.all(), func(used int64) error { return tooLarge(n, r.opts.Memory, used) }); err != nil {
		return err
	}
	e.bytes = n.all()
	r.used += e.bytes
	return nil
}

// makeRoom unloads models that nobody uses, except one, until so many bytes are free. If there are none left, it is what refuse makes of the bytes that are
// in use, or of 0 if there could never be room. The runner is locked.
func (r *Runner) makeRoom(except *entry, bytes int64, refuse func(used int64) error) error {
	if r.opts.Memory <= 0 {
		return nil
	}
	if bytes > r.opts.Memory {
		return refuse(0)
	}
	for r.used-r.leaving+bytes > r.opts.Memory {
		var oldest *entry
		for _, other := range r.loaded {
			if other.leases == 0 && !other.kept && other != except && other.done() && (oldest == nil || other.last.Before(oldest.last)) {
				oldest = other
			}
		}
		if oldest == nil {
			return refuse(r.used - r.leaving)
		}
		r.retire(oldest)
		r.tell("unloaded: its memory is needed", oldest.path, nil)
	}
	return nil
}

func (e *entry) done() bool {
	select {
	case <-e.ready:
		return true
	default:
		return false
	}
}

// tooLarge says that a model does not fit into the budget.
func tooLarge(n needs, budget, used int64) error {
	mb := func(bytes int64) string { return fmt.Sprintf("%.0f MB", float64(bytes)/1e6) }
	message := fmt.Sprintf("the model takes %s: %s for its weights, %s for contexts (models.context_memory) and %s to work with; ", mb(n.all()), mb(n.weights), mb(n.Contexts), mb(n.Working))
	if used > 0 {
		message += fmt.Sprintf("of the %s that are set aside for models (models.memory), models that are in use or kept loaded take %s: try again when they are done, or unload one", mb(budget), mb(used))
	} else {
		message += fmt.Sprintf("%s are set aside for models (models.memory)", mb(budget))
	}
	return &exchange.Error{Kind: exchange.Unavailable, Code: "runner_unavailable", Message: message, RetryAfter: 10 * time.Second}
}

func unloadable(path string, err error) error {
	return &exchange.Error{Kind: exchange.Unavailable, Code: "runner_unavailable",
		Message: fmt.Sprintf("the model's weights could not be loaded: %s", cause(path, err)), Err: err}
}

// cause leaves the path on the gate's disk out of what a client is told.
func cause(path string, err error) string {
	if p := (*os.PathError)(nil); errors.As(err, &p) {
		return p.Err.Error()
	}
	return strings.ReplaceAll(strings.TrimPrefix(err.Error(), path+": "), path, "the model")
}

// State is what the runner does with a model.
type State string

// The states.
const (
	Unloaded State = ""
	Loading  State = "loading"
	Loaded   State = "loaded"
)

// Status tells what the runner does with the model at path.
type Status struct {
	State   State
	Kept    bool  // whatever happens, until it is unloaded
	Leases  int   // requests that use it now
	Bytes   int64 // of its weights, and set aside for its contexts
	Context int64 // of these, set aside for contexts
	// ContextBusy is what contexts of answers take now, and ContextKept what is kept of those that have ended.
	ContextBusy, ContextKept int64
	Unread                   int64 // bytes of its files that are still being read into memory
	// Unprepared is how many bytes are still to be written of its weights in the order of this processor.
	Unprepared int64
}

// Status tells what the runner does with the model at path.
func (r *Runner) Status(path string) Status {
	r.mu.Lock()
	defer r.mu.Unlock()
	e := r.loaded[path]
	if e == nil {
		return Status{}
	}
	s := Status{State: Loading, Kept: e.kept, Leases: e.leases, Bytes: e.bytes}
	if e.done() && e.err == nil {
		s.State, s.Unread, s.Unprepared = Loaded, e.ahead.left(), e.preparing.left()
		if e.engine != nil {
			use, page := e.engine.Pool().Use(), e.engine.Pool().PageBytes()
			s.Context, s.ContextBusy, s.ContextKept = int64(use.Limit)*page, int64(use.Busy)*page, int64(use.Kept)*page
		}
	}
	return s
}

// Load loads the model at path if it is not, and keeps it if keep is true, however long nobody uses it. Its weights are
// prepared without regard to who uses it meanwhile.
func (r *Runner) Load(ctx context.Context, path string, keep bool) error {
	l, err := r.get(ctx, path)
	if err != nil {
		return err
	}
	if l.preparing != nil {
		l.preparing.hurry()
	}
	r.mu.Lock()
	l.kept = l.kept || keep
	r.mu.Unlock()
	l.release()
	return nil
}

// Unload gives the memory of the model at path back. Answers under way come to their end first. It reports whether the
// model was loaded.
func (r *Runner) Unload(path string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	e := r.loaded[path]
	if e == nil || !e.done() {
		return false
	}
	r.retire(e)
	return true
}

// Render lays out a request as the model at path would get it.
func (r *Runner) Render(ctx context.Context, path string, req *exchange.Request) (*prompt.Prompt, error) {
	l, err := r.get(ctx, path)
	if err != nil {
		return nil, err
	}
	defer l.release()
	if req.Truncate {
		p, _, _, err := l.fit(ctx, req)
		return p, err
	}
	if req, err = l.seeing(ctx, req); err != nil {
		return nil, err
	}
	p, _, err := l.render(req)
	return p, err
}

// CheckTemplate reports what is wrong with a template for the model at path: it must parse, and lay out a question.
func (r *Runner) CheckTemplate(ctx context.Context, path, source string) error {
	l, err := r.get(ctx, path)
	if err != nil {
		return err
	}
	defer l.release()
	t, err := prompt.New(source, l.tok)
	if err != nil {
		return err
	}
	const probe = "the words of a question"
	p, err := t.Render(prompt.Conversation{Turns: []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text(probe)}}}})
	if err == nil && !strings.Contains(p.Text, probe) {
		err = errors.New("what a user says does not appear in its prompt")
	}
	return err
}

// RenderRaw gives a raw prompt as the model at path would get it.
func (r *Runner) RenderRaw(ctx context.Context, path, text string) (*prompt.Prompt, error) {
	l, err := r.get(ctx, path)
	if err != nil {
		return nil, err
	}
	defer l.release()
	return prompt.Raw(l.tok, text)
}

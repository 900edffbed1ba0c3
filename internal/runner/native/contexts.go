package native

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"slices"
	"sync"
	"time"

	"kindredgate/internal/cache"
	"kindredgate/internal/kv"
	"kindredgate/internal/system"
)

// contexts keeps what a model's contexts have in common on disk, so that it need not be read again after a restart or when the model was unloaded.
type contexts struct {
	folder cache.Folder
	name   string // of the file
	pool   *kv.Pool
	tell   func(what string, err error)

	mu    sync.Mutex
	timer *time.Timer

	saving sync.Mutex
	saved  int // what the pool had shared when it was written last
}

// restPeriod is for how long nobody must have used a model before its contexts are written.
const restPeriod = 5 * time.Second

// restore takes what was kept of the contexts of an entry that is loaded.
func (r *Runner) restore(e *entry) {
	if r.opts.Contexts.Space <= 0 || e.engine == nil {
		return
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s%d", e.identity, r.opts.Engine.Contexts))
	c := &contexts{folder: r.opts.Contexts, name: hex.EncodeToString(sum[:16]), pool: e.engine.Pool(), tell: func(what string, err error) { r.tell(what, e.path, err) }}
	e.contexts = c
	c.saving.Lock()
	defer c.saving.Unlock()
	r.mu.Lock()
	r.contexts[c] = struct{}{}
	r.mu.Unlock()
	path := c.folder.File(c.name)
	f, err := system.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return
	}
	if err != nil {
		c.tell("is loaded without its saved prefixes", err)
		return
	}
	pages, err := c.pool.Restore(f)
	if err = errors.Join(err, f.Close()); err != nil {
		c.tell("is loaded without some of its saved prefixes: the file is removed", errors.Join(err, os.Remove(path)))
		return
	}
	c.folder.Used(path)
	c.tell(fmt.Sprintf("has %d cached prompt tokens restored", pages*kv.PageTokens), nil)
}

// soon has the contexts written when nobody has used the model for a while.
func (c *contexts) soon() {
	if c == nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.timer != nil {
		c.timer.Stop()
	}
	c.timer = time.AfterFunc(restPeriod, c.save)
}

// end writes them now, if there is anything new. Nobody uses the model any more.
func (c *contexts) end() {
	if c == nil {
		return
	}
	c.mu.Lock()
	if c.timer != nil {
		c.timer.Stop()
	}
	c.mu.Unlock()
	c.save()
}

// ForgetContexts removes what is on disk of the contexts of all models. Of those that are loaded, only what two requests have in common
// from now on is written again.
func (r *Runner) ForgetContexts() error {
	// First, so that a model that is loaded from now on finds none; and then for what was being written.
	err := r.opts.Contexts.Clear()
	r.mu.Lock()
	loaded := slices.Collect(maps.Keys(r.contexts))
	r.mu.Unlock()
	for _, c := range loaded {
		c.saving.Lock() // which who reads or writes a file has
		c.pool.Unshare()
		c.saved = 0
		c.saving.Unlock()
	}
	return errors.Join(err, r.opts.Contexts.Clear())
}

// save writes what contexts have in common, unless nothing has come to that since the last time.
func (c *contexts) save() {
	defer func() {
		if p := recover(); p != nil {
			c.tell("cannot save its cached prefixes", fmt.Errorf("it panicked: %v", p))
		}
	}()
	c.saving.Lock()
	defer c.saving.Unlock()
	shared := c.pool.Shared()
	if shared == c.saved {
		return
	}
	archive := c.pool.NewArchive(c.folder.Space)
	if archive.Pages() == 0 {
		return
	}
	if err := c.folder.Write(c.name, archive.Bytes, func(f *os.File) error { return archive.Write(f) }); err != nil {
		c.tell("cannot save its cached prefixes", err)
		return
	}
	c.saved = shared
}

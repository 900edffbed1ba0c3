package native

import (
	"container/list"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"kindredgate/internal/engine"
	"kindredgate/internal/exchange"
	"kindredgate/internal/model"
	"kindredgate/internal/picture"
	"kindredgate/internal/prompt"
	"kindredgate/internal/vision"
	"kindredgate/internal/weights"
	"kindredgate/internal/weights/disk"
)

// Pictures: headers are looked at when a prompt is laid out, which needs no more than sizes; pixels are decoded, and looked at by the model's tower, when
// the prompt is known to fit and nobody has looked at the same picture before.

// Bounds of pictures.
const (
	mostPictures  = 16       // in a request, of all turns
	mostFetched   = 16 << 20 // bytes of pictures that are fetched for a request, as long as one that brings them itself may be
	rowsKept      = 64 << 20 // bytes of rows that a model keeps of pictures it has seen
	lowTokens     = 256      // of a picture that is to be looked at roughly
	defaultTokens = 1280     // of one of which nothing else is said
)

// eyes are what a model sees with; nil for one that does not.
type eyes struct {
	tower      *model.Tower
	checkpoint *weights.Checkpoint                                       // of a projector in a file of its own; nil if the tower is in the model's
	memory     int64                                                     // bytes that decoding a picture may take
	tokens     int                                                       // that one becomes at the most, unless the request says otherwise
	fetch      func(ctx context.Context, address string) ([]byte, error) // nil where addresses are not taken

	mu    sync.Mutex
	rows  map[string]*list.Element // of keptRows, by what the picture is
	order list.List                // the least recently used first
	bytes int64
}

type keptRows struct {
	key string
	*model.Rows
}

func (e *eyes) close() error {
	if e == nil || e.checkpoint == nil {
		return nil
	}
	return e.checkpoint.Close()
}

// openEyes opens the tower of a model, in its folder or in a file beside it, if there is one that runs. One that does not is no reason to refuse the model,
// which the catalogue tells as one that takes no pictures.
func (l *loadedModel) openEyes(path string, o *Options) error {
	if l.model.Embeds() {
		return nil
	}
	e := &eyes{memory: o.PictureMemory, tokens: o.PictureTokens, fetch: o.FetchPicture}
	if e.memory <= 0 {
		e.memory = picture.DefaultMemory
	}
	if e.tokens <= 0 {
		e.tokens = defaultTokens
	}
	of := l.checkpoint
	if of.Layout == "GGUF" {
		file, err := disk.Projector(path)
		if err != nil || file == "" {
			return nil
		}
		if e.checkpoint, err = disk.Open(file); err != nil {
			return err
		}
		of = e.checkpoint
	}
	tower, err := model.LoadTower(of, l.model.Dim)
	if err != nil || len(tower.Deep) != l.model.Deep {
		return e.close()
	}
	e.tower, l.eyes = tower, e
	return nil
}

// sight is how prompts are laid out with pictures; nil for a model that takes none.
func (l *loadedModel) sight() *prompt.Sight {
	if l.eyes == nil {
		return nil
	}
	return &prompt.Sight{Marks: l.eyes.tower.Rule.Marks, Plan: l.eyes.plan}
}

// plan is how a picture is read.
func (e *eyes) plan(image exchange.Image) (p vision.Plan, err error) {
	h := image.Seen
	if h == nil {
		if h, err = header(image, e.memory); err != nil {
			return p, err
		}
	}
	most := e.tokens
	switch image.Detail {
	case "low":
		most = min(most, lowTokens)
	case "original":
		most = 0
	}
	if p, err = e.tower.Rule.Plan(h.Width, h.Height, most); err != nil {
		return p, refused(image, "invalid_image", "%s cannot be read: %v", place(image), err)
	}
	return p, nil
}

// place is what a picture is called in errors.
func place(image exchange.Image) string {
	if image.At == "" {
		return "the picture"
	}
	return image.At
}

func refused(image exchange.Image, code, format string, args ...any) error {
	return &exchange.Error{Kind: exchange.Invalid, Code: code, Param: image.At, Message: fmt.Sprintf(format, args...)}
}

// content are the bytes of a picture.
func content(image exchange.Image) ([]byte, error) {
	if !isData(image.URL) {
		return nil, refused(image, "invalid_image", "%s is an address; models that run here take the picture itself, as data:image/png;base64,…, unless the operator lets them fetch some (models.picture_addresses)", place(image))
	}
	raw, err := picture.FromURL(image.URL)
	if err != nil {
		return nil, refused(image, "invalid_image", "%s: %v", place(image), err)
	}
	return raw, nil
}

// fetched puts a picture in the place of its address, if the operator lets the gate fetch some.
func (e *eyes) fetched(ctx context.Context, image *exchange.Image) error {
	if e.fetch == nil {
		return nil
	}
	exchange.Report(ctx, "fetching a picture")
	raw, err := e.fetch(ctx, image.URL)
	if err != nil {
		return refused(*image, "invalid_image", "%s cannot be fetched: %v", place(*image), err)
	}
	image.URL = "data:image/png;base64," + base64.StdEncoding.EncodeToString(raw) // what it is its bytes say
	return nil
}

func isData(url string) bool { return strings.EqualFold(url[:min(5, len(url))], "data:") }

// header looks at a picture.
func header(image exchange.Image, memory int64) (*picture.Header, error) {
	raw, err := content(image)
	if err != nil {
		return nil, err
	}
	h, err := picture.Look(raw, memory)
	return h, unseen(image, err)
}

// unseen puts into words why a picture cannot be read.
func unseen(image exchange.Image, err error) error {
	if e := (*picture.Error)(nil); errors.As(err, &e) {
		code := "invalid_image"
		if e.Large {
			code = "image_too_large"
		}
		return refused(image, code, "%s cannot be read: %v", place(image), e)
	}
	return err
}

// seeing is a request whose pictures have been looked at, so that laying it out several times does not. Models that take none refuse the first one.
func (l *loadedModel) seeing(ctx context.Context, req *exchange.Request) (*exchange.Request, error) {
	count, bytes := 0, 0
	out := *req
	out.Turns = nil
	for _, turn := range req.Turns {
		cloned := false
		for j, p := range turn.Parts {
			image, ok := p.(exchange.Image)
			if !ok {
				continue
			}
			if count++; l.eyes == nil {
				return nil, image.Untaken()
			}
			if count > mostPictures {
				return nil, refused(image, "too_many_images", "%s is picture %d; a request may have %d, in all of its turns together", place(image), count, mostPictures)
			}
			if !isData(image.URL) {
				if err := l.eyes.fetched(ctx, &image); err != nil {
					return nil, err
				}
				if bytes += len(image.URL); bytes > mostFetched {
					return nil, refused(image, "image_too_large", "%s: the pictures that were fetched for the request have more than %d MiB together", place(image), mostFetched>>20)
				}
			}
			if image.Seen == nil {
				h, err := header(image, l.eyes.memory)
				if err != nil {
					return nil, err
				}
				image.Seen = h
			}
			if !cloned {
				turn.Parts, cloned = append([]exchange.Part(nil), turn.Parts...), true
			}
			turn.Parts[j] = image
		}
		out.Turns = append(out.Turns, turn)
	}
	if count == 0 {
		return req, nil
	}
	return &out, nil
}

// take gives rows that are kept.
func (e *eyes) take(key string) *model.Rows {
	e.mu.Lock()
	defer e.mu.Unlock()
	if at, ok := e.rows[key]; ok {
		e.order.MoveToBack(at)
		return at.Value.(keptRows).Rows
	}
	return nil
}

// keep keeps rows, and forgets others that were not used for longest.
func (e *eyes) keep(key string, rows *model.Rows) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.rows == nil {
		e.rows = map[string]*list.Element{}
	}
	if _, ok := e.rows[key]; ok || rows.Bytes() > rowsKept {
		return
	}
	for e.bytes += rows.Bytes(); e.bytes > rowsKept; {
		oldest := e.order.Front()
		gone := oldest.Value.(keptRows)
		e.bytes -= gone.Bytes()
		delete(e.rows, gone.key)
		e.order.Remove(oldest)
	}
	e.rows[key] = e.order.PushBack(keptRows{key, rows})
}

// see has the pictures of a prompt looked at, and gives a job their rows.
func (l *lease) see(ctx context.Context, laid *prompt.Prompt, job *engine.Job) error {
	for i := range laid.Pictures {
		p := &laid.Pictures[i]
		key := fmt.Sprintf("%x %d×%d", p.Image.Seen.Sum, p.Plan.ReadWidth, p.Plan.ReadHeight)
		rows := l.eyes.take(key)
		if rows == nil {
			var err error
			if rows, err = l.lookAt(ctx, p, key, fmt.Sprintf("looking at picture %d of %d", i+1, len(laid.Pictures))); err != nil {
				return err
			}
		}
		id := l.engine.Number(key)
		for _, piece := range p.Pieces {
			job.Pictures = append(job.Pictures, model.Piece{At: piece.At, First: piece.First, N: piece.N, Begin: p.Pieces[0].At, Saved: job.Saved, Rows: rows})
			for at := piece.At; at < piece.At+piece.N; at++ {
				job.Prompt[at] = id
			}
		}
		job.Saved += l.eyes.tower.Rule.Saved(p.Plan)
	}
	return nil
}

// lookAt decodes a picture and has the tower look at it. One is looked at at a time, whoever asks.
func (l *lease) lookAt(ctx context.Context, p *prompt.Picture, key, doing string) (rows *model.Rows, err error) {
	exchange.Report(ctx, "waiting to look at a picture")
	select {
	case l.r.looking <- struct{}{}:
		defer func() { <-l.r.looking }()
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
	if rows := l.eyes.take(key); rows != nil { // somebody has looked at it meanwhile
		return rows, nil
	}
	if err := l.r.borrow(p.Image.Seen.Memory + l.eyes.tower.WorkBytes(p.Plan)); err != nil {
		return nil, err
	}
	defer l.r.giveBack(p.Image.Seen.Memory + l.eyes.tower.WorkBytes(p.Plan))
	exchange.Report(ctx, doing)
	raw, err := content(p.Image)
	if err != nil {
		return nil, err
	}
	pixels, err := picture.Decode(ctx, raw, p.Image.Seen)
	if err != nil {
		return nil, unseen(p.Image, err)
	}
	seen, err := l.eyes.tower.Rule.Prepare(ctx, pixels, p.Plan)
	if err != nil {
		return nil, err
	}
	told := time.Now()
	err = weights.Guarded(func() (err error) {
		rows, err = l.eyes.tower.See(ctx, l.r.team, seen, p.Plan, func(share float64) {
			if time.Since(told) > time.Second/4 {
				told = time.Now()
				exchange.Report(ctx, fmt.Sprintf("%s: %.0f %%", doing, 100*share))
			}
		})
		return err
	})
	if err != nil {
		return nil, err
	}
	l.eyes.keep(key, rows)
	return rows, nil
}

// borrow sets memory aside for a while, for which idle models are unloaded if need be.
func (r *Runner) borrow(bytes int64) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.makeRoom(nil, bytes, func(used int64) error {
		return &exchange.Error{Kind: exchange.Unavailable, Code: "runner_unavailable", RetryAfter: 10 * time.Second,
			Message: fmt.Sprintf("looking at the picture takes %d MB, and of the %d MB that are set aside for models (models.memory) %d MB are in use", bytes/1e6, r.opts.Memory/1e6, used/1e6)}
	}); err != nil {
		return err
	}
	r.used += bytes
	return nil
}

func (r *Runner) giveBack(bytes int64) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.used -= bytes
}

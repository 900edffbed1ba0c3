package remote

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"mime"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kindredgate/internal/exchange"
)

// decoder makes events of what one answer is written in.
type decoder interface {
	// piece takes one piece of a stream, which is valid until it returns. It reports whether the stream has ended with it.
	piece(data []byte, emit emitter) (last bool, err error)
	// flush gives out what was gathered of pieces that came together.
	flush(emit emitter) error
	// whole takes an answer that came in one.
	whole(data []byte, emit emitter) error
	// end is called when no more comes; said is whether the stream itself said that it has ended.
	end(said bool, emit emitter) error
}

// emitter takes an event, and reports whether anybody wants more.
type emitter func(exchange.Event) bool

// call is a request that can be sent, any number of times.
type call struct {
	path   string
	body   []byte
	req    *exchange.Request
	lines  bool // the stream is a JSON value on each line; else it is of server-sent events
	decode func() decoder
}

// readers are shared, since each answer needs one for a short while.
var readers = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, 16<<10) }}

// watchdog ends a request whose answer does not come, or does not go on.
type watchdog struct {
	timer   *time.Timer
	silence time.Duration
	begun   atomic.Bool
}

func watch(first, silence time.Duration, cancel context.CancelCauseFunc) *watchdog {
	w := &watchdog{silence: silence}
	w.timer = time.AfterFunc(first, func() {
		if w.begun.Load() {
			cancel(errSilent)
		} else {
			cancel(errFirst)
		}
	})
	return w
}

// heard is told that something whole came. Before the answer begins it changes nothing, since a server that shows that it is there need not
// ever begin.
func (w *watchdog) heard() {
	if w.begun.Load() {
		w.timer.Reset(w.silence)
	}
}

// attempt sends a call and reads the answer.
func (m *Machine) attempt(c call) attempt {
	return func(ctx context.Context, yield func(exchange.Event) bool) error {
		ctx, cancel := context.WithCancelCause(ctx)
		defer cancel(nil)
		dog := watch(m.set.FirstToken, m.set.Silence, cancel)
		defer dog.timer.Stop()
		resp, err := m.send(ctx, http.MethodPost, c.path, c.body, c.req)
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		if isPage(resp.Header) {
			return broken("it is a web page; look at the address, which mostly ends in /v1")
		}
		left := false
		emit := func(e exchange.Event) bool {
			if s, ok := e.(exchange.Started); ok {
				dog.begun.Store(true)
				dog.heard()
				s.Timings = timingsOf(resp.Header.Get("Server-Timing"))
				e = s
			}
			if !left && !yield(e) {
				left = true
				cancel(errLeft) // which ends what waits for more
			}
			return !left
		}
		r := readers.Get().(*bufio.Reader)
		r.Reset(&bounded{r: resp.Body, left: m.set.LongestAnswer, dog: dog})
		defer func() {
			r.Reset(nil)
			readers.Put(r)
		}()
		d := c.decode()
		if kind, _, _ := mime.ParseMediaType(resp.Header.Get("Content-Type")); kind == "application/json" && !c.lines {
			var raw []byte
			if raw, err = io.ReadAll(r); err == nil {
				err = d.whole(raw, emit)
			}
		} else {
			err = follow(r, c.lines, d, emit, dog)
		}
		switch cause := context.Cause(ctx); {
		case left:
			return errLeft
		case err != nil && cause != nil:
			return cause
		}
		return err
	}
}

// done is what a stream of the protocol ends with.
const done = "[DONE]"

// follow reads a stream to its end.
func follow(r *bufio.Reader, lines bool, d decoder, emit emitter, dog *watchdog) error {
	p := pieces{r: r, lines: lines}
	for {
		if r.Buffered() == 0 {
			if err := d.flush(emit); err != nil {
				return err
			}
		}
		data, err := p.next()
		if errors.Is(err, io.EOF) {
			return errors.Join(d.flush(emit), d.end(false, emit))
		} else if err != nil {
			return errors.Join(d.flush(emit), err)
		}
		dog.heard()
		if len(data) == 0 {
			continue // a comment, by which the server shows that it is there
		}
		last := string(data) == done
		if !last {
			if last, err = d.piece(data, emit); err != nil {
				return err
			}
		}
		if last {
			if err := errors.Join(d.flush(emit), d.end(true, emit)); err != nil {
				return err
			}
			// What may still come is nothing, but has to be read for the connection to be used again.
			_, _ = io.CopyN(io.Discard, r, 1<<10)
			return nil
		}
	}
}

// pieces reads a stream piece by piece.
type pieces struct {
	r     *bufio.Reader
	lines bool
	data  []byte
}

// longPiece is how long one piece may be, in bytes.
const longPiece = 4 << 20

// next gives the data of the next event (HTML standard, section 9.2.6), or the next line; nothing for a comment or an event without data. It
// is valid until next is called again. What is not whole when the stream ends is left out.
func (p *pieces) next() ([]byte, error) {
	p.data = p.data[:0]
	several := false
	for {
		line, err := p.line()
		if err != nil {
			return nil, err
		}
		switch {
		case p.lines:
			return line, nil
		case len(line) == 0:
			return p.data, nil
		case line[0] == ':' && len(p.data) == 0 && !several:
			return nil, nil
		}
		value, ok := bytes.CutPrefix(line, []byte("data:"))
		if !ok {
			continue // event:, id:, retry: and comments tell nothing that the data does not
		}
		if several {
			p.data = append(p.data, '\n')
		}
		several = true
		p.data = append(p.data, bytes.TrimPrefix(value, []byte(" "))...)
		if len(p.data) > longPiece {
			return nil, broken("a piece of the stream is longer than %d bytes", longPiece)
		}
	}
}

// line reads a line without its end.
func (p *pieces) line() ([]byte, error) {
	line, err := p.r.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		long := bytes.Clone(line)
		for errors.Is(err, bufio.ErrBufferFull) {
			if line, err = p.r.ReadSlice('\n'); len(long)+len(line) > longPiece {
				return nil, broken("a line of the stream is longer than %d bytes", longPiece)
			}
			long = append(long, line...)
		}
		line = long
	}
	if err != nil {
		return nil, err
	}
	return bytes.TrimSuffix(line[:len(line)-1], []byte("\r")), nil
}

// bounded is an answer, of which no more is read than is allowed.
type bounded struct {
	r    io.Reader
	left int64
	last time.Time     // when something was read
	gap  time.Duration // between that and what was read before
	dog  *watchdog     // knows whether the answer has begun; nil for what is no stream
}

// gather is how long after something was read the next is left to gather, in a burst. Tokens that come one by one are further apart and wait for nothing;
// of what comes in a burst many are read, and passed on, at once, which spares most of the work.
const gather = 2 * time.Millisecond

func (b *bounded) Read(p []byte) (int, error) {
	if b.left <= 0 {
		return 0, broken("it goes on beyond what an answer may have (longest_answer)")
	}
	if since := time.Since(b.last); since < gather && b.gap < 2*gather && b.dog != nil && b.dog.begun.Load() {
		time.Sleep(gather - since)
	}
	n, err := b.r.Read(p[:min(int64(len(p)), b.left)])
	now := time.Now()
	b.left, b.last, b.gap = b.left-int64(n), now, now.Sub(b.last)
	return n, err
}

// timingsOf reads what a gate says of how its answer began (W3C Server Timing), which others may say too.
func timingsOf(header string) (t exchange.Timings) {
	for metric := range strings.SplitSeq(header, ",") {
		name, rest, _ := strings.Cut(strings.TrimSpace(metric), ";")
		rest, _, _ = strings.Cut(rest, ";")
		value, ok := strings.CutPrefix(strings.TrimSpace(rest), "dur=")
		ms, err := strconv.ParseFloat(value, 64)
		if !ok || err != nil || ms < 0 || ms > float64(time.Hour.Milliseconds()) {
			continue
		}
		took := time.Duration(ms * float64(time.Millisecond))
		switch name {
		case "queue":
			t.Queue = took
		case "load":
			t.Load = took
		case "look":
			t.Look = took
		case "prefill":
			t.Prefill = took
		}
	}
	return t
}

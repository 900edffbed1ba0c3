package server

import (
	"encoding/json"
	"fmt"
	"iter"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
)

// sse writes server-sent events (WHATWG HTML, section 9.2). Each event is flushed as it is written: a client
// waits for it. After a failed write the rest is dropped; the client has gone.
type sse struct {
	w   gin.ResponseWriter
	err error
}

// open sends the head of the stream.
func (e *sse) open() {
	h := e.w.Header()
	h.Set("Content-Type", "text/event-stream; charset=utf-8")
	h.Set("Cache-Control", "no-cache")
	h.Set("X-Accel-Buffering", "no") // asks a proxy in between to pass events on at once
	e.w.WriteHeader(http.StatusOK)
	e.w.Flush()
}

func (e *sse) write(format string, args ...any) {
	if e.err != nil {
		return
	}
	if _, e.err = fmt.Fprintf(e.w, format, args...); e.err == nil {
		e.w.Flush()
	}
}

// data writes an event that holds v as JSON.
func (e *sse) data(v any) {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err) // the wire types can always be marshalled
	}
	e.write("data: %s\n\n", raw)
}

// comment writes a line that clients ignore.
func (e *sse) comment(text string) { e.write(": %s\n\n", text) }

// stream writes what items gives as events, and done as the last. An error before anything was sent is an
// ordinary error answer; after that it is an event of its own, and the last. While items is silent, a comment
// goes out now and then, so that no client or tunnel takes the silence for the end.
//
// items is pulled in a goroutine, since it may be silent for long; the goroutine ends before stream returns.
// That items ends when the request's context does is up to items.
func stream[T any](s *Server, c *gin.Context, items iter.Seq2[T, error], timings *exchange.Timings, done string) {
	type item struct {
		value T
		err   error
	}
	pulled := make(chan item)
	left := make(chan struct{})
	ended := make(chan struct{})
	give := func(it item) bool {
		select {
		case pulled <- it:
			return true
		case <-left:
			return false
		}
	}
	go func() {
		defer close(ended)
		defer close(pulled)
		defer func() {
			if p := recover(); p != nil {
				give(item{err: panicked(p)})
			}
		}()
		for v, err := range items {
			if !give(item{v, err}) {
				return
			}
		}
	}()
	defer func() {
		close(left)
		<-ended
	}()

	out := &sse{w: c.Writer}
	opened := false
	silence := time.NewTimer(s.Silence)
	defer silence.Stop()
	for out.err == nil {
		select {
		case it, ok := <-pulled:
			switch {
			case !ok:
				out.comment(serverTiming(*timings))
				out.write("data: %s\n\n", done)
				return
			case it.err != nil && !opened:
				fail(c, it.err)
				return
			case it.err != nil:
				_ = c.Error(it.err)
				out.data(envelopeOf(toError(it.err)))
				return
			}
			if !opened {
				opened = true
				c.Header("Server-Timing", serverTiming(*timings))
				out.open()
			}
			out.data(it.value)
		case <-silence.C:
			if !opened {
				opened = true
				out.open()
			}
			out.comment("still working")
		}
		silence.Reset(s.Silence)
	}
}

// serverTiming writes timings as a Server-Timing header has them, in milliseconds.
func serverTiming(t exchange.Timings) string {
	ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
	return fmt.Sprintf("queue;dur=%.3f, load;dur=%.3f, prefill;dur=%.3f", ms(t.Queue), ms(t.Load), ms(t.Prefill))
}

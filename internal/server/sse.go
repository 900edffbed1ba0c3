package server

import (
	"cmp"
	"encoding/json"
	"fmt"
	"iter"
	"net/http"
	"runtime"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/dialect/chat"
	"kindredgate/internal/exchange"
)

// framing is how the items of a stream are written.
type framing[T any] struct {
	contentType string
	begin       string // what goes out before there is an item; if it is empty nothing does, so that an error can be an answer of its own
	item        func(T) string
	failure     func(envelope) string           // an error in the middle, which is the last item
	alive       func(waits string) string       // what shows that the stream lives, while nothing else comes; waits says what for, if that is known
	end         func(t exchange.Timings) string // after the last item
}

// events are server-sent events (WHATWG HTML, section 9.2). A comment with the timings and the word done come last.
func events[T any](item func(T) string, done string) framing[T] {
	return framing[T]{
		contentType: "text/event-stream; charset=utf-8",
		item:        item,
		failure:     func(e envelope) string { return data(e) },
		alive: func(waits string) string {
			return ": " + cmp.Or(waits, "still working") + "\n\n"
		},
		end: func(t exchange.Timings) string { return ": " + serverTiming(t) + "\n\ndata: " + done + "\n\n" },
	}
}

// data is an event that holds v as JSON.
func data(v any) string { return "data: " + encoded(v) + "\n\n" }

// chunkData is data, for most of what goes out.
func chunkData(c *chat.Chunk) string {
	b, err := c.AppendJSON(append(make([]byte, 0, 320), "data: "...))
	if err != nil {
		panic(err) // the wire types can always be marshalled
	}
	return string(append(b, "\n\n"...))
}

func encoded(v any) string {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err) // the wire types can always be marshalled
	}
	return string(raw)
}

// ahead is how many items may be there before they are written: a client that reads slowly holds up what answers beyond that.
const ahead = 64

// stream writes what items gives, and flushes whenever no more is there yet: a client waits for it. An error before anything was
// sent is returned, for an ordinary error answer; after that it is an item of its own, and the last. While items is silent, something
// goes out now and then, so that no client or tunnel takes the silence for the end. After a failed write the rest is
// dropped; the client has gone.
//
// items is pulled in a goroutine, since it may be silent for long; the goroutine ends before stream returns.
// That items ends when the request's context does is up to items.
func stream[T any](s *Server, c *gin.Context, items iter.Seq2[T, error], started *exchange.Started, f framing[T]) error {
	type item struct {
		value T
		err   error
	}
	pulled := make(chan item, ahead)
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
				give(item{err: exchange.Panicked(p)})
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

	opened := false
	open := func() {
		if opened {
			return
		}
		opened = true
		h := c.Writer.Header()
		h.Set("Content-Type", f.contentType)
		h.Set("Cache-Control", "no-cache")
		h.Set("X-Accel-Buffering", "no") // asks a proxy in between to pass items on at once
		c.Writer.WriteHeader(http.StatusOK)
	}
	write := func(text string) error {
		open()
		_, err := c.Writer.WriteString(text)
		if len(pulled) == 0 {
			// What is about to come, since it lies in a buffer already, goes out together with this.
			runtime.Gosched()
		}
		if err == nil && len(pulled) == 0 {
			c.Writer.Flush()
		}
		return err
	}
	if f.begin != "" {
		if write(f.begin) != nil {
			return nil
		}
	}
	pause := s.silenceFor(c)
	silence := time.NewTimer(pause)
	defer silence.Stop()
	for gone := error(nil); gone == nil; {
		select {
		case it, ok := <-pulled:
			switch {
			case !ok:
				_ = write(f.end(started.Timings)) // nothing follows, whether the client is there or not
				return nil
			case it.err != nil && !opened:
				return it.err
			case it.err != nil:
				_ = c.Error(it.err)
				_ = write(f.failure(envelopeOf(toError(it.err))))
				return nil
			}
			if !opened {
				head(c, *started)
			}
			gone = write(f.item(it.value))
		case <-silence.C:
			gone = write(f.alive(progressOf(c)))
		}
		silence.Reset(pause)
	}
	return nil
}

// silenceHeader is how a client asks to be told oftener what it waits for: a number of seconds.
const silenceHeader = "Kindred-Silence"

// silenceFor is how long a stream may be silent.
func (s *Server) silenceFor(c *gin.Context) time.Duration {
	asked, err := strconv.ParseFloat(c.GetHeader(silenceHeader), 64)
	if err != nil || asked <= 0 {
		return s.Silence
	}
	return min(s.Silence, max(200*time.Millisecond, time.Duration(asked*float64(time.Second))))
}

// serverTiming writes timings as a Server-Timing header has them, in milliseconds.
func serverTiming(t exchange.Timings) string {
	ms := func(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }
	queue := fmt.Sprintf("queue;dur=%.3f", ms(t.Queue))
	if t.Place > 0 {
		queue += fmt.Sprintf(`;desc="place %d"`, t.Place)
	}
	if t.Look > 0 {
		queue += fmt.Sprintf(", look;dur=%.3f", ms(t.Look))
	}
	return fmt.Sprintf("%s, load;dur=%.3f, prefill;dur=%.3f", queue, ms(t.Load), ms(t.Prefill))
}

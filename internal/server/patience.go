package server

import (
	"errors"
	"io"
	"net/http"
	"os"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
)

// patient gives up on clients that stall: whose body stops to come, or who stop to take the answer. What has been read of a
// body, and an answer under way, would be held for as long as they like. There is no limit for how long a whole request may
// take, since models are slow.
func (s *Server) patient(c *gin.Context) {
	control := http.NewResponseController(c.Writer)
	c.Request.Body = &pacedBody{ReadCloser: c.Request.Body, control: control, patience: s.Patience}
	c.Writer = &pacedWriter{ResponseWriter: c.Writer, control: control, patience: s.Patience}
	c.Next()
}

// pacedBody is a body each part of which has to come in time.
type pacedBody struct {
	io.ReadCloser
	control  *http.ResponseController
	patience time.Duration
	begun    time.Time
	came     int64
}

// slowest is how many bytes a second a body has to come with, once it has come for twice as long as it may stall: a byte now and then would keep it for
// ever.
const slowest = 4 << 10

func (b *pacedBody) Read(p []byte) (n int, err error) {
	// Where there is no connection to set a deadline for, as in tests of handlers, nothing can stall.
	now := time.Now()
	if b.begun.IsZero() {
		b.begun = now
	}
	deadline, late := now.Add(b.patience), b.begun.Add(2*b.patience+time.Duration(b.came/slowest)*time.Second)
	slow := late.Before(deadline)
	if slow {
		deadline = late
	}
	_ = b.control.SetReadDeadline(deadline)
	n, err = b.ReadCloser.Read(p)
	b.came += int64(n)
	if err == io.EOF {
		// Later reads only look whether the client is still there. After an error they fail too, so that the server does not
		// wait for the rest of the body before it answers.
		_ = b.control.SetReadDeadline(time.Time{})
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = exchange.Errorf(exchange.Invalid, "body_incomplete", "the body stopped to come: nothing of it arrived for %s", b.patience)
		if slow {
			err = exchange.Errorf(exchange.Invalid, "body_incomplete", "the body comes too slowly: %d bytes in %s; after %s it has to have come with %d bytes a second", b.came, time.Since(b.begun).Round(time.Second), 2*b.patience, slowest)
		}
	}
	return n, err
}

// pacedWriter is an answer each part of which has to be taken in time.
type pacedWriter struct {
	gin.ResponseWriter
	control  *http.ResponseController
	patience time.Duration
	begun    time.Time // when the deadline was set last
}

// Unwrap is for http.ResponseController.
func (w *pacedWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// begin sets the deadline anew. One that was set a moment ago will do: streams of small pieces would spend more on deadlines than on writing.
func (w *pacedWriter) begin() {
	now := time.Now()
	if now.Sub(w.begun) < w.patience/100 {
		return
	}
	w.begun = now
	_ = w.control.SetWriteDeadline(now.Add(w.patience))
}

// pieceBytes is how much of an answer has to be taken at a time: who takes a long one slowly does not stall.
const pieceBytes = 16 << 10

// Write writes a part, piece by piece.
func (w *pacedWriter) Write(p []byte) (done int, err error) {
	for {
		n := min(len(p)-done, pieceBytes)
		w.begin()
		n, err = w.ResponseWriter.Write(p[done : done+n])
		if done += n; err != nil || done == len(p) {
			return done, err
		}
	}
}

// WriteString writes a part.
func (w *pacedWriter) WriteString(text string) (int, error) { return w.Write([]byte(text)) }

// Flush sends what was written.
func (w *pacedWriter) Flush() {
	w.begin()
	w.ResponseWriter.Flush()
}

package remote

import (
	"context"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"

	"kindredgate/internal/exchange"
)

// Passed is a request that goes to a machine as it is.
type Passed struct {
	Path        string // below the URL
	ContentType string
	Body        []byte
	Accept      string
	Via         []string
	Trace       string
}

// passedHeaders are those of an answer that come through.
var passedHeaders = []string{"Content-Type", "Content-Disposition"}

// Pass sends a request as it is. begin is told the header of the answer before its body comes, which is bounded as answers are; write takes
// that piece by piece.
func (m *Machine) Pass(ctx context.Context, p Passed, begin func(http.Header), write func([]byte) error) error {
	m.count(+1)
	defer m.count(-1)
	err := m.tries(ctx, p.Path, func(ctx context.Context, yield func(exchange.Event) bool) error {
		ctx, cancel := context.WithCancelCause(ctx)
		defer cancel(nil)
		dog := watch(m.set.FirstToken, m.set.Silence, cancel)
		defer dog.timer.Stop()
		req := &exchange.Request{Via: p.Via, Trace: p.Trace}
		resp, err := m.sendAs(ctx, http.MethodPost, p.Path, p.Body, req, p.ContentType, p.Accept)
		if err != nil {
			if cause := context.Cause(ctx); cause != nil {
				return cause
			}
			return err
		}
		defer resp.Body.Close()
		dog.begun.Store(true)
		dog.heard()
		yield(exchange.Started{}) // from here on it is not sent again
		h := http.Header{}
		for _, name := range passedHeaders {
			if v := resp.Header.Get(name); v != "" {
				h.Set(name, v)
			}
		}
		begin(h)
		from := &bounded{r: resp.Body, left: m.set.LongestAnswer}
		buf := make([]byte, 16<<10)
		for {
			n, err := from.Read(buf)
			if n > 0 {
				dog.heard()
				if err := write(buf[:n]); err != nil {
					return context.Canceled // the client has gone
				}
			}
			if errors.Is(err, io.EOF) {
				return nil
			} else if err != nil {
				if cause := context.Cause(ctx); cause != nil {
					return cause
				}
				return err
			}
		}
	}, func(exchange.Event) bool { return true })
	return m.inWords(err)
}

// passTypes are the media types of bodies that are passed on.
var passTypes = []string{"application/json", "multipart/form-data"}

// Passable reports whether a body of a media type is passed on.
func Passable(mediaType string) bool { return slices.Contains(passTypes, strings.ToLower(mediaType)) }

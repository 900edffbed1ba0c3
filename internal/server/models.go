package server

import (
	"errors"
	"io"
	"iter"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/catalog"
	"kindredgate/internal/dialect/chat"
	"kindredgate/internal/exchange"
	"kindredgate/internal/gate"
)

// wireModel is a model as the standard endpoint lists it. What follows owned_by is ours.
type wireModel struct {
	ID            string      `json:"id"`
	Object        string      `json:"object"`
	Created       int64       `json:"created"`
	OwnedBy       string      `json:"owned_by"`
	Use           catalog.Use `json:"use"`
	ContextLength int         `json:"context_length"`
	PresetOf      string      `json:"preset_of,omitempty"` // the model that a preset uses
}

func toWire(o gate.Offer) wireModel {
	m := o.Model
	w := wireModel{ID: o.Name, Object: "model", Created: m.Installed.Unix(), OwnedBy: "kindred-gate", Use: m.Use, ContextLength: m.ContextLength}
	if o.Name != m.ID {
		w.PresetOf = m.ID
	}
	return w
}

func (s *Server) listModels(c *gin.Context) {
	offers, err := s.Gate.Offers(c.Request.Context(), callerOf(c))
	if err != nil {
		// Some folder could not be read; what the others hold is an answer all the same.
		s.Log.Warn("models folder", "error", err.Error())
	}
	list := make([]wireModel, len(offers))
	for i, o := range offers {
		list[i] = toWire(o)
	}
	c.JSON(http.StatusOK, gin.H{"object": "list", "data": list})
}

func (s *Server) showModel(c *gin.Context) {
	o, err := s.Gate.Offer(c.Request.Context(), callerOf(c), c.Param("id"))
	if err != nil {
		fail(c, err)
		return
	}
	c.JSON(http.StatusOK, toWire(o))
}

// body reads a request's body, up to the limit.
func body(c *gin.Context) ([]byte, error) {
	raw, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, maxBody))
	var tooLarge *http.MaxBytesError
	if err != nil && !errors.As(err, &tooLarge) {
		return nil, exchange.Errorf(exchange.Invalid, "body_incomplete", "the body could not be read to its end: %v", err)
	}
	return raw, err
}

func (s *Server) chat(c *gin.Context) {
	raw, err := body(c)
	if err != nil {
		fail(c, err)
		return
	}
	call, err := chat.Decode(raw)
	if err != nil {
		fail(c, err)
		return
	}
	if len(call.Unknown) > 0 {
		s.Log.Warn("fields ignored", "id", c.GetString(idKey), "fields", call.Unknown)
	}
	var timings exchange.Timings
	events := noting(&timings, s.Gate.Answer(c.Request.Context(), callerOf(c), &call.Request))
	id, now := c.GetString(idKey), time.Now()
	if call.Stream {
		stream(s, c, chat.EncodeStream(id, now, call, events), &timings, "[DONE]")
		return
	}
	answer, err := chat.Encode(id, now, call, events)
	if err != nil {
		fail(c, err)
		return
	}
	c.Header("Server-Timing", serverTiming(timings))
	c.JSON(http.StatusOK, answer)
}

// noting passes events on and keeps their timings.
func noting(t *exchange.Timings, events iter.Seq2[exchange.Event, error]) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		for event, err := range events {
			if started, ok := event.(exchange.Started); ok {
				*t = started.Timings
			}
			if !yield(event, err) {
				return
			}
		}
	}
}

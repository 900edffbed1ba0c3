package server

import (
	"encoding/json"
	"net/http"
	"slices"
	"strconv"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/answers"
	"kindredgate/internal/dialect"
	"kindredgate/internal/dialect/response"
	"kindredgate/internal/exchange"
)

// semantic writes the events of responses: the line with the type, and the data that has it too.
func semantic() framing[response.Event] {
	f := events(func(e response.Event) string { return "event: " + e.Type + "\ndata: " + string(e.Data) + "\n\n" }, done)
	f.failure = func(e envelope) string {
		return "event: error\n" + data(gin.H{"type": "error", "code": e.Error.Code, "message": e.Error.Message, "param": e.Error.Param, "sequence_number": 0})
	}
	return f
}

func (s *Server) respond(c *gin.Context) (any, error) {
	call, err := decoded(c, response.Decode)
	if err != nil {
		return nil, err
	}
	s.unknown(c, call.Unknown)
	ctx := c.Request.Context()
	run, err := s.Answers.Begin(ctx, callerOf(c), origin(c, dialect.Response), call)
	if err != nil {
		return nil, naming("input", err)
	}
	var started exchange.Started
	events := func(yield func(response.Event, error) bool) {
		for e, err := range run.Events(ctx, -1) {
			if e.Sequence == 0 { // later it might be being written
				started = run.Started()
			}
			if !yield(e, naming("input", err)) {
				return
			}
		}
	}
	var body json.RawMessage
	switch {
	case call.Stream:
		return nil, stream(s, c, events, &started, semantic())
	case call.Background:
		body, err = run.Snapshot()
	default:
		if callerOf(c).KeepAlive {
			for range lively(s, c, &started, events) { //nolint:revive // what they say is in the whole, below
			}
		}
		body, err = run.Wait(ctx)
	}
	head(c, run.Started())
	return nil, sendRaw(c, body, naming("input", err))
}

// countInput tells how many tokens a request would have as its prompt.
func (s *Server) countInput(c *gin.Context) (any, error) {
	call, err := decoded(c, response.DecodeToCount)
	if err != nil {
		return nil, err
	}
	s.unknown(c, call.Unknown)
	ctx, k, from := c.Request.Context(), callerOf(c), origin(c, dialect.Response)
	if _, err := s.Answers.Complete(ctx, k, call); err != nil {
		return nil, naming("input", err)
	}
	tokens, err := s.Gate.CountTokens(ctx, k, from, &call.Request)
	if err != nil {
		return nil, naming("input", err)
	}
	return response.Count{Object: "response.input_tokens", Tokens: tokens}, nil
}

// compact makes a conversation shorter.
func (s *Server) compact(c *gin.Context) (any, error) {
	call, err := decoded(c, response.DecodeToCompact)
	if err != nil {
		return nil, err
	}
	s.unknown(c, call.Unknown)
	out, err := s.Answers.Compact(c.Request.Context(), callerOf(c), origin(c, dialect.Response), call)
	if err != nil {
		return nil, naming("input", err)
	}
	return out, nil
}

// sendRaw sends a body that is JSON already, unless there is an error.
func sendRaw(c *gin.Context, body json.RawMessage, err error) error {
	if err == nil {
		c.Data(http.StatusOK, "application/json; charset=utf-8", body)
	}
	return err
}

// query reads a whole number of the query between low and high; otherwise if it is not there.
func query(c *gin.Context, name string, otherwise, low, high int) (int, error) {
	text, ok := c.GetQuery(name)
	if !ok {
		return otherwise, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < low || n > high {
		return 0, exchange.InvalidParam(name, "%s is %q; it must be a whole number from %d to %d", name, text, low, high)
	}
	return n, nil
}

func (s *Server) showResponse(c *gin.Context) (any, error) {
	ctx, k, id := c.Request.Context(), callerOf(c), c.Param("id")
	streaming, err := strconv.ParseBool(c.DefaultQuery("stream", "false"))
	if err != nil {
		return nil, exchange.InvalidParam("stream", "stream is %q; it must be true or false", c.Query("stream"))
	}
	after, err := query(c, "starting_after", -1, -1, 1<<31-1)
	if err != nil {
		return nil, err
	}
	if streaming || after >= 0 { // which only a stream has
		list, err := s.Answers.Follow(ctx, k, id, after)
		if err != nil {
			return nil, err
		}
		return nil, stream(s, c, list, &exchange.Started{}, semantic())
	}
	body, err := s.Answers.Get(ctx, k, id)
	return nil, sendRaw(c, body, err)
}

func (s *Server) deleteResponse(c *gin.Context) (any, error) {
	id := c.Param("id")
	if err := s.Answers.Delete(c.Request.Context(), callerOf(c), id); err != nil {
		return nil, err
	}
	return gin.H{"id": id, "object": "response", "deleted": true}, nil
}

func (s *Server) cancelResponse(c *gin.Context) (any, error) {
	body, err := s.Answers.Cancel(c.Request.Context(), callerOf(c), c.Param("id"))
	return nil, sendRaw(c, body, err)
}

// listInput lists the items of a request, a page at a time, the newest first unless asked otherwise.
func (s *Server) listInput(c *gin.Context) (any, error) {
	limit, err := query(c, "limit", 20, 1, 100)
	order := c.DefaultQuery("order", "desc")
	if err == nil && order != "asc" && order != "desc" {
		err = exchange.InvalidParam("order", "order is %q; it must be asc or desc", order)
	}
	var items []answers.Item
	if err == nil {
		items, err = s.Answers.Input(c.Request.Context(), callerOf(c), c.Param("id"))
	}
	if err == nil && order == "desc" {
		slices.Reverse(items)
	}
	if after, ok := c.GetQuery("after"); err == nil && ok {
		at := slices.IndexFunc(items, func(i answers.Item) bool { return i.ID == after })
		if at < 0 {
			err = exchange.InvalidParam("after", "after is %q, which is none of the items", after)
		}
		items = items[at+1:]
	}
	if err != nil {
		return nil, err
	}
	page := items[:min(limit, len(items))]
	out := gin.H{"object": "list", "data": []json.RawMessage{}, "first_id": nil, "last_id": nil, "has_more": len(page) < len(items)}
	if len(page) > 0 {
		list := make([]json.RawMessage, len(page))
		for i, item := range page {
			list[i] = item.Body
		}
		out["data"], out["first_id"], out["last_id"] = list, page[0].ID, page[len(page)-1].ID
	}
	return out, nil
}

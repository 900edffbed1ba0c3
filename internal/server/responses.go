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
	"kindredgate/internal/prompt"
)

// semantic writes the events of responses: the line with the type, and the data that has it too.
func semantic() framing[response.Event] {
	f := events(func(e response.Event) string { return "event: " + e.Type + "\ndata: " + string(e.Data) + "\n\n" }, done)
	f.failure = func(e envelope) string {
		return "event: error\n" + data(gin.H{"type": "error", "code": e.Error.Code, "message": e.Error.Message, "param": e.Error.Param, "sequence_number": 0})
	}
	return f
}

func (s *Server) respond(c *gin.Context) {
	call, ok := decoded(c, response.Decode)
	if !ok {
		return
	}
	s.unknown(c, call.Unknown)
	ctx := c.Request.Context()
	run, err := s.Answers.Begin(ctx, callerOf(c), origin(c, dialect.Response), call)
	if err != nil {
		fail(c, naming("input", err))
		return
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
		stream(s, c, events, &started, semantic())
		return
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
	sendRaw(c, body, naming("input", err))
}

// countInput tells how many tokens a request would have as its prompt.
func (s *Server) countInput(c *gin.Context) {
	call, ok := decoded(c, response.DecodeToCount)
	if !ok {
		return
	}
	s.unknown(c, call.Unknown)
	ctx, k := c.Request.Context(), callerOf(c)
	_, err := s.Answers.Complete(ctx, k, call)
	var p *prompt.Prompt
	if err == nil {
		_, p, err = s.Gate.Render(ctx, k, &call.Request)
	}
	if err != nil {
		fail(c, naming("input", err))
		return
	}
	c.JSON(http.StatusOK, response.Count{Object: "response.input_tokens", Tokens: len(p.Tokens)})
}

// compact makes a conversation shorter.
func (s *Server) compact(c *gin.Context) {
	call, ok := decoded(c, response.DecodeToCompact)
	if !ok {
		return
	}
	s.unknown(c, call.Unknown)
	out, err := s.Answers.Compact(c.Request.Context(), callerOf(c), origin(c, dialect.Response), call)
	if err != nil {
		fail(c, naming("input", err))
		return
	}
	c.JSON(http.StatusOK, out)
}

// sendRaw sends a body that is JSON already, or the error in its place.
func sendRaw(c *gin.Context, body json.RawMessage, err error) {
	if err != nil {
		fail(c, err)
		return
	}
	c.Data(http.StatusOK, "application/json; charset=utf-8", body)
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

func (s *Server) showResponse(c *gin.Context) {
	ctx, k, id := c.Request.Context(), callerOf(c), c.Param("id")
	streaming, err := strconv.ParseBool(c.DefaultQuery("stream", "false"))
	if err != nil {
		fail(c, exchange.InvalidParam("stream", "stream is %q; it must be true or false", c.Query("stream")))
		return
	}
	after, err := query(c, "starting_after", -1, -1, 1<<31-1)
	switch {
	case err != nil:
		fail(c, err)
	case streaming:
		list, err := s.Answers.Follow(ctx, k, id, after)
		if err != nil {
			fail(c, err)
			return
		}
		stream(s, c, list, &exchange.Started{}, semantic())
	case after >= 0:
		fail(c, exchange.InvalidParam("starting_after", "starting_after goes with stream=true only"))
	default:
		body, err := s.Answers.Get(ctx, k, id)
		sendRaw(c, body, err)
	}
}

func (s *Server) deleteResponse(c *gin.Context) {
	id := c.Param("id")
	if err := s.Answers.Delete(c.Request.Context(), callerOf(c), id); err != nil {
		fail(c, err)
		return
	}
	c.JSON(http.StatusOK, gin.H{"id": id, "object": "response", "deleted": true})
}

func (s *Server) cancelResponse(c *gin.Context) {
	body, err := s.Answers.Cancel(c.Request.Context(), callerOf(c), c.Param("id"))
	sendRaw(c, body, err)
}

// listInput lists the items of a request, a page at a time, the newest first unless asked otherwise.
func (s *Server) listInput(c *gin.Context) {
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
		fail(c, err)
		return
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
	c.JSON(http.StatusOK, out)
}

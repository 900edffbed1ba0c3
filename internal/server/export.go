package server

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
)

// exportExchanges gives all exchanges that are asked for, in a form for other programs: JSON lines, or a table with commas (RFC 4180).
func (s *Server) exportExchanges(c *gin.Context) {
	f, err := filter(c)
	if err != nil {
		fail(c, err)
		return
	}
	var write func(kept.Exchange) error
	var flush func() error
	switch format := c.DefaultQuery("format", "jsonl"); format {
	case "jsonl":
		c.Header("Content-Type", jsonLines)
		lines := json.NewEncoder(c.Writer)
		write, flush = func(e kept.Exchange) error { return lines.Encode(e) }, func() error { return nil }
	case "csv":
		c.Header("Content-Type", "text/csv; charset=utf-8; header=present")
		w := csv.NewWriter(c.Writer)
		if err := w.Write(exportColumns); err != nil {
			return // the client has gone
		}
		write = func(e kept.Exchange) error { return w.Write(exportCells(e)) }
		flush = func() error {
			w.Flush()
			return w.Error()
		}
	default:
		fail(c, exchange.InvalidParam("format", "format is %q; it must be jsonl or csv", format))
		return
	}
	c.Header("Content-Disposition", `attachment; filename="exchanges.`+c.DefaultQuery("format", "jsonl")+`"`)
	for e, err := range s.Ledger.All(c.Request.Context(), f) {
		if err == nil {
			err = write(e)
		}
		if err != nil {
			// The status has gone out, so that the end is missing is all that can show it.
			_ = c.Error(err)
			panic(http.ErrAbortHandler)
		}
	}
	if err := flush(); err != nil {
		_ = c.Error(err)
	}
}

var exportColumns = []string{"id", "parent", "job", "step", "begun", "key", "label", "group", "client", "agent", "style", "endpoint", "model", "answered", "preset", "state", "finish_reason", "code", "error",
	"prompt_tokens", "cached_tokens", "completion_tokens", "reasoning_tokens", "tool_calls", "dropped_turns", "cost", "queue_ms", "load_ms", "prefill_ms", "first_token_ms", "took_ms"}

func exportCells(e kept.Exchange) []string {
	cells := []string{e.ID, e.Parent, e.Job, fmt.Sprint(e.Step), e.Begun.Format(time.RFC3339Nano), e.Key, e.Label, e.Group, e.Client, e.Agent, e.Style, e.Endpoint, e.Model, e.Answered, e.Preset,
		string(e.State), e.Reason, e.Code, e.Error}
	for i, cell := range cells {
		// Programs for tables take what begins so for a formula, and clients choose names.
		if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
			cells[i] = "'" + cell
		}
	}
	for _, n := range []int64{int64(e.PromptTokens), int64(e.CachedTokens), int64(e.CompletionTokens), int64(e.ReasoningTokens), int64(e.ToolCalls), int64(e.DroppedTurns), e.Cost} {
		cells = append(cells, fmt.Sprint(n))
	}
	for _, ms := range []float64{e.Queue, e.Load, e.Prefill, e.FirstToken, e.Took} {
		cells = append(cells, fmt.Sprint(ms))
	}
	return cells
}

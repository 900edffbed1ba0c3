package server

import (
	"encoding/csv"
	"encoding/json"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
	"kindredgate/internal/record"
)

// exportExchanges gives all exchanges that are asked for, in a form for other programs: JSON lines, or a table with commas (RFC 4180).
func (s *Server) exportExchanges(c *gin.Context) (any, error) {
	f, err := record.ParseFilter(c.Request.URL.Query())
	if err != nil {
		return nil, err
	}
	var write func(record.Record) error
	var flush func() error
	switch format := c.DefaultQuery("format", "jsonl"); format {
	case "jsonl":
		c.Header("Content-Type", jsonLines)
		lines := json.NewEncoder(c.Writer)
		write, flush = func(e record.Record) error { return lines.Encode(e) }, func() error { return nil }
	case "csv":
		c.Header("Content-Type", "text/csv; charset=utf-8; header=present")
		w := csv.NewWriter(c.Writer)
		if err := w.Write(exportHead()); err != nil {
			return nil, nil // the client has gone
		}
		write = func(e record.Record) error { return w.Write(exportCells(e)) }
		flush = func() error {
			w.Flush()
			return w.Error()
		}
	default:
		return nil, exchange.InvalidParam("format", "format is %q; it must be jsonl or csv", format)
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
	return nil, nil
}

// exportHead are the names of the columns.
func exportHead() (names []string) {
	for _, f := range record.Fields {
		names = append(names, f.Name)
	}
	return names
}

// exportCells is a record as a row. Programs for tables take what begins in some ways for a formula, and clients choose names.
func exportCells(r record.Record) (cells []string) {
	for _, f := range record.Fields {
		cell := f.Cell(&r)
		if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
			cell = "'" + cell
		}
		cells = append(cells, cell)
	}
	return cells
}

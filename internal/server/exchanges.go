package server

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/dialect"
	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/ledger"
)

// ExchangeList is a page of the ledger.
type ExchangeList struct {
	Exchanges []kept.Exchange `json:"exchanges"` // the newest first
	Lost      int             `json:"lost"`      // that could not be kept since the gate was started
}

// Pages of the ledger.
const (
	usualPage = 50
	longPage  = 1000
)

// filter reads what exchanges are asked for from a query.
func filter(c *gin.Context) (f kept.Filter, err error) {
	f = kept.Filter{Key: c.Query("key"), Model: c.Query("model"), Style: c.Query("style"), Job: c.Query("job"), Before: c.Query("before"), Limit: usualPage}
	if len(f.Key) > 3 && f.Key[:3] == "kg_" {
		f.Key = f.Key[3:]
	}
	if _, ok := dialect.Find(f.Style); f.Style != "" && !ok {
		return f, exchange.InvalidParam("style", "style is %q; the styles are %s", f.Style, dialect.List(dialect.Styles...))
	}
	for _, bound := range []struct {
		name string
		at   *time.Time
	}{{"since", &f.Since}, {"until", &f.Until}} {
		if text := c.Query(bound.name); text != "" {
			if *bound.at, err = time.Parse(time.RFC3339, text); err != nil {
				return f, exchange.InvalidParam(bound.name, "%s is %q; it must be a time such as 2030-01-31T12:00:00Z", bound.name, text)
			}
		}
	}
	if text := c.Query("bad"); text != "" {
		if f.Bad, err = strconv.ParseBool(text); err != nil {
			return f, exchange.InvalidParam("bad", "bad is %q; it must be true or false", text)
		}
	}
	if text := c.Query("slow_ms"); text != "" {
		ms, err := strconv.ParseInt(text, 10, 32)
		if err != nil || ms < 0 {
			return f, exchange.InvalidParam("slow_ms", "slow_ms is %q; it must be a number of milliseconds", text)
		}
		f.Slow = time.Duration(ms) * time.Millisecond
	}
	if text := c.Query("limit"); text != "" {
		if f.Limit, err = strconv.Atoi(text); err != nil || f.Limit < 1 || f.Limit > longPage {
			return f, exchange.InvalidParam("limit", "limit is %q; it must be from 1 to %d", text, longPage)
		}
	}
	return f, nil
}

func (s *Server) listExchanges(c *gin.Context) {
	f, err := filter(c)
	if err != nil {
		fail(c, err)
		return
	}
	list, err := s.Ledger.Find(c.Request.Context(), f)
	if err != nil {
		fail(c, err)
		return
	}
	c.JSON(http.StatusOK, ExchangeList{append([]kept.Exchange{}, list...), s.Ledger.Lost()})
}

// watchExchanges sends exchanges as they begin and end.
func (s *Server) watchExchanges(c *gin.Context) {
	ctx, cancel := context.WithCancel(c.Request.Context())
	defer cancel()
	defer context.AfterFunc(s.ending, cancel)() // a gate that stops waits for answers, not for those who watch
	f := events(func(seen ledger.Sight) string { return data(seen) }, done)
	f.begin = "retry: 2000\n\n" // who watches knows that nothing is missed from here on
	stream(s, c, s.Ledger.Watch(ctx), &exchange.Started{}, f)
}

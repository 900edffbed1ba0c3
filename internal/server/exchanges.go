package server

import (
	"context"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
	"kindredgate/internal/ledger"
	"kindredgate/internal/record"
)

// ExchangeList is a page of the ledger.
type ExchangeList struct {
	Exchanges []record.Record `json:"exchanges"` // the newest first
	Lost      int             `json:"lost"`      // that could not be kept since the gate was started
}

func (s *Server) listExchanges(c *gin.Context) (any, error) {
	f, err := record.ParseFilter(c.Request.URL.Query())
	if err != nil {
		return nil, err
	}
	list, err := s.Ledger.Find(c.Request.Context(), f)
	if err != nil {
		return nil, err
	}
	return ExchangeList{append([]record.Record{}, list...), s.Ledger.Lost()}, nil
}

// watchExchanges sends exchanges as they begin and end, those that a filter chooses.
func (s *Server) watchExchanges(c *gin.Context) (any, error) {
	filter, err := record.ParseFilter(c.Request.URL.Query())
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancel(c.Request.Context())
	defer cancel()
	defer context.AfterFunc(s.ending, cancel)() // a gate that stops waits for answers, not for those who watch
	f := events(func(seen ledger.FeedEvent) string { return data(seen) }, done)
	f.begin = "retry: 2000\n\n" // who watches knows that nothing is missed from here on
	return nil, stream(s, c, s.Ledger.Watch(ctx, filter), &exchange.Started{}, f)
}

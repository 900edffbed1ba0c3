package server

import (
	"context"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/keyring"
)

// limitHeaderNames are the headers that tell how a key's limits stand, as the official clients know them.
var limitHeaderNames = []string{
	"X-Ratelimit-Limit-Requests", "X-Ratelimit-Remaining-Requests", "X-Ratelimit-Reset-Requests",
	"X-Ratelimit-Limit-Tokens", "X-Ratelimit-Remaining-Tokens", "X-Ratelimit-Reset-Tokens",
}

// limitHeaders tells in an answer's headers how the limits stand that were counted for the request: of requests and of tokens the one of
// which least is left, in proportion.
func limitHeaders(c *gin.Context) {
	slot, ok := c.Get(standingKey)
	if !ok {
		return
	}
	list := slot.(*atomic.Pointer[[]keyring.Standing]).Load()
	if list == nil {
		return
	}
	for i, unit := range []string{"requests ", "tokens "} {
		var tight *keyring.Standing
		for _, s := range *list {
			if strings.HasPrefix(s.What, unit) && s.What != keyring.AtOnce && (tight == nil || s.Remaining*tight.Limit < tight.Remaining*s.Limit) {
				tight = &s
			}
		}
		if tight != nil {
			c.Header(limitHeaderNames[3*i], strconv.FormatInt(tight.Limit, 10))
			c.Header(limitHeaderNames[3*i+1], strconv.FormatInt(tight.Remaining, 10))
			c.Header(limitHeaderNames[3*i+2], tight.Reset.Round(time.Millisecond).String())
		}
	}
}

// LimitStanding is how a limit stands.
type LimitStanding struct {
	keyring.Standing
	ResetSeconds float64 `json:"reset_seconds"` // until all of it can be used again
}

// OwnKey is what a key's holder sees of it.
type OwnKey struct {
	KeyInfo
	Facts    []keyring.Fact  `json:"facts"`
	Standing []LimitStanding `json:"standing"`
}

// showOwnKey tells a key's holder what it may, and what is left of it.
func (s *Server) showOwnKey(c *gin.Context) (any, error) {
	return s.ownKey(c.Request.Context(), callerOf(c)), nil
}

func (s *Server) ownKey(ctx context.Context, k keyring.Key) OwnKey {
	return OwnKey{KeyInfo: keyInfo(k), Facts: k.Facts(time.Now()), Standing: standings(s.Gate.Keys.Standing(ctx, k))}
}

func standings(list []keyring.Standing) []LimitStanding {
	out := []LimitStanding{}
	for _, l := range list {
		out = append(out, LimitStanding{l, l.Reset.Seconds()})
	}
	return out
}

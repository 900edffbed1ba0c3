package server

import (
	"io"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
)

// intake counts the bytes of bodies that requests under way hold, of all of them and of each key with those that it issued. It is safe for
// concurrent use.
type intake struct {
	most int64 // of all together; a key may have a quarter, and room for two bodies at least

	mu   sync.Mutex
	all  int64
	held map[string]int64 // by who pays
}

// usualIntake is how many bytes of bodies are held at once unless it is said.
const usualIntake = 256 << 20

func newIntake(most int64) *intake {
	if most <= 0 {
		most = usualIntake
	}
	return &intake{most: most, held: map[string]int64{}}
}

// take counts bytes that are to be held for a key. The error says that there is no room for them.
func (i *intake) take(payer string, n int64) error {
	i.mu.Lock()
	defer i.mu.Unlock()
	var err *exchange.Error
	switch {
	case i.held[payer]+n > max(i.most/4, 2*maxBody):
		err = exchange.Errorf(exchange.Limited, "too_many_bytes", "the requests in progress with this key hold %d MB; wait for one of them to end", i.held[payer]>>20)
	case i.all+n > i.most:
		err = exchange.Errorf(exchange.Unavailable, "too_many_bytes", "the requests in progress hold all of the %d MB that there are for their bodies; try again", i.most>>20)
	default:
		i.all += n
		i.held[payer] += n
		return nil
	}
	err.RetryAfter = time.Second
	return err
}

func (i *intake) give(payer string, n int64) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.all -= n
	if i.held[payer] -= n; i.held[payer] == 0 {
		delete(i.held, payer)
	}
}

// Names under which a request's context has what it holds.
const (
	entryKey = "entry"
	heldKey  = "held"
)

// holding is what one request holds of the intake.
type holding struct {
	intake *intake
	payer  string
	bytes  int64
}

func (h *holding) take(n int64) error {
	err := h.intake.take(h.payer, n)
	if err == nil {
		h.bytes += n
	}
	return err
}

// hold gives back what a request has held when it ends.
func (s *Server) hold(c *gin.Context) {
	h := &holding{intake: s.intake}
	c.Set(heldKey, h)
	defer func() { s.intake.give(h.payer, h.bytes) }()
	c.Next()
}

// readAll reads to the end, and counts what it reads as held by the request.
func readAll(c *gin.Context, r io.Reader) ([]byte, error) {
	h := c.MustGet(heldKey).(*holding)
	if k, ok := c.Get(callerKey); ok && h.bytes == 0 {
		h.payer = k.(keyring.Key).Payer()
	}
	return io.ReadAll(&counted{r, h})
}

type counted struct {
	r io.Reader
	h *holding
}

func (r *counted) Read(p []byte) (int, error) {
	n, err := r.r.Read(p)
	if n > 0 {
		if full := r.h.take(int64(n)); full != nil {
			return 0, full
		}
	}
	return n, err
}

// enter takes one of the places that a key has for requests at once before the body is read, so that nobody has the gate hold bodies of requests
// that it will refuse.
func (s *Server) enter(c *gin.Context) {
	k := callerOf(c)
	entry, err := s.Gate.Keys.Enter(k)
	if err != nil {
		noteStanding(c)(s.Gate.Keys.Standing(c.Request.Context(), k))
		fail(c, err)
		return
	}
	defer entry.Leave()
	c.Set(entryKey, entry)
	c.Next()
}

// entryOf is by what the request came in; nil if it took no place.
func entryOf(c *gin.Context) *keyring.Entry {
	e, ok := c.Get(entryKey)
	if !ok {
		return nil
	}
	return e.(*keyring.Entry)
}

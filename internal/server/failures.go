package server

import (
	"net/netip"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"

	"kindredgate/internal/exchange"
)

// Attempts with keys that are not valid are slowed down, for each address by itself. Whoever comes with a valid key is not, whatever others at
// the same address do.
const (
	freeAttempts  = 30          // at once
	attemptEvery  = time.Second // and then one in so long
	longestSlow   = 5 * time.Second
	mostAddresses = 10_000 // that are remembered
	mostSlowed    = 200    // requests that wait at once; more are refused without waiting
)

// failures counts them. It is safe for concurrent use; the zero value is ready.
type failures struct {
	mu     sync.Mutex
	rates  *lru.Cache[netip.Prefix, *rate.Limiter]
	slowed int
}

// slow has a failed attempt wait its time, and returns the error for it: the one it has, or that there are too many.
func (f *failures) slow(c *gin.Context, failed error) error {
	if e := exchange.AsError(failed); e.Kind != exchange.Unauthenticated {
		return failed
	}
	wait, ok := f.wait(network(c.ClientIP()))
	if wait == 0 {
		return failed
	}
	if !ok {
		err := exchange.Errorf(exchange.Limited, "too_many_failures", "too many requests with keys that are not valid came from your address; the next may come in %s. Requests with a valid key are not held up", wait.Round(time.Second))
		err.RetryAfter = wait
		return err
	}
	defer func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.slowed--
	}()
	timer := time.NewTimer(wait)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-c.Request.Context().Done():
	}
	return failed
}

// wait is how long an attempt from an address has to wait. ok is false if it is not to wait, but to be refused.
func (f *failures) wait(from netip.Prefix) (wait time.Duration, ok bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.rates == nil {
		rates, err := lru.New[netip.Prefix, *rate.Limiter](mostAddresses)
		if err != nil {
			panic(err) // only for a size that is none
		}
		f.rates = rates
	}
	r, known := f.rates.Get(from)
	if !known {
		r = rate.NewLimiter(rate.Every(attemptEvery), freeAttempts)
		f.rates.Add(from, r)
	}
	held := r.Reserve()
	if wait = held.Delay(); wait == 0 {
		return 0, true
	}
	if wait > longestSlow || f.slowed >= mostSlowed {
		held.Cancel()
		return wait, false
	}
	f.slowed++
	return wait, true
}

// network is what counts as one address: of IPv6 the 64 bits that a site has.
func network(address string) netip.Prefix {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return netip.Prefix{} // a socket
	}
	bits := 64
	if a = a.Unmap().WithZone(""); a.Is4() {
		bits = 32
	}
	p, err := a.Prefix(bits)
	if err != nil {
		return netip.Prefix{}
	}
	return p
}

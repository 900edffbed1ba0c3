package exchange

import (
	"context"
	"sync/atomic"
)

// Progress tells a client that waits what it waits for.
type Progress struct{ said atomic.Pointer[string] }

type progressKey struct{}

// WithProgress gives a context in which [Report] sets what p says.
func WithProgress(ctx context.Context, p *Progress) context.Context {
	return context.WithValue(ctx, progressKey{}, p)
}

// Report says what the request of a context waits for; nothing if what is empty.
func Report(ctx context.Context, what string) {
	if p, ok := ctx.Value(progressKey{}).(*Progress); ok {
		p.said.Store(&what)
	}
}

// Said is what was reported last.
func (p *Progress) Said() string {
	if s := p.said.Load(); s != nil {
		return *s
	}
	return ""
}

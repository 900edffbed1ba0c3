package boot

import (
	"context"

	"kindredgate/internal/forward"
	"kindredgate/internal/tracing"
)

// passOn begins to tell others of exchanges, as far as the configuration names any. The tracer is nil for none.
func (h *House) passOn(ctx context.Context, version string) (*tracing.Tracer, error) {
	for _, to := range h.Config.Forward {
		authorization, err := to.Authorization()
		if err != nil {
			return nil, err
		}
		f, err := forward.New(forward.Target{To: to.To, Authorization: authorization}, h.log)
		if err != nil {
			return nil, err
		}
		h.closing(f.Close)
		h.book.Pass(f.Add)
	}
	if h.Config.Traces.To == "" {
		return nil, nil
	}
	headers := map[string]string{}
	authorization, err := h.Config.Traces.Authorization()
	if err != nil {
		return nil, err
	}
	if authorization != "" {
		headers["Authorization"] = authorization
	}
	t, err := tracing.New(ctx, h.Config.Traces.To, version, headers, h.log)
	if err != nil {
		return nil, err
	}
	h.closing(func() error {
		if err := t.Close(); err != nil {
			h.log.Warn("traces", "error", err.Error()) // that a collector is gone is no reason to fail
		}
		return nil
	})
	return t, nil
}

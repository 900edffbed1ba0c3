package boot

import (
	"context"

	"kindredgate/internal/forward"
	"kindredgate/internal/tracing"
)

// passOn begins to tell others of exchanges, as far as the configuration names any. The tracer is nil for none.
func (app *App) passOn(ctx context.Context, version string) (*tracing.Tracer, error) {
	for _, to := range app.Config.Forward {
		authorization, err := to.Authorization()
		if err != nil {
			return nil, err
		}
		f, err := forward.New(forward.Target{To: to.To, Authorization: authorization}, app.log)
		if err != nil {
			return nil, err
		}
		app.closing(f.Close)
		app.ledger.Pass(f.Add)
	}
	if app.Config.Traces.To == "" {
		return nil, nil
	}
	headers := map[string]string{}
	authorization, err := app.Config.Traces.Authorization()
	if err != nil {
		return nil, err
	}
	if authorization != "" {
		headers["Authorization"] = authorization
	}
	t, err := tracing.New(ctx, app.Config.Traces.To, version, headers, app.log)
	if err != nil {
		return nil, err
	}
	app.closing(func() error {
		if err := t.Close(); err != nil {
			app.log.Warn("traces", "error", err.Error()) // that a collector is gone is no reason to fail
		}
		return nil
	})
	return t, nil
}

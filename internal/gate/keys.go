package gate

import (
	"context"
	"slices"
	"time"

	"kindredgate/internal/dialect"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
)

// came notes an exchange that was admitted, so that it can be ended with its key; that may have been revoked since it was checked.
func (g *Gate) came(x *Exchange) {
	g.mu.Lock()
	if g.running == nil {
		g.running = map[*Exchange]struct{}{}
		g.streams = map[string]int{}
	}
	g.running[x] = struct{}{}
	if x.run == nil {
		g.streams[x.model.ID]++
	}
	g.mu.Unlock()
	if g.Keys.Revoked(x.caller.ID) {
		g.endWith(x.caller)
	}
	g.endInTime(x, x.caller)
}

// endInTime has an exchange end when its key does, which may be later or earlier by then.
func (g *Gate) endInTime(x *Exchange, k keyring.Key) {
	ends := k.Ends()
	if ends.IsZero() {
		return
	}
	t := time.AfterFunc(time.Until(ends), func() {
		if now, valid := g.Keys.Now(k.ID); valid {
			g.endInTime(x, now)
		} else {
			x.Cancel(exchange.Errorf(exchange.Unauthenticated, "invalid_api_key", "the key %q ended while it was used", k.Label))
		}
	})
	context.AfterFunc(x.ctx, func() { t.Stop() })
}

// left removes an exchange.
func (g *Gate) left(x *Exchange) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if _, running := g.running[x]; !running {
		return // it was refused
	}
	delete(g.running, x)
	if x.run == nil {
		g.leave(x.model.ID)
	}
}

// moved notes that a stream goes on with another model.
func (g *Gate) moved(from, to string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.leave(from)
	g.streams[to]++
}

// leave counts a stream of a model less. g is locked.
func (g *Gate) leave(model string) {
	if g.streams[model]--; g.streams[model] == 0 {
		delete(g.streams, model)
	}
}

// endWith ends what is under way with a key that is revoked, and with those that it issued, unless another stands in its place.
func (g *Gate) endWith(k keyring.Key) {
	children := !g.Keys.Holds(context.Background(), k.Account())
	g.mu.Lock()
	defer g.mu.Unlock()
	for x := range g.running {
		if x.caller.ID == k.ID || children && x.caller.Issuer == k.Account() { // which never change
			x.Cancel(exchange.Errorf(exchange.Unauthenticated, "invalid_api_key", "the key %q was revoked while it was used", k.Label))
		}
	}
}

// KeyChanged takes over what another gate has made of a key: what is in progress with one that was revoked ends.
func (g *Gate) KeyChanged(ctx context.Context, id string) error {
	k, err := g.Keys.Refresh(ctx, id)
	if err == nil && k.ID != "" {
		if _, valid := g.Keys.Now(id); !valid {
			g.endWith(k)
		}
	}
	return err
}

// IssueKey makes a key for an application. Models that are not installed and styles that there are not are refused, since a mistyped
// name would make a key that opens nothing.
func (g *Gate) IssueKey(ctx context.Context, t keyring.Terms) (secret string, k keyring.Key, err error) {
	if err := g.checkTerms(ctx, t); err != nil {
		return "", keyring.Key{}, err
	}
	return g.Keys.Issue(ctx, t)
}

// IssueKeyUnder makes a key for the holder of another, as [keyring.Keyring.IssueUnder] does.
func (g *Gate) IssueKeyUnder(ctx context.Context, issuer keyring.Key, t keyring.Terms) (secret string, k keyring.Key, err error) {
	if err := issuer.MayIssueKeys(); err != nil { // before anything is told of the names that there are
		return "", keyring.Key{}, err
	}
	for _, id := range t.Models {
		if !issuer.MayUse(id) {
			return "", keyring.Key{}, forbidden(issuer, id)
		}
	}
	if err := g.checkTerms(ctx, t); err != nil {
		return "", keyring.Key{}, err
	}
	return g.Keys.IssueUnder(ctx, issuer, t)
}

// ChangeKey changes a key's terms, which hold from its next request on.
func (g *Gate) ChangeKey(ctx context.Context, ref string, change func(*keyring.Terms) error) (keyring.Key, error) {
	k, err := g.Keys.Change(ctx, ref, func(t *keyring.Terms) error {
		before := slices.Clone(t.Models)
		if err := change(t); err != nil {
			return err
		}
		fresh := *t // what it might use before may be gone since, which is no fault of the change
		fresh.Models = slices.DeleteFunc(slices.Clone(t.Models), func(m string) bool { return slices.Contains(before, m) })
		return g.checkTerms(ctx, fresh)
	})
	if err != nil {
		return k, err
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	for x := range g.running {
		if of := x.caller; of.ID == k.ID || of.Issuer == k.Account() { // which never change
			if now, valid := g.Keys.Now(of.ID); valid {
				g.endInTime(x, now)
			}
		}
	}
	return k, nil
}

func (g *Gate) checkTerms(ctx context.Context, t keyring.Terms) error {
	for _, id := range t.Models {
		if _, _, err := g.resolve(ctx, keyring.Key{}, id); err != nil {
			return exchange.InvalidParam("models", "%s", exchange.AsError(err).Message)
		}
	}
	for _, name := range t.Endpoints {
		if _, ok := dialect.Find(name); !ok {
			return exchange.InvalidParam("endpoints", "%q is no style; the styles are %s", name, dialect.List(dialect.Styles...))
		}
	}
	return nil
}

// RevokeKey makes a key invalid and ends what is under way with it. It returns what [keyring.Keyring.Revoke] does.
func (g *Gate) RevokeKey(ctx context.Context, ref string) (k keyring.Key, written bool, err error) {
	k, written, err = g.Keys.Revoke(ctx, ref)
	if err == nil {
		g.endWith(k)
	}
	return k, written, err
}

// RotateKey issues a key in the place of another, as [keyring.Keyring.Rotate] does.
func (g *Gate) RotateKey(ctx context.Context, ref string, grace time.Duration) (secret string, next, old keyring.Key, err error) {
	secret, next, old, err = g.Keys.Rotate(ctx, ref, grace)
	if err == nil && !old.Revoked.IsZero() {
		g.endWith(old)
	}
	return secret, next, old, err
}

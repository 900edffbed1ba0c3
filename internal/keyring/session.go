package keyring

import (
	"context"
	"errors"
	"strings"
	"time"

	"kindredgate/internal/exchange"
)

// This file is the sessions of the console.

// Session is a console that was signed in with the owner key.
type Session struct {
	Hash    []byte // SHA-256 of the token that the browser holds
	Expires time.Time
}

// SignIn gives a console a token in exchange for the owner key.
func (r *Keyring) SignIn(ctx context.Context, secret string) (token string, expires time.Time, err error) {
	k, err := r.Check(ctx, strings.TrimSpace(secret))
	if err != nil {
		return "", time.Time{}, err
	}
	if !k.Owner {
		return "", time.Time{}, exchange.Errorf(exchange.Forbidden, "owner_key_needed",
			"%q is a key for applications; the console opens with the owner key, which is in the file owner.key of the data folder", k.Label)
	}
	token = characters(48)
	expires = r.now().Add(sessionLife)
	if err := r.records.AddSession(ctx, Session{Hash: hash(token), Expires: expires}); err != nil {
		return "", time.Time{}, storage("keep the session", err)
	}
	return token, expires, nil
}

// CheckSession returns nil if a console with that token is signed in.
func (r *Keyring) CheckSession(ctx context.Context, token string) error {
	s, err := r.records.Session(ctx, hash(token))
	if err != nil && !errors.Is(err, ErrUnknown) {
		return storage("look up the session", err)
	}
	if err != nil || !r.now().Before(s.Expires) {
		return exchange.Errorf(exchange.Unauthenticated, "signed_out", "the console is not signed in, or no longer; sign in with the owner key")
	}
	return nil
}

// SignOut ends a console's session.
func (r *Keyring) SignOut(ctx context.Context, token string) error {
	return r.records.DropSession(ctx, hash(token))
}

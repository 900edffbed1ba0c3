package server

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
)

// KeyInfo is what is told of a key.
type KeyInfo struct {
	ID        string                    `json:"id"` // with the prefix, as it stands at the beginning of the key
	Label     string                    `json:"label"`
	Owner     bool                      `json:"owner"`
	Models    []string                  `json:"models"`    // empty for all
	Endpoints []string                  `json:"endpoints"` // styles; empty for all
	Tools     []string                  `json:"tools"`     // that it may have the gate run
	Limits    keyring.Limits            `json:"limits"`
	ByModel   map[string]keyring.Limits `json:"limits_by_model,omitempty"`
	Origins   []string                  `json:"origins"`   // of pages; empty for those of the configuration
	Addresses []netip.Prefix            `json:"addresses"` // empty for all
	Group     string                    `json:"group,omitempty"`
	MayIssue  bool                      `json:"may_issue,omitempty"`
	KeepAlive bool                      `json:"keep_alive,omitempty"`
	Content   keyring.Content           `json:"record_content,omitempty"`
	Follows   string                    `json:"follows,omitempty"`
	Issuer    string                    `json:"issuer,omitempty"`
	Created   time.Time                 `json:"created"`
	Expires   *time.Time                `json:"expires"`
	LastUsed  *time.Time                `json:"last_used"`
	Revoked   *time.Time                `json:"revoked"`
}

// IssuedKey is a new key, with the secret that is shown this once.
type IssuedKey struct {
	KeyInfo
	Key string `json:"key"`
}

// RevokedKey is a key that was just revoked.
type RevokedKey struct {
	KeyInfo
	Warning string `json:"warning,omitempty"`
}

// RotatedKey is a key in the place of another.
type RotatedKey struct {
	IssuedKey
	Old KeyInfo `json:"old"`
}

func keyInfo(k keyring.Key) KeyInfo {
	optional := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	info := KeyInfo{ID: "kg_" + k.ID, Label: k.Label, Owner: k.Owner, Models: append([]string{}, k.Models...), Endpoints: append([]string{}, k.Endpoints...), Tools: append([]string{}, k.Tools...), Limits: k.Limits, ByModel: k.ByModel,
		Origins: append([]string{}, k.Origins...), Addresses: append([]netip.Prefix{}, k.Addresses...), Created: k.Created, Expires: optional(k.Expires), LastUsed: optional(k.LastUsed), Revoked: optional(k.Revoked)}
	info.Group, info.MayIssue, info.KeepAlive, info.Content = k.Group, k.MayIssue, k.KeepAlive, k.Content
	if k.Issuer != "" {
		info.Issuer = "kg_" + k.Issuer
	}
	if k.Follows != "" {
		info.Follows = "kg_" + k.Follows
	}
	return info
}

func (s *Server) listKeys(c *gin.Context) (any, error) {
	keys, err := s.Gate.Keys.Keys(c.Request.Context())
	if err != nil {
		return nil, err
	}
	list := make([]KeyInfo, len(keys))
	for i, k := range keys {
		list[i] = keyInfo(k)
	}
	return gin.H{"keys": list}, nil
}

func (s *Server) issueKey(c *gin.Context) (any, error) { return s.issueBy(c, s.Gate.IssueKey) }

// issueUnder issues a key for the holder of another.
func (s *Server) issueUnder(c *gin.Context) (any, error) {
	issuer := callerOf(c)
	return s.issueBy(c, func(ctx context.Context, t keyring.Terms) (string, keyring.Key, error) {
		return s.Gate.IssueKeyUnder(ctx, issuer, t)
	})
}

func (s *Server) issueBy(c *gin.Context, issue func(context.Context, keyring.Terms) (string, keyring.Key, error)) (any, error) {
	o, err := object(c)
	var t keyring.Terms
	if err == nil {
		err = t.Read(o)
	}
	if err != nil {
		return nil, err
	}
	secret, k, err := issue(c.Request.Context(), t)
	if err != nil {
		return nil, err
	}
	s.logKey(c, "key issued", k)
	c.Header("Cache-Control", "no-store")
	return created{IssuedKey{KeyInfo: keyInfo(k), Key: secret}}, nil
}

func (s *Server) logKey(c *gin.Context, what string, k keyring.Key) {
	s.Log.Info(what, "id", c.GetString(idKey), "key", "kg_"+k.ID, "label", k.Label)
}

// showKey shows a key, with how its limits stand.
func (s *Server) showKey(c *gin.Context) (any, error) {
	k, err := s.Gate.Keys.Find(c.Request.Context(), c.Param("id"))
	if err != nil {
		return nil, err
	}
	return s.ownKey(c.Request.Context(), k), nil
}

func (s *Server) changeKey(c *gin.Context) (any, error) {
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	k, err := s.Gate.ChangeKey(c.Request.Context(), c.Param("id"), func(t *keyring.Terms) error { return t.Read(o) })
	if err != nil {
		return nil, err
	}
	s.logKey(c, "key changed", k)
	return keyInfo(k), nil
}

// longGrace is how long a key may go on working beside the one in its place.
const longGrace = 90 * 24 * time.Hour

func (s *Server) rotateKey(c *gin.Context) (any, error) {
	o, err := object(c)
	if err != nil {
		return nil, err
	}
	grace := o.Int("grace_seconds", 0, int64(longGrace/time.Second))
	if err := onlyKnown(o); err != nil {
		return nil, err
	}
	if grace == nil {
		return nil, exchange.InvalidParam("grace_seconds", "grace_seconds is needed: how long the old key goes on working, or 0")
	}
	secret, next, old, err := s.Gate.RotateKey(c.Request.Context(), c.Param("id"), time.Duration(*grace)*time.Second)
	if err != nil {
		return nil, err
	}
	s.logKey(c, fmt.Sprintf("key issued in the place of kg_%s", old.ID), next)
	c.Header("Cache-Control", "no-store")
	return created{RotatedKey{IssuedKey{keyInfo(next), secret}, keyInfo(old)}}, nil
}

func (s *Server) revokeKey(c *gin.Context) (any, error) {
	k, written, err := s.Gate.RevokeKey(c.Request.Context(), strings.TrimSpace(c.Param("id")))
	if err != nil {
		return nil, err
	}
	s.logKey(c, "key revoked", k)
	out := RevokedKey{KeyInfo: keyInfo(k)}
	if !written {
		out.Warning = "the key is refused from now on, but that could not be written to the disk yet; it is tried again until it can, and would be valid after a restart before that"
	}
	return out, nil
}

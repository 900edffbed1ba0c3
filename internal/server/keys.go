package server

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/keyring"
)

// KeyInfo is what is told of a key.
type KeyInfo struct {
	ID       string     `json:"id"` // with the prefix, as it stands at the beginning of the key
	Label    string     `json:"label"`
	Owner    bool       `json:"owner"`
	Models   []string   `json:"models"` // empty for all
	Created  time.Time  `json:"created"`
	LastUsed *time.Time `json:"last_used"`
	Revoked  *time.Time `json:"revoked"`
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

func keyInfo(k keyring.Key) KeyInfo {
	optional := func(t time.Time) *time.Time {
		if t.IsZero() {
			return nil
		}
		return &t
	}
	return KeyInfo{ID: "kg_" + k.ID, Label: k.Label, Owner: k.Owner, Models: append([]string{}, k.Models...),
		Created: k.Created, LastUsed: optional(k.LastUsed), Revoked: optional(k.Revoked)}
}

func (s *Server) listKeys(c *gin.Context) {
	keys, err := s.Gate.Keys.Keys(c.Request.Context())
	if err != nil {
		fail(c, err)
		return
	}
	list := make([]KeyInfo, len(keys))
	for i, k := range keys {
		list[i] = keyInfo(k)
	}
	c.JSON(http.StatusOK, gin.H{"keys": list})
}

func (s *Server) issueKey(c *gin.Context) {
	o, err := object(c)
	if err != nil {
		fail(c, err)
		return
	}
	label, _ := o.String("label")
	models := o.Strings("models")
	if err := onlyKnown(o); err != nil {
		fail(c, err)
		return
	}
	secret, k, err := s.Gate.IssueKey(c.Request.Context(), label, models)
	if err != nil {
		fail(c, err)
		return
	}
	s.Log.Info("key issued", "id", c.GetString(idKey), "key", "kg_"+k.ID, "label", k.Label)
	c.Header("Cache-Control", "no-store")
	c.JSON(http.StatusCreated, IssuedKey{KeyInfo: keyInfo(k), Key: secret})
}

func (s *Server) revokeKey(c *gin.Context) {
	k, written, err := s.Gate.Keys.Revoke(c.Request.Context(), c.Param("id"))
	if err != nil {
		fail(c, err)
		return
	}
	s.Log.Info("key revoked", "id", c.GetString(idKey), "key", "kg_"+k.ID, "label", k.Label)
	out := RevokedKey{KeyInfo: keyInfo(k)}
	if !written {
		out.Warning = "the key is refused from now on, but that could not be written to the disk yet; it is tried again until it can, and would be valid after a restart before that"
	}
	c.JSON(http.StatusOK, out)
}

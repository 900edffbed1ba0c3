package server

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"

	"kindredgate/internal/catalog"
	"kindredgate/internal/dialect/chat"
	"kindredgate/internal/dialect/field"
	"kindredgate/internal/exchange"
	"kindredgate/internal/keyring"
	"kindredgate/internal/prompt"
	"kindredgate/internal/snippet"
)

// Status is what GET /gate/status tells.
type Status struct {
	Version string    `json:"version"`
	BaseURL string    `json:"base_url"`
	Started time.Time `json:"started"`
	Access  string    `json:"access"` // "keys" or "open"
	Folders []string  `json:"folders"`
}

func (s *Server) status(c *gin.Context) {
	access := "keys"
	if s.Open {
		access = "open"
	}
	c.JSON(http.StatusOK, Status{Version: s.Version, BaseURL: s.base, Started: s.started.UTC().Truncate(time.Second), Access: access, Folders: s.Gate.Catalog.Folders()})
}

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

// object reads a body that is a JSON object.
func object(c *gin.Context) (*field.Object, error) {
	raw, err := body(c)
	if err != nil {
		return nil, err
	}
	return field.Parse(raw)
}

// onlyKnown refuses fields that mean nothing: in our own interface they are mistakes.
func onlyKnown(o *field.Object) error {
	for _, name := range o.Unread() {
		o.Fail(name, "there is no field %q here", name)
	}
	return o.Err()
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
	k, err := s.Gate.Keys.Revoke(c.Request.Context(), c.Param("id"))
	if err != nil {
		fail(c, err)
		return
	}
	s.Log.Info("key revoked", "id", c.GetString(idKey), "key", "kg_"+k.ID, "label", k.Label)
	c.JSON(http.StatusOK, keyInfo(k))
}

// longSignIn is how many bytes a request to sign in has at the most.
const longSignIn = 4 << 10

// signIn exchanges the owner key for a cookie that no script can read and no other site can use.
func (s *Server) signIn(c *gin.Context) {
	if err := s.origins.Check(c.Request); err != nil {
		fail(c, exchange.Errorf(exchange.Forbidden, "cross_origin", "a page of another origin cannot sign in here"))
		return
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, longSignIn) // whoever sends it has not shown a key yet
	o, err := object(c)
	if err != nil {
		fail(c, err)
		return
	}
	key, _ := o.String("key")
	token, expires, err := s.Gate.Keys.SignIn(c.Request.Context(), key)
	if err != nil {
		fail(c, err)
		return
	}
	s.setCookie(c, token, time.Until(expires))
	c.Status(http.StatusNoContent)
}

func (s *Server) setCookie(c *gin.Context, token string, life time.Duration) {
	http.SetCookie(c.Writer, &http.Cookie{Name: sessionCookie, Value: token, Path: "/", MaxAge: int(life.Seconds()), HttpOnly: true, SameSite: http.SameSiteStrictMode})
}

func (s *Server) signOut(c *gin.Context) {
	if err := s.origins.Check(c.Request); err != nil {
		fail(c, exchange.Errorf(exchange.Forbidden, "cross_origin", "a page of another origin tried to sign out"))
		return
	}
	if token, err := c.Cookie(sessionCookie); err == nil {
		if err := s.Gate.Keys.SignOut(c.Request.Context(), token); err != nil {
			fail(c, err)
			return
		}
	}
	s.setCookie(c, "", -time.Second)
	c.Status(http.StatusNoContent)
}

// RenderedPrompt is a conversation as a model gets it.
type RenderedPrompt struct {
	Model         string        `json:"model"`
	Text          string        `json:"text"`
	Tokens        int           `json:"tokens"`
	ContextLength int           `json:"context_length"`
	Spans         []PromptSpan  `json:"spans"`
	Turns         []PromptTurn  `json:"turns"`
	Warnings      []string      `json:"warnings"` // what the sender may not expect
	TokenList     []PromptToken `json:"token_list"`
}

// PromptSpan is a piece of the text with one origin, by its bytes.
type PromptSpan struct {
	Start  int    `json:"start"`
	End    int    `json:"end"`
	Origin string `json:"origin"` // "template", or the field of the request that the text is from
	Line   int    `json:"line,omitempty"`
	Tokens int    `json:"tokens"` // that begin in it
}

// PromptTurn counts the tokens of a turn's own text.
type PromptTurn struct {
	Role   exchange.Role `json:"role"`
	Tokens int           `json:"tokens"`
}

// PromptToken is a token of the text, by its bytes.
type PromptToken struct {
	ID      int32 `json:"id"`
	Start   int   `json:"start"`
	End     int   `json:"end"`
	Control bool  `json:"control,omitempty"`
}

// renderPrompt gives the prompt that a request would make. "style" says how the request is put: "chat", the default,
// takes the body of a chat request; "generate" takes prompt and instructions, which become a user and a system turn;
// "raw" takes prompt, which goes to the model as it is.
func (s *Server) renderPrompt(c *gin.Context) {
	raw, err := body(c)
	if err != nil {
		fail(c, err)
		return
	}
	out, err := s.rendered(c.Request.Context(), callerOf(c), raw)
	if err != nil {
		fail(c, err)
		return
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) rendered(ctx context.Context, k keyring.Key, raw []byte) (*RenderedPrompt, error) {
	o, err := field.Parse(raw)
	if err != nil {
		return nil, err
	}
	style, given := o.String("style")
	var req exchange.Request
	switch {
	case !given || style == "chat":
		call, err := chat.Decode(raw)
		if err != nil {
			return nil, err
		}
		req = call.Request
	case style == "generate" || style == "raw":
		req.Model, _ = o.String("model")
		text, ok := o.String("prompt")
		if !ok {
			o.Fail("prompt", "prompt is missing")
		}
		instructions, instructed := o.String("instructions")
		if instructed && style == "raw" {
			o.Fail("instructions", "a raw prompt goes to the model as it is, so it has no instructions apart")
		}
		if err := onlyKnown(o); err != nil {
			return nil, err
		}
		if style == "raw" {
			m, p, err := s.Gate.RenderRaw(ctx, k, req.Model, text)
			if err != nil {
				return nil, err
			}
			return renderedPrompt(m, p, nil), nil
		}
		if instructed {
			req.Turns = append(req.Turns, exchange.Turn{Role: exchange.System, Parts: []exchange.Part{exchange.Text(instructions)}})
		}
		req.Turns = append(req.Turns, exchange.Turn{Role: exchange.User, Parts: []exchange.Part{exchange.Text(text)}})
	default:
		o.Fail("style", "style is %q; it must be chat, generate or raw", style)
		return nil, o.Err()
	}
	m, p, err := s.Gate.Render(ctx, k, &req)
	if err != nil {
		return nil, err
	}
	return renderedPrompt(m, p, req.Turns, req.Tools...), nil
}

func renderedPrompt(m catalog.Model, p *prompt.Prompt, turns []exchange.Turn, tools ...exchange.Tool) *RenderedPrompt {
	out := &RenderedPrompt{Model: m.ID, Text: p.Text, Tokens: len(p.Tokens), ContextLength: m.ContextLength,
		Spans: []PromptSpan{}, Turns: []PromptTurn{}, Warnings: []string{}, TokenList: []PromptToken{}}
	for _, s := range p.Spans {
		origin := s.Origin
		if origin == "" {
			origin = "template"
		}
		out.Spans = append(out.Spans, PromptSpan{s.Start, s.End, origin, s.Line, s.Tokens})
	}
	for i, t := range turns {
		path := fmt.Sprintf("messages[%d]", i)
		n := p.Count(path)
		out.Turns = append(out.Turns, PromptTurn{t.Role, n})
		if n == 0 && t.Text() != "" {
			out.Warnings = append(out.Warnings, fmt.Sprintf("the template drops %s (%s): nothing of it is in the prompt", path, t.Role))
		}
		if t.Role == exchange.System && p.Folded {
			out.Warnings = append(out.Warnings, fmt.Sprintf("the template has no system turn, so %s stands at the head of the next user turn", path))
		}
	}
	if len(tools) > 0 && p.Count("tools") == 0 {
		out.Warnings = append(out.Warnings, "the template does not show the tools to the model: a request with them would be refused")
	}
	switch left := m.ContextLength - len(p.Tokens); {
	case left < 1:
		out.Warnings = append(out.Warnings, fmt.Sprintf("the prompt has %d tokens and the context holds %d: a request would be refused", len(p.Tokens), m.ContextLength))
	case left < m.ContextLength/10:
		out.Warnings = append(out.Warnings, fmt.Sprintf("the prompt leaves %d of %d tokens for the answer", left, m.ContextLength))
	}
	out.TokenList = slices.Grow(out.TokenList, len(p.Tokens))
	for _, t := range p.Tokens {
		out.TokenList = append(out.TokenList, PromptToken{t.ID, t.Start, t.End, t.Control})
	}
	return out
}

// Snippet is a request as a program.
type Snippet struct {
	Text string `json:"text"`
}

// writeSnippet writes a request to this gate as a program.
func (s *Server) writeSnippet(c *gin.Context) {
	o, err := object(c)
	if err != nil {
		fail(c, err)
		return
	}
	style, _ := o.String("style")
	language, _ := o.String("language")
	request, ok := o.Dict("request")
	if !ok {
		o.Fail("request", "request is missing: the body of the request to write")
	}
	if err := onlyKnown(o); err != nil {
		fail(c, err)
		return
	}
	text, err := snippet.Write(style, language, s.base, request)
	if err != nil {
		fail(c, err)
		return
	}
	c.JSON(http.StatusOK, Snippet{text})
}

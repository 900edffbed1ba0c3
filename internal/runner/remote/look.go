package remote

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"kindredgate/internal/exchange"
)

// Answer says whether a server can do something, as far as is known.
type Answer string

// The answers.
const (
	Unknown Answer = "unknown"
	Yes     Answer = "yes"
	No      Answer = "no"
)

// Abilities are what a server, or one of its models, can do.
type Abilities struct {
	// Endpoints.
	Chat      Answer `json:"chat"`
	Raw       Answer `json:"raw"`
	Responses Answer `json:"responses"`
	Vectors   Answer `json:"embeddings"`
	// What requests may have.
	Streams      Answer `json:"streams"`
	Usage        Answer `json:"streamed_usage"`
	Tools        Answer `json:"tools"`
	Formats      Answer `json:"formats"`
	Scores       Answer `json:"logprobs"`
	Images       Answer `json:"images"`
	TokenPrompts Answer `json:"token_prompts"` // raw prompts as tokens
	RawFormats   Answer `json:"raw_formats"`   // formats of raw completions
}

func unknownAbilities() Abilities {
	return Abilities{Unknown, Unknown, Unknown, Unknown, Unknown, Unknown, Unknown, Unknown, Unknown, Unknown, Unknown, Unknown}
}

// Model is a model of a server.
type Model struct {
	Name      string    `json:"name"` // there
	Context   int       `json:"context_length,omitempty"`
	Use       string    `json:"use,omitempty"` // if the server says
	Created   time.Time `json:"created,omitzero"`
	Abilities Abilities `json:"abilities"`
	Probed    time.Time `json:"probed,omitzero"` // when it was asked what it can do
	Digest    string    `json:"-"`               // of its files, as its machine says; "" if it does not
	Failing   bool      `json:"failing"`         // whether it failed several times in a row, and is not asked for a while
}

// Look is what was seen of a server.
type Look struct {
	At        time.Time
	Took      time.Duration // listing its models
	Models    []Model
	Abilities Abilities // of the server; what a model can do is with it
}

// Look is what was seen last.
func (m *Machine) Look() Look {
	if m.set.Line != nil {
		return m.lineLook()
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.look
}

// Of are the abilities of a model.
func (l Look) Of(model string) Abilities {
	if i := slices.IndexFunc(l.Models, func(m Model) bool { return m.Name == model }); i >= 0 {
		return l.Models[i].Abilities
	}
	return l.Abilities
}

// Model finds a model by its name there. One that no look has shown is taken for one, as long as no list says otherwise.
func (m *Machine) Model(name string) (Model, error) {
	look := m.Look()
	if i := slices.IndexFunc(look.Models, func(m Model) bool { return m.Name == name }); i >= 0 {
		return look.Models[i], nil
	}
	if m.set.Models != nil || !look.At.IsZero() && m.set.Form == nil {
		names := []string{}
		for _, one := range look.Models {
			names = append(names, m.name+"/"+one.Name)
		}
		said := "it lists none"
		if len(names) > 0 {
			said = "it has " + strings.Join(names[:min(len(names), 5)], ", ")
		}
		err := exchange.Errorf(exchange.NotFound, "model_not_found", "the machine %q has no model %q; %s", m.name, name, said)
		err.Param = "model"
		return Model{}, err
	}
	return Model{Name: name, Abilities: look.Abilities}, nil
}

// Times between looks.
const (
	lookAgain = 30 * time.Second
	lookSoon  = 3 * time.Second // while it does not answer
	lookTime  = 10 * time.Second
	probeTime = 2 * time.Minute
)

// mostModels bounds how many of a server's are listed.
const mostModels = 2000

// LookAfter looks at the machine now and then, until it is closed.
func (m *Machine) LookAfter(ctx context.Context) {
	if m.set.Unusable != "" || m.set.Line != nil { // which says by itself what it has
		return
	}
	ctx, m.close = context.WithCancel(ctx)
	m.ended = make(chan struct{})
	go func() {
		defer close(m.ended)
		defer func() {
			if p := recover(); p != nil {
				m.log.Error("looking after a machine panicked", "name", m.name, "error", exchange.Panicked(p).Error())
			}
		}()
		for {
			wait := lookAgain
			if err := m.LookNow(ctx); err != nil {
				wait = min(lookSoon, max(m.set.Rest, time.Second/4))
			}
			select {
			case <-time.After(wait):
			case <-ctx.Done():
				return
			}
		}
	}()
}

// LookNow lists the machine's models, and finds out what the server can do if that is not known yet.
func (m *Machine) LookNow(ctx context.Context) error {
	switch {
	case m.set.Unusable != "":
		return m.unusable()
	case m.set.Line != nil:
		return m.away()
	}
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	done, err := m.breaker.Allow()
	if err != nil {
		return m.resting("", m.breaker)
	}
	begun := time.Now()
	models, err := m.list(ctx)
	done(err)
	m.remember(err)
	if err != nil {
		m.mu.Lock()
		fresh := m.why == "" || m.look.At.IsZero()
		m.why = m.inShort(err)
		m.mu.Unlock()
		if fresh && ctx.Err() == nil {
			m.log.Warn("a machine cannot be looked at", "name", m.name, "error", m.inWords(err).Error())
		}
		return m.inWords(err)
	}
	m.mu.Lock()
	abilities := m.look.Abilities
	m.mu.Unlock()
	if m.set.Form == nil && abilities.Chat == Unknown {
		m.endpoints(ctx, &abilities)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for i := range models {
		models[i].Abilities = abilities
		if j := slices.IndexFunc(m.look.Models, func(old Model) bool { return old.Name == models[i].Name }); j >= 0 && !m.look.Models[j].Probed.IsZero() {
			models[i].Abilities, models[i].Probed = m.look.Models[j].Abilities, m.look.Models[j].Probed
		}
	}
	if begun.Before(m.look.At) {
		return nil // a look that began later has ended before this one, and knows more
	}
	m.look = Look{At: begun, Took: time.Since(begun), Models: models, Abilities: abilities}
	return nil
}

// list asks for the models.
func (m *Machine) list(ctx context.Context) (models []Model, err error) {
	if m.set.Form != nil {
		for _, name := range m.set.Models {
			models = append(models, Model{Name: name})
		}
		return models, m.reach(ctx)
	}
	resp, err := m.send(ctx, http.MethodGet, modelsPath, nil, nil)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if isPage(resp.Header) {
		return nil, broken("at /models there is a web page; look at the address, which mostly ends in /v1")
	}
	raw, err := io.ReadAll(&bounded{r: resp.Body, left: longList})
	if err != nil {
		return nil, err
	}
	var list struct {
		Data []struct {
			ID            string `json:"id"`
			Created       int64  `json:"created"`
			ContextLength int    `json:"context_length"`
			Use           string `json:"use"`
		} `json:"data"`
	}
	if err := json.Unmarshal(raw, &list); err != nil || list.Data == nil {
		return nil, broken("at /models there is no list of models; look at the address, which mostly ends in /v1")
	}
	for _, d := range list.Data[:min(len(list.Data), mostModels)] {
		if d.ID == "" || len(d.ID) > 200 || m.set.Models != nil && !slices.Contains(m.set.Models, d.ID) {
			continue
		}
		one := Model{Name: d.ID, Context: min(max(0, d.ContextLength), mostTokens), Use: d.Use}
		if d.Created > 0 {
			one.Created = time.Unix(d.Created, 0).UTC()
		}
		models = append(models, one)
	}
	return models, nil
}

// reach sees whether anything answers, where there is no list to ask for.
func (m *Machine) reach(ctx context.Context) error {
	resp, err := m.send(ctx, http.MethodHead, "", nil, nil)
	var status *statusError
	if errors.As(err, &status) && status.status < 500 {
		return nil // there is a server
	}
	if err == nil {
		resp.Body.Close()
	}
	return err
}

// endpoints finds out which styles there are: an empty request is refused where there is one, and not found where there is none.
func (m *Machine) endpoints(ctx context.Context, a *Abilities) {
	for path, answer := range map[string]*Answer{chatPath: &a.Chat, rawPath: &a.Raw, responsesPath: &a.Responses, vectorsPath: &a.Vectors} {
		resp, err := m.send(ctx, http.MethodPost, path, []byte("{}"), nil)
		var status *statusError
		switch {
		case err == nil:
			resp.Body.Close()
			*answer = Yes
		case !errors.As(err, &status):
		case status.status == http.StatusNotFound && status.ofModel(), status.status == http.StatusBadRequest, status.status == http.StatusUnprocessableEntity:
			*answer = Yes
		case status.status == http.StatusNotFound, status.status == http.StatusMethodNotAllowed, status.status == http.StatusNotImplemented:
			*answer = No
		}
	}
}

// ofModel reports whether what is not found is a model, which shows that the endpoint is there.
func (e *statusError) ofModel() bool {
	return strings.Contains(e.code, "model") || e.param == "model" || strings.Contains(strings.ToLower(e.message), "model")
}

// cannot reports whether an error shows that a server cannot do what was asked for, rather than that it could not be seen: a key that is not
// taken, a model that is not there and a server that is busy tell nothing of it.
func cannot(err error) bool {
	var status *statusError
	if !errors.As(err, &status) {
		return false
	}
	switch status.status {
	case http.StatusBadRequest, http.StatusUnprocessableEntity, http.StatusMethodNotAllowed, http.StatusUnsupportedMediaType, http.StatusNotImplemented:
		return true
	case http.StatusNotFound:
		return !status.ofModel()
	}
	return false
}

// dot is a picture of one pixel.
const dot = "data:image/png;base64,iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR4nGNgYGBgAAAABQABh6FO1AAAAABJRU5ErkJggg=="

// Probe finds out what a model can do, by short requests: each asks for one thing, and what is refused cannot be done.
func (m *Machine) Probe(ctx context.Context, model string) (Abilities, error) {
	ctx, cancel := context.WithTimeout(ctx, probeTime)
	defer cancel()
	if m.set.Form != nil {
		return Abilities{}, exchange.Errorf(exchange.Invalid, "invalid_value", "the machine %q has a form of its own, of which only text is known", m.name)
	}
	if _, err := m.Model(model); err != nil {
		return Abilities{}, err
	}
	if m.set.Line != nil { // which has said what they can do
		return m.Look().Of(model), nil
	}
	a := m.Look().Abilities
	m.endpoints(ctx, &a)
	type object = map[string]any
	ask := func(extra object) object {
		body := object{"model": model, "max_tokens": 1, "messages": []object{{"role": "user", "content": "hello"}}}
		for k, v := range extra {
			body[k] = v
		}
		return body
	}
	schema := object{"type": "object", "properties": object{"a": object{"type": "integer", "maximum": 9}}, "required": []string{"a"}, "additionalProperties": false}
	probes := []struct {
		answer *Answer
		path   string
		needs  Answer
		body   object
		shows  func(raw string) bool
	}{
		{&a.Usage, chatPath, a.Chat, ask(object{"stream": true, "stream_options": object{"include_usage": true}}), func(raw string) bool { return strings.Contains(raw, `"prompt_tokens"`) }},
		{&a.Streams, chatPath, a.Chat, ask(object{"stream": true}), func(raw string) bool { return strings.HasPrefix(raw, "data:") || strings.Contains(raw, "\ndata:") }},
		{&a.Tools, chatPath, a.Chat, ask(object{"tools": []object{{"type": "function", "function": object{"name": "probe", "parameters": object{"type": "object", "properties": object{}}}}}}), nil},
		{&a.Formats, chatPath, a.Chat, ask(object{"max_tokens": 16, "response_format": object{"type": "json_schema", "json_schema": object{"name": formatName, "schema": schema, "strict": true}}}), kept},
		{&a.Scores, chatPath, a.Chat, ask(object{"logprobs": true, "top_logprobs": 1}), func(raw string) bool { return strings.Contains(raw, `"logprob"`) }},
		{&a.Images, chatPath, a.Chat, ask(object{"messages": []object{{"role": "user", "content": []object{{"type": "text", "text": "hello"}, {"type": "image_url", "image_url": object{"url": dot}}}}}}), nil},
		{&a.TokenPrompts, rawPath, a.Raw, object{"model": model, "max_tokens": 1, "prompt": []int{1}}, nil},
		{&a.RawFormats, rawPath, a.Raw, object{"model": model, "max_tokens": 16, "prompt": "hello", "response_format": object{"type": "json_schema", "json_schema": object{"name": formatName, "schema": schema, "strict": true}}},
			func(raw string) bool {
				var c rawChunk
				return json.Unmarshal([]byte(raw), &c) == nil && len(c.Choices) > 0 && keeps(c.Choices[0].Text)
			}},
	}
	for _, p := range probes {
		if p.needs == No {
			*p.answer = No
			continue
		}
		raw, err := m.probe(ctx, p.path, p.body)
		switch {
		case err == nil && (p.shows == nil || p.shows(raw)):
			*p.answer = Yes
		case err == nil, cannot(err):
			*p.answer = No
		default:
			return a, fmt.Errorf("probing: %w", m.inWords(err))
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if i := slices.IndexFunc(m.look.Models, func(one Model) bool { return one.Name == model }); i >= 0 {
		m.look.Models = slices.Clone(m.look.Models)
		m.look.Models[i].Abilities, m.look.Models[i].Probed = a, time.Now()
	}
	return a, nil
}

// longProbe bounds what is read of the answer to a probe, in bytes.
const longProbe = 256 << 10

func (m *Machine) probe(ctx context.Context, path string, body map[string]any) (string, error) {
	raw, err := json.Marshal(body)
	if err != nil {
		return "", err
	}
	resp, err := m.send(ctx, http.MethodPost, path, raw, nil)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	got, err := io.ReadAll(&bounded{r: resp.Body, left: longProbe})
	return string(got), err
}

// kept reports whether a chat answer keeps to the schema of a probe.
func kept(raw string) bool {
	var c chatChunk
	return json.Unmarshal([]byte(raw), &c) == nil && len(c.Choices) > 0 && c.Choices[0].Message.Content != nil && keeps(*c.Choices[0].Message.Content)
}

func keeps(text string) bool {
	var v map[string]int
	return json.Unmarshal([]byte(text), &v) == nil && len(v) == 1 && v["a"] <= 9
}

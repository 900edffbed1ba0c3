// Package remote answers requests with models of other servers: any that speaks the OpenAI-compatible protocol, those whose own
// JSON over HTTP is described by a [Form], and those that have come by a [Line] of theirs.
//
// What a server says is checked and not trusted: every size, time and value that comes from it is bounded, and what is wrong is an error
// that says so, or is counted here. Before the first token a request may be sent again; after it never.
package remote

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"maps"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"kindredgate/internal/exchange"
)

// Settings say how a server is reached and what is asked of it. Zero limits take the defaults.
type Settings struct {
	URL string // with what the paths of the protocol are appended to, such as https://attic.example/v1
	Key string // for the Authorization header; "" for none
	// Connect bounds making a connection, FirstToken the time until the answer begins, and Silence how long nothing whole may come after that.
	Connect, FirstToken, Silence time.Duration
	LongestAnswer                int64 // in bytes, as they come over the line
	Tries                        int   // before the first token, in all
	// Rest is how long a server that has failed several times in a row is left alone before it is tried again.
	Rest time.Duration
	// ImageAddresses lets addresses of pictures through, which the server would fetch; pictures in the request itself always may.
	ImageAddresses bool
	Models         []string // that are offered; nil for all that the server lists
	Layout         *Layout  // lays out prompts here, for raw completions; nil leaves that to the server
	Form           *Form    // of a server that speaks otherwise; nil for the protocol
	Line           Line     // by which it has come to the gate itself, in the place of the URL; nil if it is asked over HTTP
	Pass           []string // endpoints below the URL that are passed on as they are, such as images
	Fields         []string // of a request, beside those that the gate understands, that are sent along: see [exchange.Carryable]
	// Unusable is why the server cannot be asked as it is set up, such as a file with its key that is missing; "" if it can. It is listed then,
	// and nothing is sent to it.
	Unusable string
}

// Defaults of settings.
const (
	defaultConnect    = 5 * time.Second
	defaultFirstToken = 5 * time.Minute
	defaultSilence    = time.Minute
	defaultAnswer     = 32 << 20
	defaultTries      = 2
	defaultRest       = 10 * time.Second
)

// Machine is a server that has models. It is safe for concurrent use.
type Machine struct {
	name    string
	set     Settings
	base    *url.URL
	client  *http.Client
	breaker *breaker // of connections: what fails there fails for every model
	log     *slog.Logger
	close   context.CancelFunc // of looking after it
	ended   chan struct{}      // when nobody looks after it any more

	mu     sync.Mutex
	look   Look
	open   int           // answers under way
	first  time.Duration // until the first token, a moving mean
	why    string        // it failed last; "" if it works
	faults map[string]int
	models *lru.Cache[string, *modelState] // by name, of those that were asked for
}

// modelState is what is known of asking for one model.
type modelState struct {
	breaker *breaker
	limit   atomic.Pointer[string] // the name under which the server wants the limit of tokens, where it has refused the other; nil if that is not known
}

// New makes a machine. It reaches out when it is asked, or by [Machine.LookAfter].
func New(name string, s Settings, log *slog.Logger) (*Machine, error) {
	base, err := url.Parse(strings.TrimSuffix(s.URL, "/"))
	if s.Line != nil {
		base = nil
	} else if err != nil || base.Scheme != "http" && base.Scheme != "https" || base.Host == "" {
		return nil, fmt.Errorf("%q is no address of a server; one looks like http://attic.example:7717/v1", s.URL)
	}
	if base != nil && (base.User != nil || base.RawQuery != "" || base.Fragment != "") {
		return nil, fmt.Errorf("the address of %s has more in it than a host and a path; a key goes into key_env or key_file", name)
	}
	or := func(d *time.Duration, usual time.Duration) {
		if *d <= 0 {
			*d = usual
		}
	}
	or(&s.Connect, defaultConnect)
	or(&s.FirstToken, defaultFirstToken)
	or(&s.Silence, defaultSilence)
	or(&s.Rest, defaultRest)
	if s.LongestAnswer <= 0 {
		s.LongestAnswer = defaultAnswer
	}
	if s.Tries <= 0 {
		s.Tries = defaultTries
	}
	m := &Machine{name: name, set: s, base: base, log: log, faults: map[string]int{}, close: func() {}, why: s.Unusable}
	if m.look.Abilities = unknownAbilities(); base != nil {
		m.client = newClient(base, s.Connect)
	}
	m.breaker = newBreaker(name, s.Rest, unreached, log)
	if m.models, err = lru.New[string, *modelState](mostModels); err != nil {
		return nil, err
	}
	return m, nil
}

// model is what is known of asking for a model.
func (m *Machine) model(name string) *modelState {
	if s, ok := m.models.Get(name); ok {
		return s
	}
	fresh := &modelState{breaker: newBreaker(m.name+"/"+name, m.set.Rest, func(err error) bool { return counts(err) && !unreached(err) }, m.log)}
	if s, ok, _ := m.models.PeekOrAdd(name, fresh); ok {
		return s
	}
	return fresh
}

// Name is what the machine is called here.
func (m *Machine) Name() string { return m.name }

// Healthy reports whether requests are sent to the machine at all.
func (m *Machine) Healthy() bool {
	return m.set.Unusable == "" && (m.set.Line == nil || m.set.Line.Away() == "") && !m.breaker.open()
}

// Serves reports whether requests for a model are sent to the machine.
func (m *Machine) Serves(model string) bool {
	if !m.Healthy() {
		return false
	}
	s, known := m.models.Peek(model)
	return !known || !s.breaker.open()
}

// unusable is the error for a machine that cannot be asked as it is set up.
func (m *Machine) unusable() error {
	return exchange.Errorf(exchange.Unavailable, "runner_unavailable", "the machine %q cannot be used as it is set up: %s", m.name, m.set.Unusable)
}

// attempt is one try of a request.
type attempt func(ctx context.Context, yield func(exchange.Event) bool) error

// errLeft is for a loop that was left.
var errLeft = errors.New("nobody takes the events any more")

// Run answers a request with one of the machine's models.
func (m *Machine) Run(ctx context.Context, model string, req *exchange.Request) iter.Seq2[exchange.Event, error] {
	return func(yield func(exchange.Event, error) bool) {
		m.count(+1)
		defer m.count(-1)
		try, err := m.prepare(model, req)
		if err == nil {
			err = m.tries(ctx, model, try, func(e exchange.Event) bool { return yield(e, nil) })
		}
		if err != nil && !errors.Is(err, errLeft) {
			yield(nil, m.of(req, m.inWords(err)))
		}
	}
}

func (m *Machine) count(n int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.open += n
}

// of names the field of an error as the client of a request names it.
func (m *Machine) of(req *exchange.Request, err error) error {
	var e *exchange.Error
	if errors.As(err, &e) && e.Param != "" {
		renamed := *e
		renamed.Param = req.FieldOf(e.Param)
		return &renamed
	}
	return err
}

// tries makes attempts at a model until one has begun to answer, or another is of no use.
func (m *Machine) tries(ctx context.Context, model string, try attempt, yield func(exchange.Event) bool) error {
	for n := 1; ; n++ {
		may, err := m.allow(model)
		if err != nil {
			return err
		}
		started := false
		since := time.Now()
		err = try(ctx, func(e exchange.Event) bool {
			if !started {
				started = true
				may.connected()
				m.began(time.Since(since))
			}
			return yield(e)
		})
		if errors.Is(err, errLeft) {
			may.end(context.Canceled)
			return err
		}
		if err != nil && ctx.Err() != nil {
			err = context.Canceled
		}
		may.end(err)
		m.remember(err)
		pause, again := worthAnother(err)
		if err == nil || started || !again || n >= m.set.Tries {
			return err
		}
		m.log.Debug("machine is asked again", "name", m.name, "error", m.hidden(err.Error()))
		select {
		case <-time.After(max(pause, firstPause<<(n-1))):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// permit is leave to send a request, which the breakers of the machine and of the model are told the end of.
type permit struct {
	reached, answered func(error)
	told              bool // the machine's, which need not wait for the end of a long answer
}

// allow asks both breakers whether a request may go out.
func (m *Machine) allow(model string) (*permit, error) {
	if m.set.Unusable != "" {
		return nil, m.unusable()
	}
	reached, err := m.breaker.Allow()
	if err != nil {
		return nil, m.resting("", m.breaker)
	}
	of := m.model(model).breaker
	answered, err := of.Allow()
	if err != nil {
		reached(context.Canceled)
		return nil, m.resting(model, of)
	}
	return &permit{reached: reached, answered: answered}, nil
}

// connected says that the machine was reached: the first token is there.
func (p *permit) connected() {
	p.told = true
	p.reached(nil)
}

func (p *permit) end(err error) {
	if !p.told {
		p.reached(err)
	}
	p.answered(err)
}

// firstPause is how long to wait before the second try.
const firstPause = 50 * time.Millisecond

// began notes how long the first token took.
func (m *Machine) began(took time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.first == 0 {
		m.first = took
	}
	m.first += (took - m.first) / 8
}

// remember notes why a try failed.
func (m *Machine) remember(err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	switch {
	case err == nil:
		m.why = ""
	case counts(err):
		m.why = m.inShort(err)
	}
}

// inShort is what an error says of the machine, without its name.
func (m *Machine) inShort(err error) string {
	return strings.TrimPrefix(exchange.AsError(m.inWords(err)).Message, fmt.Sprintf("the machine %q ", m.name))
}

// fault counts what a machine said that was wrong, and could be put right.
func (m *Machine) fault(what string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.faults[what]++
}

// hidden takes the key out of a text, in which a server may repeat it, as it is or as it stands in an address.
func (m *Machine) hidden(text string) string {
	if m.set.Key == "" {
		return text
	}
	for _, written := range []string{m.set.Key, url.QueryEscape(m.set.Key), url.PathEscape(m.set.Key), base64.StdEncoding.EncodeToString([]byte(m.set.Key))} {
		text = strings.ReplaceAll(text, written, "…")
	}
	return text
}

// hiddenError is an error without the key in what it says.
type hiddenError struct {
	error
	m *Machine
}

func (e *hiddenError) Error() string { return e.m.hidden(e.error.Error()) }
func (e *hiddenError) Unwrap() error { return e.error }

// resting is the error while the circuit of the machine is open, or that of one of its models.
func (m *Machine) resting(model string, b *breaker) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	wait := max(0, m.set.Rest-time.Since(b.opened()))
	of := ""
	if model != "" {
		of = fmt.Sprintf(" for %q", model)
	}
	return &exchange.Error{Kind: exchange.Unavailable, Code: unavailable, RetryAfter: max(time.Second, wait),
		Message: fmt.Sprintf("the machine %q is not asked%s now, since it failed several times in a row: it %s; next try in %s", m.name, of, m.why, wait.Round(time.Second))}
}

// unavailable is the code of errors about a machine that cannot answer.
const unavailable = "runner_unavailable"

// prepare makes an attempt of a request: in the best style that the machine has.
func (m *Machine) prepare(model string, req *exchange.Request) (attempt, error) {
	if m.set.Unusable != "" {
		return nil, m.unusable()
	}
	can := m.Look().Abilities
	for _, t := range req.Turns {
		for _, p := range t.Parts {
			if image, ok := p.(exchange.Image); ok && !m.set.ImageAddresses && m.set.Line == nil && !strings.HasPrefix(strings.ToLower(image.URL), "data:") {
				return nil, exchange.InvalidParam(image.At, "%s is the address of a picture, which the machine %q would have to fetch; send the picture itself (data:), or let addresses through (runners.%s.image_addresses)", image.At, m.name, m.name)
			}
		}
	}
	switch {
	case req.Wanted != nil && m.set.Line == nil:
		return nil, exchange.InvalidParam("model", "the log-probability of an answer can be told of models that run here only; %q is on the machine %q", model, m.name)
	case m.set.Line != nil:
		return m.lined(model, req)
	case m.set.Form != nil:
		return m.formed(model, req)
	case m.set.Layout != nil && req.Raw == nil:
		return m.laidOut(model, req)
	case req.Raw != nil:
		return m.raw(model, req)
	case req.Template != "":
		return nil, exchange.InvalidParam("model", "a template of a preset needs prompts that are rendered here; the machine %q does that itself (runners.%s.layout changes it)", m.name, m.name)
	case can.Chat == No && can.Responses == Yes:
		return m.respond(model, req)
	}
	return m.chat(model, req)
}

// reserve takes an estimate of a prompt's tokens of the caller's limits, since the machine tells them only afterwards: a token for four bytes.
func reserve(req *exchange.Request) error {
	return reserveTokens(req, EstimateTokens(req))
}

// reserveTokens takes tokens of a prompt of the caller's limits. What is sent is taken to be read, even if nobody waits for the answer.
func reserveTokens(req *exchange.Request, tokens int) error {
	if req.Reserve != nil {
		if err := req.Reserve(tokens); err != nil {
			return err
		}
	}
	if req.Reading != nil {
		req.Reading(tokens)
	}
	return nil
}

// bytesOfToken is how many a token of a prompt has, roughly.
const bytesOfToken = 4

// EstimateTokens is about how many tokens the prompt of a request has, for models that do not say.
func EstimateTokens(req *exchange.Request) int {
	n := 0
	if req.Raw != nil {
		n = len(req.Raw.Text) + len(req.Raw.Suffix) + bytesOfToken*len(req.Raw.Tokens)
	}
	for _, t := range req.Turns {
		for _, p := range t.Parts {
			switch p := p.(type) {
			case exchange.Text:
				n += len(p)
			case exchange.Refusal:
				n += len(p)
			case exchange.ToolCall:
				n += len(p.Name) + len(p.Arguments)
			case exchange.ToolResult:
				n += len(p.Content)
			case exchange.Image:
				n += 1000 * bytesOfToken
			}
		}
		n += bytesOfToken
	}
	for _, t := range req.Tools {
		n += len(t.Name) + len(t.Description) + len(t.Parameters)
	}
	return (n + bytesOfToken - 1) / bytesOfToken
}

// State is how a machine does.
type State struct {
	Name      string         `json:"name"`
	Kind      Kind           `json:"kind"`
	URL       string         `json:"url"` // "" if it has joined
	Healthy   bool           `json:"healthy"`
	Why       string         `json:"why,omitempty"`   // it failed last
	Open      int            `json:"open"`            // answers under way
	FirstMS   float64        `json:"first_token_ms"`  // a moving mean; 0 if there was none
	Faults    map[string]int `json:"faults"`          // what it said that was wrong, by what
	Mode      string         `json:"mode"`            // conversation, prompt or form
	Pass      []string       `json:"pass"`            // endpoints that are passed on
	Looked    time.Time      `json:"looked,omitzero"` // when it was looked at last
	LookMS    float64        `json:"look_ms"`         // that listing its models took
	Models    []Model        `json:"models"`
	Abilities Abilities      `json:"abilities"`
}

// Kind is how a machine is reached.
type Kind string

// The kinds.
const (
	Server Kind = "server" // over HTTP, at its URL
	Joined Kind = "joined" // by a line that it has made itself
)

func address(u *url.URL) string {
	if u == nil {
		return ""
	}
	return u.String()
}

// State tells how the machine does.
func (m *Machine) State() State {
	healthy := m.Healthy()
	m.mu.Lock()
	defer m.mu.Unlock()
	s := State{Name: m.name, Kind: Server, URL: address(m.base), Healthy: healthy, Why: m.why, Open: m.open, FirstMS: float64(m.first.Microseconds()) / 1000, Faults: map[string]int{}, Mode: "conversation",
		Pass: append([]string{}, m.set.Pass...), Looked: m.look.At, LookMS: float64(m.look.Took.Microseconds()) / 1000, Models: append([]Model{}, m.look.Models...), Abilities: m.look.Abilities}
	switch {
	case m.set.Line != nil:
		look := m.lineLook()
		s.Kind, s.URL, s.Looked, s.Models, s.Abilities = Joined, "", look.At, look.Models, look.Abilities
		s.Why = cmp.Or(m.set.Line.Away(), s.Why)
	case m.set.Form != nil:
		s.Mode = "form"
	case m.set.Layout != nil:
		s.Mode = "prompt"
	}
	for i := range s.Models {
		if of, asked := m.models.Peek(s.Models[i].Name); asked {
			s.Models[i].Failing = of.breaker.open()
		}
	}
	maps.Copy(s.Faults, m.faults)
	return s
}

// Close ends looking after the machine. Answers under way come to their end.
func (m *Machine) Close() {
	m.close()
	if m.ended != nil {
		<-m.ended
	}
	if m.client != nil {
		m.client.CloseIdleConnections()
	}
}

// Private reports whether nobody on the way can read what is said: the line is encrypted, or does not leave this computer.
func (m *Machine) Private() bool {
	if m.set.Line != nil {
		return true
	}
	ip, err := netip.ParseAddr(m.base.Hostname())
	return m.base.Scheme == "https" || m.base.Hostname() == "localhost" || err == nil && ip.Unmap().IsLoopback()
}

// Passes reports whether an endpoint is passed on.
func (m *Machine) Passes(endpoint string) bool { return slices.Contains(m.set.Pass, endpoint) }

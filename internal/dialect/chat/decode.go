// Package chat is the chat style: the wire types of POST /v1/chat/completions, translated to the neutral
// form and back. The reference for fields and events is the public interface description of that endpoint.
package chat

import (
	"regexp"
	"strconv"

	"kindredgate/internal/dialect/field"
	"kindredgate/internal/exchange"
)

// Call is a decoded request.
type Call struct {
	exchange.Request
	Stream       bool
	IncludeUsage bool     // whether the stream ends with the usage
	Unknown      []string // fields that mean nothing here; they were ignored
}

// Limits of a request.
const (
	maxStops      = 16
	maxCandidates = 8
	maxTurns      = 10_000
)

// withoutEffect are fields that are accepted and change nothing: they are about a hosted service's storage,
// billing and routing, or hints.
var withoutEffect = []string{
	"metadata", "store", "user", "safety_identifier", "prompt_cache_key", "prompt_cache_retention", "service_tier",
	"parallel_tool_calls", "verbosity", "prediction",
}

// Decode reads the body of a request. The error is an [exchange.Error] that names the field.
func Decode(body []byte) (*Call, error) {
	o, err := field.Parse(body)
	if err != nil {
		return nil, err
	}
	c := &Call{}
	var ok bool
	if c.Model, ok = o.String("model"); !ok || c.Model == "" {
		o.Fail("model", "model is missing; GET /v1/models lists the installed ones")
	}
	c.Turns = turns(o)
	c.Stream = o.Bool("stream")
	if options := o.Object("stream_options"); options != nil {
		if !c.Stream {
			o.Fail("stream_options", "stream_options goes with \"stream\": true only")
		}
		c.IncludeUsage = options.Bool("include_usage")
	}
	// The newer name of the two wins.
	for _, name := range []string{"max_tokens", "max_completion_tokens"} {
		if n := o.Int(name, 1, 1<<31-1); n != nil {
			c.MaxTokens = int(*n)
		}
	}
	if n := o.Int("n", 1, maxCandidates); n != nil {
		c.Candidates = int(*n)
	}
	c.Stop = o.Strings("stop")
	if len(c.Stop) > maxStops {
		o.Fail("stop", "stop has %d strings; %d are possible", len(c.Stop), maxStops)
	}
	for i, s := range c.Stop {
		if s == "" {
			o.Fail("stop", "stop string %d is empty, which would end every answer at once", i)
		}
	}
	sampling(o, &c.Sampling)
	c.Tools = tools(o)
	c.Thinking = thinking(o)
	refuse(o)
	o.Ignore(withoutEffect...)
	c.Unknown = o.Unread()
	return c, o.Err()
}

func sampling(o *field.Object, s *exchange.Sampling) {
	s.Temperature = o.Float("temperature", 0, 2)
	s.TopP = o.Float("top_p", 0, 1)
	if s.TopP != nil && *s.TopP == 0 {
		// No probability at all leaves the most likely token alone.
		s.TopP, s.Temperature = nil, new(float64)
	}
	if k := o.Int("top_k", 0, 1<<31-1); k != nil {
		n := int(*k)
		s.TopK = &n
	}
	s.Seed = o.Int("seed", -1<<63, 1<<63-1)
	if p := o.Float("frequency_penalty", -2, 2); p != nil {
		s.FrequencyPenalty = *p
	}
	if p := o.Float("presence_penalty", -2, 2); p != nil {
		s.PresencePenalty = *p
	}
	if bias := o.Object("logit_bias"); bias != nil {
		s.LogitBias = map[int32]float64{}
		for _, name := range bias.Unread() {
			id, err := strconv.ParseInt(name, 10, 32)
			if err != nil || id < 0 {
				o.Fail("logit_bias", "logit_bias has the key %q, which is not a token id", name)
			}
			if b := bias.Float(name, -100, 100); b != nil {
				s.LogitBias[int32(id)] = *b
			}
		}
	}
}

// maxTools is how many tools may be offered.
const maxTools = 128

// tools reads the tools that are offered, unless none is to be called: then the model is not shown them.
func tools(o *field.Object) (list []exchange.Tool) {
	for i, t := range o.Objects("tools") {
		if i == maxTools {
			o.Fail("tools", "there are more than %d tools", maxTools)
			break
		}
		if kind, _ := t.String("type"); kind != "function" {
			t.Fail("type", "%s is %q; \"function\" is possible", t.Path("type"), kind)
		}
		fn := t.Object("function")
		if fn == nil {
			t.Fail("function", "%s is missing", t.Path("function"))
			continue
		}
		tool := exchange.Tool{}
		if tool.Name, _ = fn.String("name"); !toolName.MatchString(tool.Name) {
			fn.Fail("name", "%s is %q; a name has 1 to 64 letters, digits, \"_\", \"-\" or \".\"", fn.Path("name"), tool.Name)
		}
		tool.Description, _ = fn.String("description")
		if fn.Object("parameters") != nil {
			tool.Parameters, _ = fn.Raw("parameters")
		}
		if fn.Bool("strict") {
			fn.Fail("strict", "strict tools are not supported yet; leave %s out", fn.Path("strict"))
		}
		list = append(list, tool)
	}
	if raw, ok := o.Raw("tool_choice"); ok {
		switch string(raw) {
		case `"auto"`:
		case `"none"`:
			return nil
		default:
			o.Fail("tool_choice", "tool_choice %s is not supported yet; \"auto\" and \"none\" are", raw)
		}
	}
	return list
}

var toolName = regexp.MustCompile(`^[A-Za-z0-9_.-]{1,64}$`)

// thinking reads whether the model is to reason first. Templates know yes and no only, so every effort but "none"
// is yes.
func thinking(o *field.Object) bool {
	effort, ok := o.String("reasoning_effort")
	switch effort {
	case "none":
		return false
	case "minimal", "low", "medium", "high", "xhigh":
		return true
	}
	if ok {
		o.Fail("reasoning_effort", "reasoning_effort is %q; it must be none, minimal, low, medium, high or xhigh", effort)
	}
	return false
}

// refuse names what cannot be honoured yet, rather than answering as if it had not been asked for.
func refuse(o *field.Object) {
	for newer, older := range map[string]string{"tools": "functions", "tool_choice": "function_call"} {
		if _, ok := o.Raw(older); ok {
			o.Fail(older, "%s was replaced by %s in the standard; use that", older, newer)
		}
	}
	if f := o.Object("response_format"); f != nil {
		if t, _ := f.String("type"); t != "text" {
			o.Fail("response_format", "response_format %q is not supported yet; \"text\" is", t)
		}
	}
	if o.Bool("logprobs") {
		o.Fail("logprobs", "log-probabilities are not supported yet; leave the field out")
	}
	if n := o.Int("top_logprobs", 0, 20); n != nil && *n > 0 {
		o.Fail("top_logprobs", "log-probabilities are not supported yet; leave the field out")
	}
	for _, m := range o.Strings("modalities") {
		if m != "text" {
			o.Fail("modalities", "the modality %q is not supported; \"text\" is", m)
		}
	}
	for _, name := range []string{"audio", "web_search_options"} {
		if _, ok := o.Raw(name); ok {
			o.Fail(name, "%s is not supported; leave the field out", name)
		}
	}
}

// roles of the wire, and what they are here. "developer" is the newer word for "system".
var roles = map[string]exchange.Role{
	"system": exchange.System, "developer": exchange.System, "user": exchange.User, "assistant": exchange.Assistant, "tool": exchange.ToolRole,
}

func turns(o *field.Object) []exchange.Turn {
	if _, ok := o.Raw("messages"); !ok {
		o.Fail("messages", "messages is missing: a list such as [{\"role\": \"user\", \"content\": \"…\"}]")
		return nil
	}
	messages := o.Objects("messages")
	switch {
	case o.Err() != nil:
		return nil
	case len(messages) == 0:
		o.Fail("messages", "messages is empty; at least one turn is needed")
	case len(messages) > maxTurns:
		o.Fail("messages", "messages has %d turns; %d are possible", len(messages), maxTurns)
	}
	list := make([]exchange.Turn, len(messages))
	for i, m := range messages {
		name, ok := m.String("role")
		role, known := roles[name]
		if !ok || !known {
			m.Fail("role", "%s is %q; it must be system, developer, user, assistant or tool", m.Path("role"), name)
		}
		list[i] = exchange.Turn{Role: role, Parts: parts(m, role)}
	}
	return list
}

func parts(m *field.Object, role exchange.Role) (list []exchange.Part) {
	text := content(m)
	calls := m.Objects("tool_calls")
	if len(calls) > 0 && role != exchange.Assistant {
		m.Fail("tool_calls", "%s belongs in an assistant's turn", m.Path("tool_calls"))
	}
	if role == exchange.ToolRole {
		id, ok := m.String("tool_call_id")
		if !ok {
			m.Fail("tool_call_id", "%s is missing: it says which call the result is of", m.Path("tool_call_id"))
		}
		return []exchange.Part{exchange.ToolResult{CallID: id, Content: joined(text)}}
	}
	if _, ok := m.Raw("content"); !ok && (role != exchange.Assistant || len(calls) == 0) {
		m.Fail("content", "%s is missing", m.Path("content"))
	}
	list = text
	for _, call := range calls {
		id, _ := call.String("id")
		fn := call.Object("function")
		if fn == nil {
			call.Fail("function", "%s is missing", call.Path("function"))
			continue
		}
		name, ok := fn.String("name")
		if !ok {
			fn.Fail("name", "%s is missing", fn.Path("name"))
		}
		arguments, _ := fn.String("arguments")
		list = append(list, exchange.ToolCall{ID: id, Name: name, Arguments: arguments})
	}
	return list
}

func joined(parts []exchange.Part) string { return exchange.Turn{Parts: parts}.Text() }

// content reads a turn's text, or its list of parts.
func content(m *field.Object) (list []exchange.Part) {
	if _, ok := m.Raw("content"); !ok {
		return nil
	}
	if m.IsString("content") {
		s, _ := m.String("content")
		return []exchange.Part{exchange.Text(s)}
	}
	for _, part := range m.Objects("content") {
		switch t, _ := part.String("type"); t {
		case "text":
			s, ok := part.String("text")
			if !ok {
				part.Fail("text", "%s is missing", part.Path("text"))
			}
			list = append(list, exchange.Text(s))
		case "refusal":
			s, _ := part.String("refusal")
			list = append(list, exchange.Text(s))
		case "image_url", "input_audio", "file":
			part.Fail("type", "%s is %q: the installed models take text only", part.Path("type"), t)
		default:
			part.Fail("type", "%s is %q; \"text\" is possible", part.Path("type"), t)
		}
	}
	return list
}

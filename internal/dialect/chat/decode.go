// Package chat is the chat style: the wire types of POST /v1/chat/completions, translated to the neutral
// form and back. The reference for fields and events is the public interface description of that endpoint.
package chat

import (
	"kindredgate/internal/dialect/field"
	"kindredgate/internal/dialect/wire"
	"kindredgate/internal/exchange"
)

// Call is a decoded request.
type Call struct {
	exchange.Request
	Stream       bool
	IncludeUsage bool            // whether the stream ends with the usage
	Unknown      []field.Ignored // fields that mean nothing here; they were ignored
}

// maxTurns is how many turns a conversation may have.
const maxTurns = 10_000

// withoutEffect are fields that are accepted and change nothing: they are about a hosted service's storage,
// billing and routing, or hints. Others of their kind are carried to machines that take them: see [wire.Carried].
var withoutEffect = []string{
	"store", "prompt_cache_retention", "prompt_cache_options", "moderation",
}

// maxTop is how many alternatives a token may come with.
const maxTop = 20

// Decode reads the body of a request. The error is an [exchange.Error] that names the field.
func Decode(body []byte) (*Call, error) {
	o, err := field.Parse(body)
	if err != nil {
		return nil, err
	}
	c := &Call{}
	refuse(o)
	c.Model = wire.Model(o)
	c.Turns = turns(o)
	c.Stream, c.IncludeUsage = wire.Stream(o)
	c.MaxTokens = wire.MaxTokens(o, "max_tokens")
	if n := wire.MaxTokens(o, "max_completion_tokens"); n > 0 {
		c.MaxTokens = n // the newer name wins
		c.Fields = map[string]string{"max_tokens": "max_completion_tokens"}
	}
	if n := o.Int("n", 1, wire.MaxCandidates); n != nil {
		c.Candidates = int(*n)
	}
	c.Stop = wire.Stop(o)
	c.Sampling = wire.Sampling(o)
	c.Tools = wire.Tools(o, function, nil)
	c.Tools, c.Choice = wire.Choice(o, c.Tools, wire.Chooser{Function: function, Allowed: func(choice *field.Object) *field.Object {
		list := choice.Object("allowed_tools")
		if list == nil {
			choice.Fail("allowed_tools", "%s is missing: it lists the tools that may be called", choice.Path("allowed_tools"))
		}
		return list
	}})
	c.Format = wire.Format(o.Object("response_format"), func(f *field.Object) *field.Object { return f.Object("json_schema") })
	c.Thinking, c.Effort = wire.Effort(o, "reasoning_effort")
	logprobs := o.Bool("logprobs")
	top := o.Int("top_logprobs", 0, maxTop)
	switch {
	case logprobs:
		c.Scores = new(int)
		if top != nil {
			*c.Scores = int(*top)
		}
	case top != nil && *top > 0:
		o.Fail("top_logprobs", "top_logprobs goes with \"logprobs\": true only")
	}
	c.Carried = wire.Carried(o, exchange.Carryable...)
	o.Ignore(withoutEffect...)
	c.Unknown = o.Ignored()
	return c, o.Err()
}

func function(tool *field.Object) *field.Object {
	fn := tool.Object("function")
	if fn == nil {
		tool.Fail("function", "%s is missing", tool.Path("function"))
	}
	return fn
}

// refuse names what cannot be honoured, rather than answering as if it had not been asked for.
func refuse(o *field.Object) {
	wire.Refuse(o,
		wire.Elsewhere{Name: "functions", Instead: "the standard replaced it by tools"},
		wire.Elsewhere{Name: "function_call", Instead: "the standard replaced it by tool_choice"},
		wire.Elsewhere{Name: "input", Instead: "the conversation is in messages in this style; input is for /v1/responses"},
		wire.Elsewhere{Name: "prompt", Instead: "the conversation is in messages in this style; a prompt goes to /v1/generate, or to /v1/completions, which give it to the model as it is"},
		wire.Elsewhere{Name: "instructions", Instead: "in this style they are a message with the role system"},
		wire.Elsewhere{Name: "max_output_tokens", Instead: "in this style it is called max_completion_tokens"},
		wire.Elsewhere{Name: "text", Instead: "in this style the format is in response_format"},
		wire.Elsewhere{Name: "format", Instead: "in this style it is called response_format"},
		wire.Elsewhere{Name: "reasoning", Instead: "in this style it is called reasoning_effort"},
		wire.Elsewhere{Name: "previous_response_id", Instead: "in this style the whole conversation is sent each time; /v1/responses keeps it"},
	)
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
		list[i].Name, _ = m.String("name")
		m.Ignore("annotations", "audio", "function_call", "reasoning", "reasoning_content") // of answers that are sent back
	}
	exchange.InOrderOfCalls(list)
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
		return append([]exchange.Part{exchange.ToolResult{CallID: id, Content: joined(text)}}, wire.Pictures(text)...)
	}
	list = text
	if role == exchange.Assistant {
		if s, ok := m.String("refusal"); ok {
			list = append(list, exchange.Refusal(s))
		}
	}
	if _, ok := m.Raw("content"); !ok && len(list) == 0 && len(calls) == 0 {
		if role != exchange.Assistant {
			m.Fail("content", "%s is missing", m.Path("content"))
		}
		list = append(list, exchange.Text("")) // the types let an assistant say nothing
	}
	for _, call := range calls {
		id, _ := call.String("id")
		call.Ignore("type", "index")
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
	if m.Kind("content") == field.Text {
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
			list = append(list, exchange.Refusal(s))
		case "image_url":
			if image := part.Object("image_url"); image != nil {
				list = append(list, wire.Image(image, "url"))
			} else {
				part.Fail("image_url", "%s is missing: it holds the picture's url", part.Path("image_url"))
			}
		case "input_audio", "file":
			part.Fail("type", "%s is %q, which is not there yet: models take text, and some take pictures", part.Path("type"), t)
		default:
			part.Fail("type", "%s is %q; \"text\" and \"image_url\" are possible", part.Path("type"), t)
		}
	}
	return list
}

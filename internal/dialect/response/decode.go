// Package response is the response style: the wire types of /v1/responses, translated to the neutral form and back. The
// reference is the public interface description of that endpoint and the open specification that extends it.
//
// A request holds items (messages, calls of tools, what they gave, reasoning), and so does an answer; the items of an
// answer can be sent back as they are. A stream tells of every item as it opens, fills and closes.
package response

import (
	"encoding/json"
	"slices"
	"strings"

	"kindredgate/internal/dialect/field"
	"kindredgate/internal/dialect/wire"
	"kindredgate/internal/exchange"
)

// Call is a decoded request.
type Call struct {
	exchange.Request
	Stream     bool
	Store      bool
	Background bool
	Previous   string            // the response whose conversation this one goes on; empty for none
	Input      []json.RawMessage // the items of the request, each with its type
	Unknown    []field.Ignored   // fields that mean nothing here; they were ignored
	References []string          // ids of items elsewhere that stand among those of the request, until [Call.Resolve]
	Body       json.RawMessage   // of the request, of one in the background
	sealed     bool              // reasoning comes in a form to be sent back, too
	settings   settings
}

// settings are the parts of a request that its response repeats.
type settings struct {
	Instructions     json.RawMessage   `json:"instructions"`
	MaxOutputTokens  *int              `json:"max_output_tokens"`
	MaxToolCalls     *int64            `json:"max_tool_calls"`
	Parallel         bool              `json:"parallel_tool_calls"`
	Previous         *string           `json:"previous_response_id"`
	Reasoning        reasoning         `json:"reasoning"`
	Store            bool              `json:"store"`
	Background       bool              `json:"background"`
	ServiceTier      string            `json:"service_tier"`
	Temperature      *float64          `json:"temperature"`
	TopP             *float64          `json:"top_p"`
	PresencePenalty  *float64          `json:"presence_penalty"`
	FrequencyPenalty *float64          `json:"frequency_penalty"`
	TopLogprobs      *int64            `json:"top_logprobs"`
	Text             textConfig        `json:"text"`
	ToolChoice       json.RawMessage   `json:"tool_choice"`
	Tools            []json.RawMessage `json:"tools"`
	Truncation       string            `json:"truncation"`
	Metadata         map[string]string `json:"metadata"`
	User             *string           `json:"user"`
	SafetyIdentifier *string           `json:"safety_identifier"`
	PromptCacheKey   *string           `json:"prompt_cache_key"`
	CacheRetention   *string           `json:"prompt_cache_retention"`
	Conversation     *struct{}         `json:"conversation"` // null: conversations are not kept apart from responses
	Prompt           *struct{}         `json:"prompt"`       // null: presets take the place of stored prompts
	Moderation       *struct{}         `json:"moderation"`   // null
}

type reasoning struct {
	Effort  *string `json:"effort"`
	Summary *string `json:"summary"`
}

type textConfig struct {
	Format    json.RawMessage `json:"format"`
	Verbosity *string         `json:"verbosity"`
}

// Limits of a request.
const (
	maxItems  = 10_000
	maxTop    = 20
	logprobs  = "message.output_text.logprobs"
	inputName = "input"
	// sealedReasoning asks for reasoning in a form that can be sent back by who does not have responses stored.
	sealedReasoning = "reasoning.encrypted_content"
)

// withoutEffect are fields that are accepted and change nothing.
var withoutEffect = []string{"prompt_cache_options", "stream_options", "moderation"}

// includable is what may be asked to be in a response. All but log-probabilities and reasoning is about tools that the gate does not
// have, or wants nothing done.
var includable = []string{logprobs, sealedReasoning, "file_search_call.results", "web_search_call.results",
	"web_search_call.action.sources", "message.input_image.image_url", "computer_call_output.output.image_url", "code_interpreter_call.outputs"}

// Decode reads the body of a request. The error is an [exchange.Error] that names the field.
func Decode(body []byte) (*Call, error) {
	o, err := field.Parse(body)
	if err != nil {
		return nil, err
	}
	c, err := decode(o, true)
	if err == nil && c.Background {
		c.Body = body
	}
	return c, err
}

// DecodeToCount reads the body of a request whose tokens are to be counted, and DecodeToCompact that of one whose conversation is to be
// made shorter. Both may lack an input.
func DecodeToCount(body []byte) (*Call, error)   { return decodeApart(body, "personality") }
func DecodeToCompact(body []byte) (*Call, error) { return decodeApart(body) }

func decodeApart(body []byte, ignored ...string) (*Call, error) {
	o, err := field.Parse(body)
	if err != nil {
		return nil, err
	}
	o.Ignore(ignored...)
	return decode(o, false)
}

func decode(o *field.Object, needsInput bool) (*Call, error) {
	c := &Call{Store: true}
	refuse(o)
	c.Model = wire.Model(o)
	s := &c.settings
	c.Stream, c.Background = o.Bool("stream"), o.Bool("background")
	if _, ok := o.Raw("store"); ok {
		c.Store = o.Bool("store")
	}
	if c.Background && !c.Store {
		o.Fail("background", "a response in the background has to be stored to be got later; leave \"store\": false out")
	}
	c.Previous, _ = o.String("previous_response_id")
	if c.Previous != "" {
		s.Previous = &c.Previous
	}
	s.Store, s.Background = c.Store, c.Background

	s.Instructions = json.RawMessage("null")
	if text, ok := o.String("instructions"); ok {
		s.Instructions, _ = o.Raw("instructions")
		c.Turns = append(c.Turns, exchange.Turn{Role: exchange.System, Parts: []exchange.Part{exchange.Text(text)}})
	}
	if needsInput || o.Kind(inputName) != field.Missing {
		c.Turns = append(c.Turns, c.input(o)...)
	}

	if n := wire.MaxTokens(o, "max_output_tokens"); n > 0 {
		c.MaxTokens, s.MaxOutputTokens = n, &n
	}
	if s.MaxToolCalls = o.Int("max_tool_calls", 1, 1<<31-1); s.MaxToolCalls != nil {
		c.MaxRuns = int(*s.MaxToolCalls)
	}
	c.Sampling = wire.Sampling(o)
	c.Stop = wire.Stop(o)
	s.Temperature, s.TopP = o.Float("temperature", 0, 2), o.Float("top_p", 0, 1)
	s.PresencePenalty, s.FrequencyPenalty = o.Float("presence_penalty", -2, 2), o.Float("frequency_penalty", -2, 2)
	if s.Truncation = o.OneOf("truncation", "auto", "disabled"); s.Truncation == "" {
		s.Truncation = "disabled"
	}
	c.Truncate = s.Truncation == "auto"
	s.Metadata = o.Texts("metadata", wire.MaxMetadata)
	if s.Metadata == nil {
		s.Metadata = map[string]string{}
	}
	if s.ServiceTier = o.OneOf("service_tier", "auto", "default", "flex", "scale", "priority", "fast"); s.ServiceTier == "" || s.ServiceTier == "auto" {
		s.ServiceTier = "default"
	}
	c.reasoning(o)
	c.text(o)
	c.tools(o)
	c.include(o)
	text := func(name string) *string {
		if v, ok := o.String(name); ok {
			return &v
		}
		return nil
	}
	s.User, s.SafetyIdentifier, s.PromptCacheKey, s.CacheRetention = text("user"), text("safety_identifier"), text("prompt_cache_key"), text("prompt_cache_retention")
	c.Fields = map[string]string{"messages": inputName, "max_tokens": "max_output_tokens", "max_completion_tokens": "max_output_tokens", "response_format": "text.format",
		"reasoning_effort": "reasoning.effort", "verbosity": "text.verbosity"}
	c.Carried = wire.Carried(o, "metadata", "user", "service_tier", "safety_identifier", "prompt_cache_key")
	if v := s.Text.Verbosity; v != nil {
		if c.Carried == nil {
			c.Carried = map[string]json.RawMessage{}
		}
		c.Carried["verbosity"] = marshal(v)
	}
	o.Ignore(withoutEffect...)
	c.Unknown = o.Ignored()
	return c, o.Err()
}

// refuse names what means something elsewhere.
func refuse(o *field.Object) {
	wire.Refuse(o,
		wire.Elsewhere{Name: "conversation", Instead: "go on from a response with previous_response_id"},
		wire.Elsewhere{Name: "prompt", Instead: "a stored prompt is a preset here, which is named as the model; what the model is asked goes into input"},
		wire.Elsewhere{Name: "context_management", Instead: "\"truncation\": \"auto\" drops the oldest turns"},
		wire.Elsewhere{Name: "messages", Instead: "in this style they are called input; messages are for /v1/chat/completions"},
		wire.Elsewhere{Name: "max_tokens", Instead: "in this style it is called max_output_tokens"},
		wire.Elsewhere{Name: "max_completion_tokens", Instead: "in this style it is called max_output_tokens"},
		wire.Elsewhere{Name: "response_format", Instead: "in this style the format is in text.format"},
		wire.Elsewhere{Name: "reasoning_effort", Instead: "in this style it is reasoning.effort"},
		wire.Elsewhere{Name: "n", Instead: "this style gives one answer; /v1/chat/completions gives several"},
		wire.Elsewhere{Name: "logprobs", Instead: "in this style include asks for \"" + logprobs + "\""},
	)
}

// input reads a text or a list of items.
func (c *Call) input(o *field.Object) []exchange.Turn {
	switch o.Kind(inputName) {
	case field.Missing:
		if c.Previous == "" {
			o.Fail(inputName, "input is missing: a text, or a list of items")
		}
		return nil
	case field.Text:
		text, _ := o.String(inputName)
		c.Input = []json.RawMessage{marshal(&Message{Type: "message", Role: "user", Status: completed, Content: []any{InputText{"input_text", text}}})}
		return []exchange.Turn{{Role: exchange.User, Parts: []exchange.Part{exchange.Text(text)}}}
	}
	objects := o.Objects(inputName)
	if len(objects) > maxItems {
		o.Fail(inputName, "input has %d items; %d are possible", len(objects), maxItems)
		return nil
	}
	if len(objects) == 0 && c.Previous == "" {
		o.Fail(inputName, "input is an empty list; at least one item is needed")
	}
	raw := o.Items(inputName)
	for i, item := range raw {
		c.Input = append(c.Input, typed(objects[i], item))
		if id, ok := reference(objects[i]); ok {
			c.References = append(c.References, id)
		}
	}
	return c.turns(objects)
}

// turns makes a conversation of the request's own items, with what they say of approvals.
func (c *Call) turns(items []*field.Object) []exchange.Turn {
	list, approvals := turns(items)
	c.Approvals = approvals
	return list
}

// referenceType is the type of an item that stands for another.
const referenceType = "item_reference"

// reference is the id of the item that an item stands for. Its type may be left out, as that of a message.
func reference(o *field.Object) (id string, ok bool) {
	kind, _ := o.String("type")
	if kind != referenceType && (kind != "" || o.Kind("role") != field.Missing || o.Kind("content") != field.Missing) {
		return "", false
	}
	id, ok = o.String("id")
	if kind == referenceType && !ok {
		o.Fail("id", "%s is missing: that of the item that is meant", o.Path("id"))
	}
	return id, ok
}

// Resolve puts items in the place of references to them.
func (c *Call) Resolve(items map[string]json.RawMessage) error {
	for i, raw := range c.Input {
		var r struct{ ID string }
		if json.Unmarshal(raw, &r) == nil && items[r.ID] != nil && slices.Contains(c.References, r.ID) {
			c.Input[i] = items[r.ID]
		}
	}
	c.Turns = c.Turns[:c.instructed()]
	return c.Before(c.Input)
}

// instructed is how many turns the instructions are.
func (c *Call) instructed() int {
	if string(c.settings.Instructions) != "null" {
		return 1
	}
	return 0
}

// typed gives an item what may be left out of it: of a message its type, its status, and the parts that its text is in.
func typed(o *field.Object, raw json.RawMessage) json.RawMessage {
	var m map[string]json.RawMessage
	if json.Unmarshal(raw, &m) != nil || m == nil {
		return raw // what is wrong with it is said elsewhere
	}
	if _, ok := reference(o); ok {
		m["type"] = marshal(referenceType)
		return marshal(m)
	}
	if kind, _ := o.String("type"); kind != "" && kind != "message" {
		return raw
	}
	m["type"] = marshal("message")
	if _, ok := o.Raw("status"); !ok {
		m["status"] = marshal(completed)
	}
	if o.Kind("content") == field.Text {
		text, _ := o.String("content")
		var part any = InputText{"input_text", text}
		if role, _ := o.String("role"); role == string(exchange.Assistant) {
			part = OutputText{Type: "output_text", Text: text, Annotations: []Annotation{}, Logprobs: []wire.TokenScore{}}
		}
		m["content"] = marshal([]any{part})
	}
	return marshal(m)
}

// Before puts the items of earlier responses in front of the conversation, after the instructions.
func (c *Call) Before(items []json.RawMessage) error {
	o, err := field.Parse(marshal(map[string]any{inputName: items}))
	if err != nil {
		return err
	}
	earlier, _ := turns(o.Objects(inputName))
	if err := o.Err(); err != nil {
		return err
	}
	at := c.instructed()
	all := append([]exchange.Turn{}, c.Turns[:at]...)
	all = append(all, earlier...)
	c.Turns = append(all, c.Turns[at:]...)
	exchange.InOrderOfCalls(c.Turns)
	return nil
}

var roles = map[string]exchange.Role{"system": exchange.System, "developer": exchange.System, "user": exchange.User, "assistant": exchange.Assistant}

// turns makes a conversation of items. What a model said and called in a row is one turn of it; its earlier reasoning is
// left out, as models are trained to have it.
func turns(items []*field.Object) (list []exchange.Turn, approvals []exchange.Approval) {
	add := func(role exchange.Role, parts ...exchange.Part) {
		if n := len(list); n > 0 && role == exchange.Assistant && list[n-1].Role == role {
			list[n-1].Parts = append(list[n-1].Parts, parts...)
			return
		}
		list = append(list, exchange.Turn{Role: role, Parts: parts})
	}
	summary := "" // of a conversation that was made shorter
	defer func() {
		if summary != "" {
			add(exchange.User, exchange.Text(summary))
		}
	}()
	defer func() { exchange.InOrderOfCalls(list) }()
	// What tools gave that were called side by side follows the turn that has their calls.
	var gave []exchange.ToolResult
	step := ""
	settle := func() {
		for _, r := range gave {
			add(exchange.ToolRole, r)
		}
		gave, step = nil, ""
	}
	defer settle()
	wanted := map[string]bool{} // approvals, by the ids of their requests
	for _, item := range items {
		kind, _ := item.String("type")
		item.Ignore("id", "status", "phase", "summary", "encrypted_content", "namespace", "name") // of answers that are sent back
		need := func(name string) string {
			s, ok := item.String(name)
			if !ok {
				item.Fail(name, "%s is missing", item.Path(name))
			}
			return s
		}
		switch kind {
		case callType, approvalType, "function_call":
			id, _ := item.String("id")
			if now := stepOf(id); now == "" || now != step {
				settle()
				step = now
			}
		case "reasoning", truncationType, listType:
		default:
			settle()
		}
		switch kind {
		case compactionType:
			// It stands for all that was said before it, instructions apart, and is read with the next question.
			list = slices.DeleteFunc(list, func(t exchange.Turn) bool { return t.Role != exchange.System })
			text, err := unseal(need("encrypted_content"))
			if err != nil {
				item.Fail("encrypted_content", "%s is not what this gate gave: %v", item.Path("encrypted_content"), err)
			}
			summary = "What was said before, in short:\n\n" + text
		case "", "message", referenceType:
			if _, ok := reference(item); ok {
				continue
			}
			role, ok := roles[item.OneOf("role", "user", "assistant", "system", "developer")]
			if !ok && item.Err() == nil {
				item.Fail("role", "%s is missing; it must be user, assistant, system or developer", item.Path("role"))
			}
			if item.Kind("content") == field.Missing {
				item.Fail("content", "%s is missing", item.Path("content"))
			}
			parts := content(item, "content")
			if role == exchange.User && summary != "" {
				parts = append([]exchange.Part{exchange.Text(summary + "\n\n")}, parts...)
				summary = ""
			}
			add(role, parts...)
		case "function_call":
			add(exchange.Assistant, exchange.ToolCall{ID: need("call_id"), Name: need("name"), Arguments: need("arguments")})
		case "function_call_output":
			if item.Kind("output") == field.Missing {
				item.Fail("output", "%s is missing: what the function gave", item.Path("output"))
			}
			output := content(item, "output")
			text := exchange.Turn{Parts: output}.Text()
			add(exchange.ToolRole, append([]exchange.Part{exchange.ToolResult{CallID: need("call_id"), Content: text}}, wire.Pictures(output)...)...)
		case callType:
			item.Ignore("output", "error", "approval_request_id")
			id, source := need("id"), need("server_label")+"/"+need("name")
			result := exchange.ToolResult{CallID: id, Content: told(item), Source: source}
			if request, ok := item.String("approval_request_id"); ok && wanted[request] {
				settle()
				result.CallID = request
			} else {
				add(exchange.Assistant, exchange.ToolCall{ID: id, Server: need("server_label"), Name: need("name"), Arguments: need("arguments")})
			}
			gave = append(gave, result)
		case approvalType:
			id := need("id")
			wanted[id] = true
			add(exchange.Assistant, exchange.ToolCall{ID: id, Server: need("server_label"), Name: need("name"), Arguments: need("arguments")})
		case decisionType:
			said := exchange.Approval{CallID: need("approval_request_id"), Approve: item.Bool("approve")}
			said.Reason, _ = item.String("reason")
			approvals = append(approvals, said)
		case listType:
			item.Ignore("server_label", "tools", "error")
		case "reasoning", truncationType:
		default:
			item.Fail("type", "%s is %q; message, function_call, function_call_output, reasoning, compaction, item_reference, mcp_list_tools, mcp_call, mcp_approval_request and mcp_approval_response are possible", item.Path("type"), kind)
		}
	}
	return list, approvals
}

// stepOf is the step of an answer that an item of a call belongs to, as its id says it; "" if it does not.
func stepOf(id string) string {
	owner, ok := ResponseOf(id)
	_, step, stepped := strings.Cut(id, ".")
	if !ok || !stepped {
		return ""
	}
	return owner + "." + step
}

// told is what a call gave, as the model was told it.
func told(item *field.Object) string {
	if output, ok := item.String("output"); ok {
		return output
	}
	text, ok := item.String("error")
	if !ok {
		return "Error: the call was not finished"
	}
	var failure exchange.RunFailure
	if json.Unmarshal([]byte(text), &failure) == nil && failure.Message != "" {
		text = failure.Message
	}
	return "Error: " + text
}

// content reads a text or a list of parts.
func content(item *field.Object, name string) (list []exchange.Part) {
	if item.Kind(name) == field.Text {
		s, _ := item.String(name)
		return []exchange.Part{exchange.Text(s)}
	}
	for _, part := range item.Objects(name) {
		key := "text"
		part.Ignore("annotations", "logprobs") // of answers that are sent back
		switch kind, _ := part.String("type"); kind {
		case "input_text", "output_text":
		case "refusal":
			key = "refusal"
		case "input_image":
			if id, ok := part.String("file_id"); ok {
				part.Fail("file_id", "%s is %q: files are not kept here; send the picture itself as image_url, data:image/png;base64,…", part.Path("file_id"), id)
				continue
			}
			list = append(list, wire.Image(part, "image_url"))
			continue
		case "input_file", "input_audio":
			part.Fail("type", "%s is %q, which is not there yet: models take text, and some take pictures", part.Path("type"), kind)
			continue
		default:
			part.Fail("type", "%s is %q; input_text, input_image, output_text and refusal are possible", part.Path("type"), kind)
			continue
		}
		s, ok := part.String(key)
		if !ok {
			part.Fail(key, "%s is missing", part.Path(key))
		}
		if key == "refusal" {
			list = append(list, exchange.Refusal(s))
		} else {
			list = append(list, exchange.Text(s))
		}
	}
	return list
}

func (c *Call) reasoning(o *field.Object) {
	r := o.Object("reasoning")
	if r == nil {
		return
	}
	c.Thinking, c.Effort = wire.Effort(r, "effort")
	if s, ok := r.String("effort"); ok {
		c.settings.Reasoning.Effort = &s
	}
	if s := r.OneOf("summary", "auto", "concise", "detailed"); s != "" {
		c.settings.Reasoning.Summary = &s
	}
}

func (c *Call) text(o *field.Object) {
	c.settings.Text.Format = json.RawMessage(`{"type":"text"}`)
	text := o.Object("text")
	if text == nil {
		return
	}
	c.Format = wire.Format(text.Object("format"), func(f *field.Object) *field.Object { return f })
	if raw, ok := text.Raw("format"); ok {
		c.settings.Text.Format = raw
	}
	if v := text.OneOf("verbosity", "low", "medium", "high"); v != "" {
		c.settings.Text.Verbosity = &v
	}
}

func (c *Call) tools(o *field.Object) {
	c.settings.Tools = []json.RawMessage{}
	objects := o.Objects("tools")
	itself := func(o *field.Object) *field.Object { return o }
	tools := wire.Tools(o, itself, c.server)
	n := 0 // of functions
	for i, raw := range o.Items("tools") {
		kind, _ := objects[i].String("type")
		if kind != "function" {
			c.settings.Tools = append(c.settings.Tools, withoutSecrets(raw))
			continue
		}
		c.settings.Tools = append(c.settings.Tools, raw)
		// Strict is what the standard has for tools that do not say; a schema for which it cannot be is left to the model.
		if _, said := objects[i].Raw("strict"); !said && n < len(tools) {
			tools[n].Willing = len(tools[n].Parameters) > 0
		}
		n++
	}
	c.Tools, c.Choice = wire.Choice(o, tools, wire.Chooser{Function: itself, Allowed: itself, Other: c.chosen, More: len(c.Servers) > 0})
	c.choose(o)
	c.settings.Parallel = true
	if _, said := o.Raw("parallel_tool_calls"); said {
		c.settings.Parallel = o.Bool("parallel_tool_calls")
	}
	c.settings.ToolChoice = json.RawMessage(`"auto"`)
	if raw, ok := o.Raw("tool_choice"); ok {
		c.settings.ToolChoice = raw
	}
}

// include reads whether log-probabilities are wanted.
func (c *Call) include(o *field.Object) {
	top := o.Int("top_logprobs", 0, maxTop)
	c.settings.TopLogprobs = top
	wanted := top != nil && *top > 0
	for _, name := range o.Strings("include") {
		known := false
		for _, i := range includable {
			known = known || i == name
		}
		if !known {
			o.Fail("include", "include has %q; these are known: %s", name, strings.Join(includable, ", "))
		}
		wanted = wanted || name == logprobs
		c.sealed = c.sealed || name == sealedReasoning
	}
	if wanted {
		c.Scores = new(int)
		if top != nil {
			*c.Scores = int(*top)
		}
	}
}

// marshal writes a value that can always be written.
func marshal(v any) json.RawMessage {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err)
	}
	return raw
}

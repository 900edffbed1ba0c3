// Package wire is what several styles of request have in common: how sampling, tools, formats and log-probabilities are
// written.
package wire

import (
	"encoding/json"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"kindredgate/internal/dialect/field"
	"kindredgate/internal/exchange"
	"kindredgate/internal/picture"
	"kindredgate/internal/sampling"
)

// Limits of a request.
const (
	MaxCandidates = 8
	maxStops      = 16
	maxTools      = 128
	maxBias       = 1024
	// MaxMetadata is how many entries metadata may have.
	MaxMetadata = 16
)

// Model reads which model is asked for; "" leaves that to the gate.
func Model(o *field.Object) string {
	name, _ := o.String("model")
	return name
}

// Elsewhere is a field that is not of a style, with what to do instead.
type Elsewhere struct{ Name, Instead string }

// Refuse refuses fields that would have an effect in another style, or had one in an older standard: whoever sends them means something
// by them. The first of the list that is there is named.
func Refuse(o *field.Object, list ...Elsewhere) {
	for _, e := range list {
		if o.Has(e.Name) {
			o.Fail(e.Name, "there is no field %q in this style; %s", e.Name, e.Instead)
		}
	}
}

// Stream reads whether the answer is to be a stream, and whether that ends with the usage.
func Stream(o *field.Object) (stream, usage bool) {
	stream = o.Bool("stream")
	if options := o.Object("stream_options"); options != nil {
		if !stream {
			o.Fail("stream_options", "stream_options goes with \"stream\": true only")
		}
		usage = options.Bool("include_usage")
	}
	return stream, usage
}

// Carried reads fields that only a server elsewhere understands, as they stand; nil for none. The names are among [exchange.Carryable].
func Carried(o *field.Object, names ...string) (carried map[string]json.RawMessage) {
	for _, name := range names {
		if raw, ok := o.Raw(name); ok {
			if carried == nil {
				carried = map[string]json.RawMessage{}
			}
			carried[name] = raw
		}
	}
	return carried
}

// MaxTokens reads a limit of tokens; 0 if it is missing.
func MaxTokens(o *field.Object, name string) int {
	if n := o.Int(name, 1, 1<<31-1); n != nil {
		return int(*n)
	}
	return 0
}

// Drawing reads the settings that presets have too.
func Drawing(o *field.Object) (s sampling.Settings) {
	s.Temperature = o.Float("temperature", 0, 2)
	s.TopP = o.Float("top_p", 0, 1)
	if k := o.Int("top_k", 0, 1<<31-1); k != nil {
		n := int(*k)
		s.TopK = &n
	}
	s.MinP = o.Float("min_p", 0, 1)
	s.RepetitionPenalty = o.Float("repetition_penalty", 0.01, 10)
	return s
}

// Sampling reads how tokens are drawn.
func Sampling(o *field.Object) (s exchange.Sampling) {
	s.Settings = Drawing(o)
	if s.TopP != nil && *s.TopP == 0 {
		// No probability at all leaves the most likely token alone.
		s.TopP, s.Temperature = nil, new(float64)
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
		names := bias.Unread()
		if len(names) > maxBias {
			o.Fail("logit_bias", "logit_bias has %d entries; %d are possible", len(names), maxBias)
			return s
		}
		for _, name := range names {
			id, err := strconv.ParseInt(name, 10, 32)
			if err != nil || id < 0 {
				o.Fail("logit_bias", "logit_bias has the key %q, which is not a token id", name)
			}
			if b := bias.Float(name, -100, 100); b != nil {
				s.LogitBias[int32(id)] = *b
			}
		}
	}
	return s
}

// Stop reads the texts that end an answer.
func Stop(o *field.Object) []string {
	stop := o.Strings("stop")
	if len(stop) > maxStops {
		o.Fail("stop", "stop has %d strings; %d are possible", len(stop), maxStops)
	}
	for i, s := range stop {
		if s == "" {
			o.Fail("stop", "stop string %d is empty, which would end every answer at once", i)
		}
	}
	return stop
}

// Effort reads how much the model is to reason first, and whether at all. Templates know yes and no only, so every effort but "none" is yes.
func Effort(o *field.Object, name string) (thinking bool, effort string) {
	effort = o.OneOf(name, "none", "minimal", "low", "medium", "high", "xhigh", "max")
	return effort != "" && effort != "none", effort
}

// Tools reads what may be called. function gives the object that describes the function of a tool of that type; other takes the tools of other
// types, and reports whether it knows their type; nil if there are none.
func Tools(o *field.Object, function func(tool *field.Object) *field.Object, other func(kind string, tool *field.Object) bool) (list []exchange.Tool) {
	for i, t := range o.Objects("tools") {
		if i == maxTools {
			o.Fail("tools", "there are more than %d tools", maxTools)
			break
		}
		if kind, _ := t.String("type"); kind != "function" {
			if other != nil && other(kind, t) {
				continue
			}
			also := "; tools that the gate runs come by a preset, or in the response style by type \"mcp\""
			if other != nil {
				also = "; \"mcp\" has the gate run tools of a server"
			}
			t.Fail("type", "%s is %q. Offer it as a \"function\" with a name and parameters, which your application runs when the model calls it%s", t.Path("type"), kind, also)
			continue
		}
		fn := function(t)
		if fn == nil {
			continue
		}
		tool := exchange.Tool{}
		if tool.Name, _ = fn.String("name"); !toolName.MatchString(tool.Name) {
			fn.Fail("name", "%s is %q; a name has 1 to 64 letters, digits, \"_\", \"-\" or \".\"", fn.Path("name"), tool.Name)
		}
		tool.Description, _ = fn.String("description")
		if raw, ok := fn.Whole("parameters"); ok {
			tool.Parameters, tool.At = raw, fn.Path("parameters")
		}
		if _, said := fn.Raw("strict"); said {
			tool.Strict = fn.Bool("strict")
			said := tool.Strict
			tool.Said = &said
		}
		list = append(list, tool)
	}
	return list
}

var toolName = regexp.MustCompile(`^[A-Za-z0-9_.-]{1,64}$`)

// Chooser says how a style writes a choice of tools.
type Chooser struct {
	// Function gives the object that names the function of an object, which is the choice itself or one of the allowed tools; Allowed gives
	// the object that lists these. Both say what is missing and give nil then.
	Function, Allowed func(*field.Object) *field.Object
	// Other gives the name of a tool of another type than a function, in a choice or among the allowed ones; nil where there are none.
	Other func(kind string, o *field.Object) (name string, ok bool)
	// More says that there are tools beside the functions.
	More bool
}

// Choice reads tool_choice and parallel_tool_calls, and leaves those tools that may be called. Where others than functions may be, the names of
// the choice are of those that may be called.
func Choice(o *field.Object, tools []exchange.Tool, how Chooser) ([]exchange.Tool, exchange.Choice) {
	name := func(of *field.Object) string {
		if kind, _ := of.String("type"); how.Other != nil && kind != "function" && kind != "allowed_tools" {
			if n, ok := how.Other(kind, of); ok {
				return n
			}
		}
		function := how.Function
		fn := function(of)
		if fn == nil {
			return ""
		}
		n, ok := fn.String("name")
		if !ok {
			fn.Fail("name", "%s is missing", fn.Path("name"))
		} else if len(only(tools, []string{n})) == 0 {
			fn.Fail("name", "%s is %q, which is not among the tools offered", fn.Path("name"), n)
		}
		return n
	}
	var c exchange.Choice
	if _, ok := o.Raw("parallel_tool_calls"); ok {
		c.Single = !o.Bool("parallel_tool_calls")
	}
	const at = "tool_choice"
	switch o.Kind(at) {
	case field.Missing:
		return tools, c
	case field.Text:
		switch o.OneOf(at, "none", "auto", "required") {
		case "none":
			return nil, exchange.Choice{}
		case "required":
			c.Required = true
		}
	default:
		choice := o.Object(at)
		if choice == nil {
			return tools, c
		}
		kind, _ := choice.String("type")
		if how.Other != nil && kind != "function" && kind != "allowed_tools" {
			if n, ok := how.Other(kind, choice); ok {
				return tools, exchange.Choice{Required: true, Single: true, Names: []string{n}}
			}
		}
		switch kind := choice.OneOf("type", "function", "allowed_tools"); kind {
		case "function":
			c = exchange.Choice{Required: true, Single: true, Names: []string{name(choice)}}
		case "allowed_tools":
			list := how.Allowed(choice)
			if list == nil {
				break
			}
			c.Required = list.OneOf("mode", "auto", "required") == "required"
			names := []string{}
			for _, t := range list.Objects("tools") {
				names = append(names, name(t))
			}
			if len(names) == 0 {
				list.Fail("tools", "%s names no tool; tool_choice \"none\" says that none may be called", list.Path("tools"))
			}
			tools = only(tools, names)
			if how.More {
				c.Names = names
			}
		default:
			if o.Err() == nil {
				choice.Fail("type", "%s is missing; \"function\" and \"allowed_tools\" are possible", choice.Path("type"))
			}
		}
	}
	if c.Required && len(tools) == 0 && !how.More {
		o.Fail(at, "tool_choice asks for a call, but no tools are offered")
	}
	return tools, c
}

func only(tools []exchange.Tool, names []string) []exchange.Tool {
	return slices.DeleteFunc(slices.Clone(tools), func(t exchange.Tool) bool { return !slices.Contains(names, t.Name) })
}

// Image reads a picture: its address is in the field called url.
func Image(o *field.Object, url string) exchange.Image {
	image := exchange.Image{Detail: o.OneOf("detail", "auto", "low", "high", "original"), At: o.Path(url)}
	image.URL, _ = o.String(url)
	switch {
	case strings.EqualFold(image.URL[:min(5, len(image.URL))], "data:"):
		if _, err := picture.FromURL(image.URL); err != nil {
			o.Fail(url, "%s: %v", o.Path(url), err)
		}
		if head, rest, _ := strings.Cut(image.URL, ","); head != strings.ToLower(head) { // as everybody else expects it
			image.URL = strings.ToLower(head) + "," + rest
		}
	case !address.MatchString(image.URL):
		o.Fail(url, "%s must be data:image/png;base64,… with the picture itself, or an address that begins with https:// or http://", o.Path(url))
	}
	return image
}

var address = regexp.MustCompile(`^(?i:https?://.)`)

// Pictures are the pictures among parts.
func Pictures(parts []exchange.Part) []exchange.Part {
	return slices.DeleteFunc(slices.Clone(parts), func(p exchange.Part) bool { _, is := p.(exchange.Image); return !is })
}

// Format reads a format of answers. inner gives the object that holds name and schema.
func Format(f *field.Object, inner func(*field.Object) *field.Object) exchange.Format {
	if f == nil {
		return exchange.Format{}
	}
	switch f.OneOf("type", "text", "json_object", "json_schema") {
	case "json_object":
		return exchange.Format{Kind: exchange.FormatObject}
	case "json_schema":
		in := inner(f)
		if in == nil {
			f.Fail("json_schema", "%s is missing: it holds the schema", f.Path("json_schema"))
			break
		}
		if name, _ := in.String("name"); !toolName.MatchString(name) {
			in.Fail("name", "%s is %q; a name has 1 to 64 letters, digits, \"_\", \"-\" or \".\"", in.Path("name"), name)
		}
		in.Ignore("description")
		raw, ok := in.Whole("schema")
		if !ok {
			in.Fail("schema", "%s is missing", in.Path("schema"))
			break
		}
		return exchange.Format{Kind: exchange.FormatSchema, Schema: raw, Strict: in.Bool("strict"), At: in.Path("schema")}
	case "":
		if f.Err() == nil {
			f.Fail("type", "%s is missing; text, json_object and json_schema are possible", f.Path("type"))
		}
	}
	return exchange.Format{}
}

// TokenScore is the log-probability of a token.
type TokenScore struct {
	Token   string  `json:"token"`
	LogProb float64 `json:"logprob"`
	// Bytes are the token's own, since Token is not exact if it is part of a character.
	Bytes []int `json:"bytes"`
	// Top are the most likely tokens in that place.
	Top []Alternative `json:"top_logprobs"`
}

// Alternative is a token that might have come.
type Alternative struct {
	Token   string  `json:"token"`
	LogProb float64 `json:"logprob"`
	Bytes   []int   `json:"bytes"`
}

func alternative(s exchange.Score) Alternative {
	bytes := make([]int, len(s.Text))
	for i := range len(s.Text) {
		bytes[i] = int(s.Text[i])
	}
	return Alternative{Token: s.Text, LogProb: s.LogProb, Bytes: bytes}
}

// Scores writes log-probabilities.
func Scores(list []exchange.Score) []TokenScore {
	out := make([]TokenScore, len(list))
	for i, s := range list {
		a := alternative(s)
		out[i] = TokenScore{Token: a.Token, LogProb: a.LogProb, Bytes: a.Bytes, Top: make([]Alternative, len(s.Top))}
		for j, t := range s.Top {
			out[i].Top[j] = alternative(t)
		}
	}
	return out
}

// Usage counts tokens.
type Usage struct {
	PromptTokens     int               `json:"prompt_tokens"`
	CompletionTokens int               `json:"completion_tokens"`
	TotalTokens      int               `json:"total_tokens"`
	PromptDetails    PromptDetails     `json:"prompt_tokens_details"`
	Details          CompletionDetails `json:"completion_tokens_details"`
}

// PromptDetails tells of the tokens of a prompt.
type PromptDetails struct {
	Cached int `json:"cached_tokens"`
}

// CompletionDetails tells of the tokens of an answer.
type CompletionDetails struct {
	Reasoning int `json:"reasoning_tokens"`
}

// StreamUsage is the usage in the pieces of a stream. Where it was asked for it is null in all but the last, elsewhere it is not there.
type StreamUsage struct {
	Asked bool
	Last  *Usage
}

// IsZero reports whether it is left out.
func (u StreamUsage) IsZero() bool { return !u.Asked }

// MarshalJSON writes the usage, or null.
func (u StreamUsage) MarshalJSON() ([]byte, error) { return json.Marshal(u.Last) }

// AppendText adds a text as JSON, as encoding/json writes it.
func AppendText(b []byte, text string) []byte {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c >= utf8.RuneSelf || c == '"' || c == '\\' || c == '<' || c == '>' || c == '&' || c == 0x7f {
			raw, err := json.Marshal(text)
			if err != nil {
				panic(err) // a text can always be written
			}
			return append(b, raw...)
		}
	}
	return append(append(append(b, '"'), text...), '"')
}

// Count adds what an event tells.
func (u *Usage) Count(event exchange.Event) {
	switch event := event.(type) {
	case exchange.Started:
		u.PromptTokens += event.PromptTokens
		u.PromptDetails.Cached += event.CachedTokens
	case exchange.ReasoningDelta:
		u.Details.Reasoning += event.Tokens
	case exchange.Finish:
		u.PromptTokens += event.PromptTokens
		u.PromptDetails.Cached += event.CachedTokens
		u.Details.Reasoning += event.ReasoningTokens
		u.CompletionTokens += event.Tokens
	case exchange.StepBegan:
		u.PromptTokens += event.PromptTokens
		u.PromptDetails.Cached += event.CachedTokens
	case exchange.StepEnded:
		u.PromptTokens += event.PromptTokens
		u.PromptDetails.Cached += event.CachedTokens
		u.Details.Reasoning += event.ReasoningTokens
		u.CompletionTokens += event.Tokens
	case exchange.TextDelta, exchange.ToolCallDelta, exchange.ToolsListed, exchange.RunDelta, exchange.RunEnded, exchange.ApprovalWanted:
	}
	u.TotalTokens = u.PromptTokens + u.CompletionTokens
}

// Inputs reads a list of texts, a list of tokens, or a list of lists of tokens.
func Inputs(o *field.Object, name string, most int) (list []exchange.Input) {
	if ids, ok := o.Numbers(name); ok {
		return []exchange.Input{{Tokens: ids}}
	}
	items := o.Items(name)
	switch {
	case o.Err() != nil:
		return nil
	case len(items) == 0:
		o.Fail(name, "%s is an empty list", name)
		return nil
	}
	tokens := func(raw json.RawMessage) []int32 {
		ids := []int32{}
		if err := json.Unmarshal(raw, &ids); err != nil || ids == nil {
			o.Fail(name, "%s must be a text, a list of texts, a list of tokens (whole numbers), or a list of such lists", name)
		}
		return ids
	}
	if len(items) > most {
		o.Fail(name, "%s has %d entries; %d are possible in one request", name, len(items), most)
		return nil
	}
	for _, item := range items {
		var in exchange.Input
		if json.Unmarshal(item, &in.Text) != nil || item[0] != '"' {
			in.Tokens = tokens(item)
		}
		list = append(list, in)
	}
	return list
}

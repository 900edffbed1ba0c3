// Package dialect names the styles in which a request can be put, and where each is served. The packages below it translate them.
package dialect

import (
	"slices"
	"strings"
)

// Style is a style of request.
type Style string

// The styles.
const (
	Chat       Style = "chat"
	Generate   Style = "generate"
	Response   Style = "response"
	Completion Style = "completion" // a prompt that goes to the model as it is
	Embedding  Style = "embedding"
	Rerank     Style = "rerank" // documents, by how well they answer a query
)

// What is passed on to machines as it is, where whoever operates the gate wants that. A key may be for these as for styles.
const (
	Images      Style = "images"
	Audio       Style = "audio"
	Moderations Style = "moderations"
)

// Passed are all of these.
var Passed = []Style{Images, Audio, Moderations}

// Styles are all of them, in the order in which they are listed.
var Styles = []Style{Chat, Generate, Response, Completion, Embedding, Rerank}

var paths = map[Style]string{
	Chat: "/chat/completions", Generate: "/generate", Response: "/responses", Completion: "/completions", Embedding: "/embeddings", Rerank: "/rerank",
}

// operations are what the OpenTelemetry conventions for generative AI call what a style asks for (semantic conventions 1.36).
var operations = map[Style]string{
	Chat: "chat", Response: "chat", Generate: "text_completion", Completion: "text_completion", Embedding: "embeddings", Rerank: "rerank",
}

// Operation is what the OpenTelemetry conventions call what is asked for in the style, in metrics and traces.
func (s Style) Operation() string { return operations[s] }

// Path is where requests in the style go, below the base URL.
func (s Style) Path() string { return paths[s] }

// formerly are what styles were called before.
var formerly = map[string]Style{"raw": Completion}

// Find finds a style by its name, or by what it was called before.
func Find(name string) (Style, bool) {
	if now, ok := formerly[name]; ok {
		return now, true
	}
	return Style(name), slices.Contains(Styles, Style(name)) || slices.Contains(Passed, Style(name))
}

// List writes names of styles for a person: "chat, generate or raw".
func List(styles ...Style) string {
	names := make([]string, len(styles))
	for i, s := range styles {
		names[i] = string(s)
	}
	last := len(names) - 1
	if last < 1 {
		return strings.Join(names, "")
	}
	return strings.Join(names[:last], ", ") + " or " + names[last]
}

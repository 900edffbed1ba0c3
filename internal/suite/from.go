package suite

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"github.com/goccy/go-yaml"

	"kindredgate/internal/exchange"
	"kindredgate/internal/kept"
	"kindredgate/internal/record"
)

// Recorded is an exchange of which a case is to be made.
type Recorded struct {
	Exchange record.Record
	Content  kept.Content
}

// From makes a suite of recorded exchanges, as YAML: each is a case, whose answer is to be like the recorded one. Those that a suite has no
// place for are left out; skipped says why.
func From(title string, list []Recorded) (doc []byte, cases int, skipped []string, err error) {
	models := map[string]bool{}
	var all yaml.MapSlice
	for _, r := range list {
		c, err := caseOf(r)
		if err != nil {
			skipped = append(skipped, fmt.Sprintf("%s: %v", r.Exchange.ID, err))
			continue
		}
		models[r.Exchange.Model] = true
		all = append(all, yaml.MapItem{Key: "exchange-" + r.Exchange.ID[:min(8, len(r.Exchange.ID))], Value: c})
	}
	if len(all) == 0 {
		return nil, 0, skipped, nil
	}
	doc, err = yaml.MarshalWithOptions(yaml.MapSlice{
		{Key: "suite", Value: title}, {Key: "models", Value: slices.Sorted(maps.Keys(models))}, {Key: "samples", Value: 1}, {Key: "seed", Value: 1}, {Key: "cases", Value: all},
	}, yaml.Indent(2), yaml.IndentSequence(true), yaml.UseLiteralStyleIfMultiline(true))
	return doc, len(all), skipped, err
}

// caseOf makes a case of an exchange.
func caseOf(r Recorded) (yaml.MapSlice, error) {
	req, err := exchange.DecodeRequest(r.Content.Request)
	if err != nil {
		return nil, err
	}
	switch {
	case req.Raw != nil:
		return nil, fmt.Errorf("its prompt was raw, and a suite asks conversations")
	case len(r.Content.Answers) == 0:
		return nil, fmt.Errorf("it has no answer")
	}
	bare := req.Bare() // the preset adds its own again
	var said []yaml.MapSlice
	results := map[string]string{}
	for _, t := range bare.Turns {
		for _, p := range t.Parts {
			if result, ok := p.(exchange.ToolResult); ok {
				results[result.CallID] = result.Content
			}
		}
	}
	for _, t := range bare.Turns {
		turn, err := turnOf(t, results)
		if err != nil {
			return nil, err
		}
		if turn != nil {
			said = append(said, turn)
		}
	}
	c := yaml.MapSlice{{Key: "said", Value: said}}
	add := func(key string, value any) { c = append(c, yaml.MapItem{Key: key, Value: value}) }
	if len(req.Tools) > 0 {
		tools := yaml.MapSlice{}
		for _, t := range req.Tools {
			one := yaml.MapSlice{}
			if t.Description != "" {
				one = append(one, yaml.MapItem{Key: "for", Value: t.Description})
			}
			if t.Parameters != nil {
				with, err := anything(t.Parameters)
				if err != nil {
					return nil, err
				}
				one = append(one, yaml.MapItem{Key: "with", Value: with})
			}
			tools = append(tools, yaml.MapItem{Key: t.Name, Value: one})
		}
		add("tools", tools)
	}
	if req.Choice.Required {
		add("must_call", true)
	}
	if req.Format.Kind == exchange.FormatSchema {
		schema, err := anything(req.Format.Schema)
		if err != nil {
			return nil, err
		}
		add("format", schema)
	}
	settings := yaml.MapSlice{}
	if t := req.Sampling.Temperature; t != nil {
		settings = append(settings, yaml.MapItem{Key: "temperature", Value: *t})
	}
	if req.MaxTokens > 0 {
		settings = append(settings, yaml.MapItem{Key: "longest_answer", Value: req.MaxTokens})
	}
	if req.Thinking {
		settings = append(settings, yaml.MapItem{Key: "reasoning", Value: true})
	}
	if len(settings) > 0 {
		add("settings", settings)
	}
	answer := yaml.MapSlice{}
	given := r.Content.Answers[0]
	if given.Text != "" {
		answer = append(answer, yaml.MapItem{Key: "alike", Value: yaml.MapSlice{{Key: "to", Value: given.Text}, {Key: "at_least", Value: usualShare}}})
	}
	if len(given.Calls) > 0 {
		calls := yaml.MapSlice{}
		for _, call := range given.Calls {
			with, err := anything(json.RawMessage(call.Arguments))
			if err != nil {
				return nil, fmt.Errorf("the arguments of a call are no JSON: %w", err)
			}
			calls = append(calls, yaml.MapItem{Key: call.Name, Value: with})
		}
		answer = append(answer, yaml.MapItem{Key: "calls", Value: calls})
	}
	if len(answer) == 0 {
		return nil, fmt.Errorf("its answer is empty")
	}
	add("answer", answer)
	return c, nil
}

// turnOf is a turn as a suite has it, whole: its text, and its calls with what they gave. It is nil for one that holds results, which stand with
// their calls.
func turnOf(t exchange.Turn, results map[string]string) (yaml.MapSlice, error) {
	text, spoke := "", false
	var called []yaml.MapSlice
	var parts []any // of a user who shows pictures
	pictured := false
	for _, p := range t.Parts {
		switch p := p.(type) {
		case exchange.Text:
			text, spoke = text+string(p), true
			parts = append(parts, string(p))
		case exchange.Refusal:
			text, spoke = text+string(p), true
		case exchange.Image:
			if t.Role != exchange.User {
				return nil, fmt.Errorf("%s has a picture, and in a suite only users show some", p.At)
			}
			one := yaml.MapSlice{{Key: "picture", Value: p.URL}}
			if p.Detail != "" {
				one = append(one, yaml.MapItem{Key: "detail", Value: p.Detail})
			}
			parts, pictured = append(parts, one), true
		case exchange.ToolCall:
			with, err := anything(json.RawMessage(p.Arguments))
			if err != nil {
				return nil, fmt.Errorf("the arguments of a call are no JSON: %w", err)
			}
			called = append(called, yaml.MapSlice{{Key: "tool", Value: p.Name}, {Key: "with", Value: with}, {Key: "gave", Value: results[p.ID]}})
		case exchange.ToolResult:
		}
	}
	var turn yaml.MapSlice
	if pictured {
		turn = append(turn, yaml.MapItem{Key: string(t.Role), Value: parts})
	} else if spoke {
		turn = append(turn, yaml.MapItem{Key: string(t.Role), Value: text})
	}
	switch len(called) {
	case 0:
	case 1:
		turn = append(turn, yaml.MapItem{Key: "called", Value: called[0]})
	default:
		turn = append(turn, yaml.MapItem{Key: "called", Value: called})
	}
	return turn, nil
}

func anything(raw json.RawMessage) (v any, err error) {
	if len(raw) == 0 {
		return map[string]any{}, nil
	}
	return v, json.Unmarshal(raw, &v)
}

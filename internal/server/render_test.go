package server

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"

	"kindredgate/internal/runner/native"
)

// startNative is a server that lays out prompts for the sample model.
func startNative(t testing.TB, change ...func(*Options)) *testServer {
	t.Helper()
	if testing.Short() {
		t.Skip("the engine's arithmetic takes minutes under the race detector")
	}
	runner := native.New(native.Options{})
	t.Cleanup(func() {
		if err := runner.Close(); err != nil {
			t.Error(err)
		}
	})
	return start(t, runner, append([]func(*Options){func(o *Options) { o.Gate.Prompts, o.Gate.Loader = runner, runner }}, change...)...)
}

func (h *testServer) render(t testing.TB, body string) (p RenderedPrompt, status int, raw string) {
	t.Helper()
	resp, raw := h.do(t, "POST", "/gate/prompt/render", h.owner, body)
	if err := json.Unmarshal([]byte(raw), &p); err != nil {
		t.Fatal(err, raw)
	}
	return p, resp.StatusCode, raw
}

func TestRenderInEveryStyle(t *testing.T) {
	h := startNative(t)
	const laid = "<|begin|><|system|>Be brief.<|end|><|user|>When?<|end|><|assistant|>"
	for _, c := range []struct{ body, want string }{
		{`{"model": "harbour-4m", "messages": [{"role": "system", "content": "Be brief."}, {"role": "user", "content": "When?"}]}`, laid},
		{`{"style": "chat", "model": "harbour-4m", "messages": [{"role": "developer", "content": "Be brief."}, {"role": "user", "content": "When?"}]}`, laid},
		{`{"style": "generate", "model": "harbour-4m", "prompt": "When?", "instructions": "Be brief."}`, laid},
		{`{"style": "generate", "model": "harbour-4m", "prompt": "When?"}`, "<|begin|><|user|>When?<|end|><|assistant|>"},
		{`{"style": "completion", "model": "harbour-4m", "prompt": "When?<|end|>"}`, "<|begin|>When?<|end|>"},
		{`{"model": "harbour-4m", "messages": [{"role": "user", "content": "When?"}], "reasoning_effort": "low"}`, "<|begin|><|user|>When?<|end|><|assistant|><think>\n"},
	} {
		p, status, raw := h.render(t, c.body)
		if status != 200 || p.Text != c.want || p.Tokens != len(p.TokenList) || p.ContextLength != 2048 {
			t.Errorf("%s: %d %s", c.body, status, raw)
		}
		// Spans and tokens cover the text, in order.
		at, tokens := 0, 0
		for _, s := range p.Spans {
			if s.Start != at {
				t.Errorf("%s: span %+v begins after a gap", c.body, s)
			}
			at = s.End
			tokens += s.Tokens
		}
		if at != len(p.Text) || tokens != p.Tokens {
			t.Errorf("%s: spans cover %d of %d bytes and %d of %d tokens", c.body, at, len(p.Text), tokens, p.Tokens)
		}
		at = 0
		for _, tok := range p.TokenList {
			if tok.Start != at {
				t.Errorf("%s: token %+v begins after a gap", c.body, tok)
			}
			at = tok.End
		}
	}
	for body, want := range map[string]string{
		`{"style": "poem", "model": "harbour-4m"}`:                                           `style is \"poem\"`,
		`{"style": "completion", "model": "harbour-4m"}`:                                     "prompt is missing",
		`{"style": "completion", "model": "harbour-4m", "prompt": "x", "instructions": "y"}`: "has no instructions apart",
		`{"style": "generate", "model": "harbour-4m", "prompt": "x", "messages": []}`:        `no field \"messages\"`,
		`{"style": "generate", "model": "nope", "prompt": "x"}`:                              `\"nope\" is not installed`,
		`{"model": "harbour-4m", "messages": [{"role": "captain", "content": "Hi"}]}`:        "it must be system",
	} {
		if resp, raw := h.do(t, "POST", "/gate/prompt/render", h.owner, body); resp.StatusCode < 400 || !strings.Contains(raw, want) {
			t.Errorf("%s: %d %s, want %q", body, resp.StatusCode, raw, want)
		}
	}
}

func TestRenderWarns(t *testing.T) {
	h := startNative(t)
	for name, template := range map[string]string{
		"deaf":      "{% for m in messages if m.role == 'user' %}[{{ m.content }}]{% endfor %}",
		"no-system": "{% for m in messages %}{% if m.role == 'system' %}{{ raise_exception('no') }}{% endif %}[{{ m.content }}]{% endfor %}",
	} {
		body, err := json.Marshal(map[string]string{"name": name, "model": "harbour-4m", "template": template})
		if err != nil {
			t.Fatal(err)
		}
		if resp, raw := h.do(t, "POST", "/gate/presets", h.owner, string(body)); resp.StatusCode != 201 {
			t.Fatalf("%d %s", resp.StatusCode, raw)
		}
	}
	const tools = `, "tools": [{"type": "function", "function": {"name": "f"}}]`
	ask := func(model, role string, words int, more string) string {
		return fmt.Sprintf(`{"model": %q, "messages": [{"role": %q, "content": %q}, {"role": "user", "content": "Hi"}]%s}`, model, role, strings.Repeat("word ", words), more)
	}
	for _, c := range []struct {
		name, body, want string
	}{
		{"nothing to warn of", ask("harbour-4m", "system", 1, tools), ""},
		{"a turn that is dropped", ask("deaf", "assistant", 1, ""), "the template drops messages[0] (assistant)"},
		{"tools that are not shown", ask("deaf", "user", 1, tools), "does not show the tools"},
		{"little room", ask("harbour-4m", "user", 640, ""), "tokens for the answer"},
		{"no room", ask("harbour-4m", "user", 700, ""), "a request would be refused"},
	} {
		p, status, raw := h.render(t, c.body)
		if status != 200 || (c.want == "") != (len(p.Warnings) == 0) || c.want != "" && !slices.ContainsFunc(p.Warnings, func(w string) bool { return strings.Contains(w, c.want) }) {
			t.Errorf("%s: %d %.300s, %q; want %q", c.name, status, raw, p.Warnings, c.want)
		}
	}
	p, _, raw := h.render(t, ask("no-system", "system", 1, ""))
	if p.Text != "[word \n\nHi]" || len(p.Warnings) != 1 || !strings.Contains(p.Warnings[0], "no system turn") {
		t.Errorf("instructions without a system turn: %s", raw)
	}
}

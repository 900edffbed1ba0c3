package prompt

import (
	"testing"

	"kindredgate/internal/exchange"
	"kindredgate/internal/reading"
)

// Templates in the manners that are found in the wild, and what must be found out about them.
func TestProbe(t *testing.T) {
	harbourTemplate, source := harbour(t)
	tok := harbourTemplate.tok
	const loop = `{% for m in messages %}`
	for _, c := range []struct {
		name, source string
		want         Abilities
	}{
		{"the sample model's", source, Abilities{TurnEnd: "<|end|>", System: true, Tools: true, Calls: true, ParallelCalls: true, Results: true, Thinking: true,
			Style: reading.Style{Reasoning: reading.Marks{Open: "<think>", Close: "</think>"}, Form: reading.JSON, Calls: reading.Marks{Open: "<tool_call>", Close: "</tool_call>"},
				Frame: reading.Frame{Before: `<tool_call>{"name":"`, Between: `","arguments":`, After: `}</tool_call>`}},
			InsideWhenThinking: true}},
		{"text only, no system turn", loop + `{% if m.role == 'system' %}{{ raise_exception('no') }}{% endif %}[{{ m.content }}]{% endfor %}`, Abilities{TurnEnd: "]", Results: true}},
		{"a marker and a list", loop + `{% if m.tool_calls %}[CALLS] [{% for c in m.tool_calls %}{"name": "{{ c.function.name }}", "arguments": {{ c.function.arguments|tojson }}}{{ ', ' if not loop.last }}{% endfor %}]{% else %}{{ m.content }}{% endif %}</s>{% endfor %}`,
			Abilities{TurnEnd: "</s>", System: true, Calls: true, ParallelCalls: true, Results: true, Style: reading.Style{Form: reading.JSON, Calls: reading.Marks{Open: "[CALLS]"}, Frame: reading.Frame{Before: `[CALLS] [{"name": "`, Between: `", "arguments": `, After: `}]`}}}},
		{"bare JSON, one call", loop + `{% if m.tool_calls %}{"name": "{{ m.tool_calls[0].function.name }}", "parameters": {{ m.tool_calls[0].function.arguments|tojson }}}{% else %}{{ m.content }}{% endif %}<|eot|>{% endfor %}{{ tools|tojson if tools }}`,
			Abilities{TurnEnd: "<|eot|>", System: true, Tools: true, Calls: true, Results: true, Style: reading.Style{Form: reading.JSON, Frame: reading.Frame{Before: `{"name": "`, Between: `", "parameters": `, After: `}`}}}},
		{"calls as in Python", loop + `{% if m.tool_calls %}[{% for c in m.tool_calls %}{{ c.function.name }}({% for k, v in c.function.arguments.items() %}{{ k }}={{ v|tojson }}{% endfor %}){{ ', ' if not loop.last }}{% endfor %}]{% else %}{{ m.content }}{% endif %};{% endfor %}`,
			Abilities{TurnEnd: ";", System: true, Calls: true, ParallelCalls: true, Results: true, Style: reading.Style{Form: reading.Python, Frame: reading.Frame{Before: "[", Between: "(", After: ")]", Assign: "=", Separator: ", "}}}},
		{"function tags", loop + `{% if m.tool_calls %}{% for c in m.tool_calls %}<tool_call>
<function={{ c.function.name }}>
{% for k, v in c.function.arguments.items() %}
<parameter={{ k }}>
{{ v }}
</parameter>
{% endfor %}
</function>
</tool_call>{% endfor %}{% else %}{{ m.content }}{% endif %}<|end|>{% endfor %}`,
			Abilities{TurnEnd: "<|end|>", System: true, Calls: true, ParallelCalls: true, Results: true, Style: reading.Style{Form: reading.FunctionTags, Calls: reading.Marks{Open: "<tool_call>", Close: "</tool_call>"},
				Frame: reading.Frame{Before: "<tool_call>\n<function=", Between: ">\n", After: "</function>\n</tool_call>", Open: "<parameter=", Assign: ">\n", Close: "\n</parameter>\n"}}}},
		{"channels", `{% for m in messages %}<|start|>{{ m.role }}<|message|>{{ m.content }}<|end|>{% endfor %}{# answers: <|channel|>final<|message|> #}<|start|>assistant`,
			Abilities{TurnEnd: "<|end|><|start|>assistant", System: true, Results: true, Style: reading.Style{Form: reading.Channels}}},
		{"always inside the reasoning", loop + `{{ m.content }}{% endfor %}{% if add_generation_prompt %}A:<think>{{ '\n' }}{% endif %}`,
			Abilities{System: true, Results: true, Style: reading.Style{Reasoning: reading.Marks{Open: "<think>", Close: "</think>"}, Inside: true}, InsideWhenThinking: true}},
	} {
		tmpl, err := New(c.source, tok)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if got := tmpl.Abilities(); got != c.want {
			t.Errorf("%s:\n got %+v\nwant %+v", c.name, got, c.want)
		}
	}
}

// A template without a system turn gets the instructions at the head of the next user turn, where they are still
// known as the system turn's.
func TestInstructionsWithoutASystemTurn(t *testing.T) {
	harbourTemplate, _ := harbour(t)
	tmpl, err := New(`{% for m in messages %}{% if m.role == 'system' %}{{ raise_exception('no system') }}{% endif %}[{{ m.role }}: {{ m.content }}]{% endfor %}`, harbourTemplate.tok)
	if err != nil {
		t.Fatal(err)
	}
	text := func(role exchange.Role, s string) exchange.Turn {
		return exchange.Turn{Role: role, Parts: []exchange.Part{exchange.Text(s)}}
	}
	p, err := tmpl.Render(Conversation{Turns: []exchange.Turn{text(exchange.System, "Be brief."), text(exchange.User, "When?"), text(exchange.Assistant, "Now."), text(exchange.User, "Sure?")}})
	if want := "[user: Be brief.\n\nWhen?][assistant: Now.][user: Sure?]"; err != nil || p.Text != want {
		t.Fatalf("%q, %v; want %q", p.Text, err, want)
	}
	if p.Count("messages[0]") == 0 || p.Count("messages[1]") == 0 {
		t.Errorf("spans %+v", p.Spans)
	}
	if _, err := tmpl.Render(Conversation{Turns: []exchange.Turn{text(exchange.System, "Be brief.")}}); err == nil {
		t.Error("instructions alone were accepted")
	}
}

func TestStyleFollowsTheConversation(t *testing.T) {
	tmpl, _ := harbour(t)
	if s := tmpl.StyleOf(Conversation{}); s.Form != reading.NoCalls || s.Inside {
		t.Errorf("without tools: %+v", s)
	}
	if s := tmpl.StyleOf(Conversation{Thinking: true, Tools: []exchange.Tool{{Name: "f"}}}); s.Form != reading.JSON || !s.Inside {
		t.Errorf("with tools, thinking: %+v", s)
	}
}

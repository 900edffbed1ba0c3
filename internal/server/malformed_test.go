package server

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"kindredgate/internal/runner/scripted"
)

// malformed is a body and what must be said of it.
type malformed struct{ body, param, code, says string }

// notJSON are bodies that no endpoint can read.
func notJSON() []malformed {
	return []malformed{
		{"", "", "invalid_json", "the body is empty"},
		{"  \n", "", "invalid_json", "the body is empty"},
		{"hello", "", "invalid_json", "is not JSON"},
		{"{", "", "invalid_json", "ends too early"},
		{`{"model": "harbour-4m", "inp`, "", "invalid_json", "ends too early, after 28 bytes"},
		{`{"model": "harbour-4m",}`, "", "invalid_json", "is not JSON"},
		{`{"model": "a"} {"model": "b"}`, "", "invalid_json", "more after the JSON object"},
		{"{\"model\": \"\xff\xfe\"}", "", "invalid_json", "not UTF-8"},
		{`{"model": "a", "model": "b"}`, "", "invalid_json", `"model" appears twice`},
		{`{"model": {"a": 1, "a": 2}}`, "", "invalid_json", `"a" appears twice`},
		{strings.Repeat(`{"a":`, 5000) + "1" + strings.Repeat("}", 5000), "", "invalid_json", "nested more than 100"},
		{strings.Repeat("[", 100000), "", "invalid_json", "nested more than 100"},
		{`[]`, "", "invalid_value", "must be an object, not a list"},
		{`"text"`, "", "invalid_value", "must be an object, not a string"},
		{`17`, "", "invalid_value", "must be an object, not a number"},
		{`{"model": 5}`, "model", "invalid_value", "model must be a string, not a number (5)"},
		{`{"model": ""}`, "model", "invalid_value", "GET /v1/models"},
		{`{}`, "model", "invalid_value", "model is missing"},
	}
}

// Every endpoint answers a malformed body with 400, the field at fault, and what to do. What a chat request may not
// hold is in the table of package chat, too long to repeat.
func TestMalformedBodies(t *testing.T) {
	h := start(t, &scripted.Runner{})
	const sampling = "temperature=3:temperature:must be from 0 to 2|temperature=\"hot\":temperature:must be a number|temperature=1e999:temperature:must be a number|" +
		"top_p=-1:top_p:from 0 to 1|seed=1.5:seed:must be an integer|seed=1e30:seed:must be an integer|frequency_penalty=9:frequency_penalty:from -2 to 2|logit_bias={\"x\":1}:logit_bias:not a token id|" +
		"logit_bias={\"5\":900}:logit_bias.5:from -100 to 100|logit_bias=[]:logit_bias:must be an object|stop=[\"\"]:stop:would end every answer|stop=5:stop:a string or a list of strings"
	for path, c := range map[string]struct {
		ok   string // the fields of a body that is right
		more string // name=value:param:words, with |
		full []malformed
	}{
		"/v1/chat/completions": {ok: `"model":"harbour-4m","messages":[{"role":"user","content":"x"}]`,
			more: sampling + `|n=0:n:from 1 to 8|stream=1:stream:must be a boolean|stream_options={}:stream_options:goes with|max_completion_tokens=-1:max_completion_tokens:from 1|top_logprobs=3:top_logprobs:goes with|` +
				`tools=[{"type":"retrieval"}]:tools[0].type:"function" is possible|tool_choice="required":tool_choice:no tools are offered|response_format={"type":"xml"}:response_format.type:json_schema|reasoning_effort="vast":reasoning_effort:it must be none|audio={}:audio:not supported`},
		"/v1/completions": {ok: `"model":"harbour-4m","prompt":"x"`,
			more: sampling + `|n=9:n:from 1 to 8|best_of=0:best_of:from 1 to 8|logprobs=6:logprobs:from 0 to 5|logprobs=true:logprobs:must be an integer|echo="yes":echo:must be a boolean|max_tokens=0:max_tokens:goes with|max_tokens=-1:max_tokens:from 0|suffix=5:suffix:must be a string|suffix="end","echo"=true:suffix:without "echo"|stream_options={}:stream_options:goes with|user=null,"prompt2"=1,"n"=2,"best_of"=1:best_of:n asks for 2|best_of=3,"stream"=true:best_of:without "stream"`,
			full: []malformed{
				{`{"model":"harbour-4m"}`, "prompt", "invalid_value", "prompt is missing"},
				{`{"model":"harbour-4m","prompt":null}`, "prompt", "invalid_value", "prompt is missing"},
				{`{"model":"harbour-4m","prompt":[]}`, "prompt", "invalid_value", "empty list"},
				{`{"model":"harbour-4m","prompt":5}`, "prompt", "invalid_value", "must be a list"},
				{`{"model":"harbour-4m","prompt":{}}`, "prompt", "invalid_value", "must be a list"},
				{`{"model":"harbour-4m","prompt":[1,"x"]}`, "prompt", "invalid_value", "a list of tokens"},
				{`{"model":"harbour-4m","prompt":["x",1]}`, "prompt", "invalid_value", "a list of tokens"},
				{`{"model":"harbour-4m","prompt":[[1],["x"]]}`, "prompt", "invalid_value", "a list of tokens"},
				{`{"model":"harbour-4m","n":3,"prompt":[` + strings.Repeat(`"x",`, 43) + `"x"]}`, "n", "invalid_value", "make 132; 128 are possible"},
				{`{"model":"harbour-4m","prompt":[1,2],"suffix":"end"}`, "suffix", "invalid_value", "prompts that are texts"},
				{`{"model":"harbour-4m","prompt":[1.5]}`, "prompt", "invalid_value", "whole numbers"},
				{`{"model":"harbour-4m","prompt":[` + strings.Repeat(`"x",`, 64) + `"x"]}`, "prompt", "invalid_value", "64 are possible"},
			}},
		"/v1/generate": {ok: `"model":"harbour-4m","prompt":"x"`,
			more: sampling + `|stream="perhaps":stream:must be a boolean|reasoning=2:reasoning:must be a boolean|max_tokens="many":max_tokens:must be an integer|max_tokens="0":max_tokens:from 1|format="xml":format:it must be text, object|format=5:format:must be an object|format={"not":{}}:format:not is not a keyword|format="{":format:must be an object|history="x":history:must be a list|history=[{"role":"boss","text":"x"}]:history[0].role:user or assistant|history=[{"role":"user"}]:history:must be|instructions=5:instructions:must be a string|messages=[]:messages:there is no field "messages" in this style`,
			full: []malformed{
				{`{"model":"harbour-4m"}`, "prompt", "invalid_value", "prompt is missing"},
				{`{"model":"harbour-4m","prompt":["x"]}`, "prompt", "invalid_value", "must be a string"},
			}},
		"/v1/embeddings": {ok: `"model":"harbour-embed","input":"x"`,
			more: `encoding_format="hex":encoding_format:float or base64|encoding_format=5:encoding_format:must be a string|dimensions=0:dimensions:from 1|dimensions="x":dimensions:must be an integer|dimensions=7:dimensions:have 256 and cannot be cut`,
			full: []malformed{
				{`{"model":"harbour-embed"}`, "input", "invalid_value", "input is missing"},
				{`{"model":"harbour-embed","input":[]}`, "input", "invalid_value", "empty list"},
				{`{"model":"harbour-embed","input":{}}`, "input", "invalid_value", "must be a list"},
				{`{"model":"harbour-embed","input":7}`, "input", "invalid_value", "must be a list"},
				{`{"model":"harbour-embed","input":[{}]}`, "input", "invalid_value", "a list of texts"},
				{`{"model":"harbour-embed","input":[null]}`, "input", "invalid_value", "a list of texts"},
				{`{"model":"harbour-embed","input":[` + strings.Repeat(`"x",`, 2048) + `"x"]}`, "input", "invalid_value", "2048 are possible"},
				{`{"model":"harbour-4m","input":"x"}`, "model", "invalid_value", "these do: harbour-embed"},
			}},
		"/v1/responses": {ok: `"model":"harbour-4m","input":"x"`,
			more: sampling + `|stream="true":stream:must be a boolean|background=true,"store"=false:background:has to be stored|max_output_tokens=0:max_output_tokens:from 1|max_tool_calls=0:max_tool_calls:from 1|truncation="some":truncation:auto or disabled|metadata={"a":1}:metadata:object of strings|service_tier="gold":service_tier:auto, default|reasoning={"effort":"vast"}:reasoning.effort:it must be none|reasoning={"summary":"long"}:reasoning.summary:auto, concise|text={"format":{"type":"xml"}}:text.format.type:json_schema|text={"format":{"type":"json_schema","name":"a"}}:text.format.schema:is missing|text={"format":{"type":"json_schema","name":"a","schema":{"not":{}}}}:text.format.schema:not is not|text={"verbosity":"loud"}:text.verbosity:low, medium|tools=[{"type":"web_search"}]:tools[0].type:"function" is possible|tools=[{"type":"function"}]:tools[0].name:a name has|tools=[{"type":"function","name":"f"}],"tool_choice"={"type":"function","name":"g"}:tool_choice.name:not among|tools=[{"type":"function","name":"f"}],"tool_choice"={"type":"allowed_tools","mode":"auto","tools":[]}:tool_choice.tools:names no tool|tool_choice={"type":"function"}:tool_choice.name:is missing|include=["everything"]:include:these are known|top_logprobs=21:top_logprobs:from 0 to 20|conversation="c":conversation:previous_response_id|prompt={"id":"p"}:prompt:make a preset|context_management=[]:context_management:truncation|previous_response_id="resp_none":previous_response_id:there is no response`,
			full: []malformed{
				{`{"model":"harbour-4m"}`, "input", "invalid_value", "input is missing"},
				{`{"model":"harbour-4m","input":[]}`, "input", "invalid_value", "empty list"},
				{`{"model":"harbour-4m","input":5}`, "input", "invalid_value", "must be a list"},
				{`{"model":"harbour-4m","input":["x"]}`, "input[0]", "invalid_value", "must be an object"},
				{`{"model":"harbour-4m","input":[{}]}`, "input[0].role", "invalid_value", "is missing"},
				{`{"model":"harbour-4m","input":[{"role":"tool","content":"x"}]}`, "input[0].role", "invalid_value", "user, assistant"},
				{`{"model":"harbour-4m","input":[{"role":"user"}]}`, "input[0].content", "invalid_value", "is missing"},
				{`{"model":"harbour-4m","input":[{"role":"user","content":[{"type":"input_image"}]}]}`, "input[0].content[0].type", "invalid_value", "text only"},
				{`{"model":"harbour-4m","input":[{"role":"user","content":[{"type":"poem"}]}]}`, "input[0].content[0].type", "invalid_value", "input_text, output_text"},
				{`{"model":"harbour-4m","input":[{"role":"user","content":[{"type":"input_text"}]}]}`, "input[0].content[0].text", "invalid_value", "is missing"},
				{`{"model":"harbour-4m","input":[{"type":"item_reference","id":"x"}]}`, "input[0].type", "invalid_value", "are possible"},
				{`{"model":"harbour-4m","input":[{"type":"function_call","name":"f","arguments":"{}"}]}`, "input[0].call_id", "invalid_value", "is missing"},
				{`{"model":"harbour-4m","input":[{"type":"function_call_output","call_id":"x"}]}`, "input[0].output", "invalid_value", "what the function gave"},
			}},
	} {
		cases := append(notJSON(), c.full...)
		for more := range strings.SplitSeq(c.more, "|") {
			// name=value:param:words; the value is what is left when the ends are cut off
			name, rest, _ := strings.Cut(more, "=")
			at := strings.LastIndex(rest, ":")
			value, words := rest[:at], rest[at+1:]
			at = strings.LastIndex(value, ":")
			value, param := value[:at], value[at+1:]
			field := fmt.Sprintf("%q:%s", name, strings.ReplaceAll(value, `"=`, `":`))
			cases = append(cases, malformed{"{" + c.ok + "," + field + "}", param, "", words})
		}
		if len(cases) < 25 {
			t.Errorf("%s: only %d bodies", path, len(cases))
		}
		for _, m := range cases {
			resp, raw := h.do(t, "POST", path, h.key, m.body)
			var e envelope
			if err := json.Unmarshal([]byte(raw), &e); err != nil {
				t.Errorf("%s %.90s: %v in %s", path, m.body, err, raw)
				continue
			}
			param := ""
			if e.Error.Param != nil {
				param = *e.Error.Param
			}
			if resp.StatusCode != 400 || param != m.param || m.code != "" && e.Error.Code != m.code || !strings.Contains(e.Error.Message, m.says) {
				t.Errorf("%s %.160s:\n%d %s\nwant param %q, code %q, %q", path, m.body, resp.StatusCode, raw, m.param, m.code, m.says)
			}
		}
	}
	resp, raw := h.do(t, "POST", "/v1/generate", h.key, "model=harbour-4m&prompt=%zz", "Content-Type", "application/x-www-form-urlencoded")
	if resp.StatusCode != 400 || !strings.Contains(raw, "not a form") {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
}

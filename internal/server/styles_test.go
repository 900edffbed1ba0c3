package server

import (
	"context"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
	"kindredgate/internal/runner/scripted"
)

// post asks and reads the answer into out.
func (h *testServer) post(t testing.TB, path, body string, out any, header ...string) *http.Response {
	t.Helper()
	resp, raw := h.do(t, "POST", path, h.key, body, header...)
	if resp.StatusCode != 200 {
		t.Fatalf("%s %s: %d %s", path, body, resp.StatusCode, raw)
	}
	if err := json.Unmarshal([]byte(raw), out); err != nil {
		t.Fatalf("%v in %s", err, raw)
	}
	return resp
}

// sseEvent is an event of a stream as a client sees it.
type sseEvent struct{ name, data string }

// events asks for a stream and reads it to its end.
func (h *testServer) events(t testing.TB, method, path, body string) (list []sseEvent) {
	t.Helper()
	resp, raw := h.do(t, method, path, h.key, body)
	if resp.StatusCode != 200 || !strings.HasPrefix(resp.Header.Get("Content-Type"), "text/event-stream") || resp.Header.Get("X-Accel-Buffering") != "no" {
		t.Fatalf("%s %s: %d %v %s", path, body, resp.StatusCode, resp.Header, raw)
	}
	for block := range strings.SplitSeq(strings.TrimSuffix(raw, "\n\n"), "\n\n") {
		var e sseEvent
		for line := range strings.SplitSeq(block, "\n") {
			if v, ok := strings.CutPrefix(line, "event: "); ok {
				e.name = v
			} else if v, ok := strings.CutPrefix(line, "data: "); ok {
				e.data = v
			} else if !strings.HasPrefix(line, ":") {
				t.Fatalf("line %q", line)
			}
		}
		if e.data != "" {
			list = append(list, e)
		}
	}
	if last := list[len(list)-1]; last.data != "[DONE]" {
		t.Fatalf("the last event is %q", last.data)
	}
	return list[:len(list)-1]
}

const askOsmer = "When is the last boat to Osmer?"

// For the same seed a stream joins to the text of the whole answer, in every style, with every answer as the contract
// has it.
func TestStreamsJoinToTheWhole(t *testing.T) {
	h := startNative(t)
	const drawn = `"model":"harbour-4m","temperature":1,"seed":7`
	for _, c := range []struct {
		path, body, schema string
		whole              func(raw []byte) string
		delta              func(raw []byte) string
	}{
		{"/v1/chat/completions", `{` + drawn + `,"max_completion_tokens":40,"logprobs":true,"top_logprobs":2,"messages":[{"role":"user","content":"Tell me about Osmer."}]`, "ChatChunk",
			textAt("choices", 0, "message", "content"), textAt("choices", 0, "delta", "content")},
		{"/v1/chat/completions", `{` + drawn + `,"reasoning_effort":"low","messages":[{"role":"user","content":"Which is longer, Osmer or Brannoc?"}]`, "ChatChunk",
			textAt("choices", 0, "message", "reasoning_content"), textAt("choices", 0, "delta", "reasoning_content")},
		{"/v1/chat/completions", `{` + drawn + `,"response_format":{"type":"json_schema","json_schema":{"name":"a","schema":{"type":"object","properties":{"n":{"type":"integer","minimum":0,"maximum":99}},"required":["n"]}}},"messages":[{"role":"user","content":"How many?"}]`, "ChatChunk",
			textAt("choices", 0, "message", "content"), textAt("choices", 0, "delta", "content")},
		{"/v1/completions", `{` + drawn + `,"prompt":"The last boat","echo":true,"logprobs":1`, "Completion", textAt("choices", 0, "text"), textAt("choices", 0, "text")},
		{"/v1/generate", `{` + drawn + `,"prompt":"Tell me about Osmer.","max_tokens":"30"`, "GenerationPiece", textAt("text"), textAt("text")},
		{"/v1/responses", `{` + drawn + `,"input":"Tell me about Osmer.","max_output_tokens":30`, "ResponseEvent",
			textAt("output", 0, "content", 0, "text"), func(raw []byte) string {
				if textAt("type")(raw) == "response.output_text.delta" {
					return textAt("delta")(raw)
				}
				return ""
			}},
	} {
		_, raw := h.do(t, "POST", c.path, h.key, c.body+"}")
		want := c.whole([]byte(raw))
		got := ""
		for _, e := range h.events(t, "POST", c.path, c.body+`,"stream":true}`) {
			if textAt("object")([]byte(e.data)) == "generation" { // the whole at the end of its stream
				matchesSchema(t, "Generation", []byte(e.data))
				continue
			}
			matchesSchema(t, c.schema, []byte(e.data))
			got += c.delta([]byte(e.data))
		}
		if want == "" || got != want {
			t.Errorf("%s %s:\nstream %q\nwhole  %q", c.path, c.body, got, want)
		}
	}
}

// textAt reads a text out of JSON; empty if it is not there.
func textAt(keys ...any) func(raw []byte) string {
	return func(raw []byte) string {
		var v any
		if json.Unmarshal(raw, &v) != nil {
			return ""
		}
		for _, k := range keys {
			switch k := k.(type) {
			case string:
				m, _ := v.(map[string]any)
				v = m[k]
			case int:
				l, _ := v.([]any)
				if k >= len(l) {
					return ""
				}
				v = l[k]
			}
		}
		s, _ := v.(string)
		return s
	}
}

func TestChatWithToolsAndFormats(t *testing.T) {
	h := startNative(t)
	const tools = `,"tools":[{"type":"function","function":{"name":"next_sailing","parameters":{"type":"object","properties":{"island":{"enum":["Osmer","Brannoc"]}},"required":["island"],"additionalProperties":false}}},{"type":"function","function":{"name":"fare_quote","parameters":{"type":"object"}}}]`
	type answer struct {
		Choices []struct {
			FinishReason string `json:"finish_reason"`
			Message      struct {
				Content   *string
				ToolCalls []struct {
					ID       string
					Function struct{ Name, Arguments string }
				} `json:"tool_calls"`
			}
		}
		Usage struct {
			Details struct {
				Reasoning int `json:"reasoning_tokens"`
			} `json:"completion_tokens_details"`
		}
	}
	body := func(more string) string {
		return `{"model":"harbour-4m","seed":3,"messages":[{"role":"user","content":"Good morning."}]` + more + `}`
	}
	for _, c := range []struct{ more, tool string }{
		{tools + `,"tool_choice":"required","parallel_tool_calls":false`, ""},
		{tools + `,"tool_choice":{"type":"function","function":{"name":"next_sailing"}}`, "next_sailing"},
		{tools + `,"tool_choice":{"type":"allowed_tools","allowed_tools":{"mode":"required","tools":[{"type":"function","function":{"name":"fare_quote"}}]}},"parallel_tool_calls":false`, "fare_quote"},
	} {
		var a answer
		h.post(t, "/v1/chat/completions", body(c.more+`,"max_tokens":80`), &a)
		choice := a.Choices[0]
		if choice.FinishReason != "tool_calls" && choice.FinishReason != "length" || len(choice.Message.ToolCalls) != 1 || choice.Message.Content != nil {
			t.Errorf("%s: %+v", c.more, choice)
			continue
		}
		call := choice.Message.ToolCalls[0]
		if !json.Valid([]byte(call.Function.Arguments)) || !strings.HasPrefix(call.ID, "call_") || c.tool != "" && call.Function.Name != c.tool {
			t.Errorf("%s: %+v", c.more, call)
		}
	}
	var none answer
	h.post(t, "/v1/chat/completions", body(tools+`,"tool_choice":"none"`), &none)
	if m := none.Choices[0].Message; m.ToolCalls != nil || m.Content == nil {
		t.Errorf("%+v", m)
	}
	var object answer
	h.post(t, "/v1/chat/completions", body(`,"response_format":{"type":"json_object"},"max_tokens":30,"temperature":1,"n":3`), &object)
	for _, c := range object.Choices {
		if !json.Valid([]byte(*c.Message.Content)) || (*c.Message.Content)[0] != '{' {
			t.Errorf("no object: %s", *c.Message.Content)
		}
	}
	var thought answer
	h.post(t, "/v1/chat/completions", body(`,"reasoning_effort":"high","max_tokens":200`), &thought)
	if thought.Usage.Details.Reasoning == 0 {
		t.Errorf("%+v", thought.Usage)
	}
}

func TestCompletions(t *testing.T) {
	h := startNative(t)
	var a struct {
		Choices []struct {
			Index        int
			Text         string
			FinishReason string `json:"finish_reason"`
			Logprobs     *struct {
				Tokens  []string
				Scores  []*float64 `json:"token_logprobs"`
				Offsets []int      `json:"text_offset"`
			}
		}
		Usage struct {
			Prompt     int `json:"prompt_tokens"`
			Completion int `json:"completion_tokens"`
		}
	}
	h.post(t, "/v1/completions", `{"model":"harbour-4m","prompt":["The last boat","A bicycle"],"n":2,"best_of":4,"temperature":1,"seed":1,"logprobs":1,"echo":true,"max_tokens":6}`, &a)
	if len(a.Choices) != 4 || a.Usage.Completion > 2*4*6 || a.Usage.Prompt == 0 {
		t.Fatalf("%+v", a)
	}
	for i, c := range a.Choices {
		prompt := []string{"The last boat", "The last boat", "A bicycle", "A bicycle"}[i]
		joined := strings.Join(c.Logprobs.Tokens, "")
		if c.Index != i || !strings.HasPrefix(c.Text, prompt) || joined != c.Text || len(c.Logprobs.Scores) != len(c.Logprobs.Tokens) {
			t.Errorf("choice %d: %+v, tokens %q", i, c, joined)
		}
		for j, at := range c.Logprobs.Offsets {
			if !strings.HasPrefix(c.Text[at:], c.Logprobs.Tokens[j]) {
				t.Errorf("token %d of choice %d is not at %d", j, i, at)
			}
		}
	}
	mean := func(i int) (sum float64) {
		scores := a.Choices[i].Logprobs.Scores[3:]
		for _, s := range scores {
			sum += *s
		}
		return sum / float64(len(scores))
	}
	if mean(0) < mean(1) {
		t.Errorf("the first, %f, is less likely than the second, %f", mean(0), mean(1))
	}
	// The default is the standard's 16 tokens; nothing but the prompt can be asked for too.
	h.post(t, "/v1/completions", `{"model":"harbour-4m","prompt":[[84,104,101]],"temperature":0}`, &a)
	if a.Usage.Completion != 16 || a.Choices[0].FinishReason != "length" || a.Choices[0].Logprobs != nil {
		t.Errorf("%+v", a)
	}
	h.post(t, "/v1/completions", `{"model":"harbour-4m","prompt":"The last boat","echo":true,"max_tokens":0,"logprobs":0}`, &a)
	if a.Usage.Completion != 0 || a.Choices[0].Text != "The last boat" || len(a.Choices[0].Logprobs.Tokens) != 3 {
		t.Errorf("%+v", a.Choices[0])
	}
	resp, raw := h.do(t, "POST", "/v1/completions", h.key, `{"model":"harbour-4m","prompt":"The last boat","suffix":" leaves."}`)
	if resp.StatusCode != 400 || textAt("error", "param")([]byte(raw)) != "suffix" || !strings.Contains(raw, "no fill-in tokens") {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
	resp, raw = h.do(t, "POST", "/v1/completions", h.key, `{"model":"harbour-4m","prompt":"`+strings.Repeat("boat ", 3000)+`"}`)
	if resp.StatusCode != 400 || !strings.Contains(raw, `"param":"prompt"`) || !strings.Contains(raw, "context_length_exceeded") {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
}

// What a no-code tool sends: forms, and texts for everything.
func TestGenerateTakesWhatToolsSend(t *testing.T) {
	h := startNative(t)
	type generation struct {
		Object, Text, Reasoning, FinishReason string
		Usage                                 struct {
			Total int `json:"total_tokens"`
		}
		Timings struct {
			Total float64 `json:"total_ms"`
		}
	}
	form := url.Values{"model": {"harbour-4m"}, "prompt": {askOsmer}, "temperature": {"0"}, "stream": {"false"}, "max_tokens": {""}, "stop": {"Xyzzy", "Plugh"},
		"history": {`[{"role":"user","text":"Hello"},{"role":"assistant","text":"Good day."}]`}, "instructions": {"You are a cheerful harbour master."}}
	var a, b generation
	h.post(t, "/v1/generate", form.Encode(), &a, "Content-Type", "application/x-www-form-urlencoded")
	h.post(t, "/v1/generate", `{"model":"harbour-4m","prompt":"`+askOsmer+`","temperature":"0","stream":"false","stop":["Xyzzy","Plugh"],"instructions":"You are a cheerful harbour master.","history":"[{\"role\":\"user\",\"text\":\"Hello\"},{\"role\":\"assistant\",\"text\":\"Good day.\"}]"}`, &b)
	if a.Text == "" || a.Text != b.Text || a.Object != "generation" || a.Usage.Total == 0 || a.Timings.Total <= 0 {
		t.Errorf("form %+v\nJSON %+v", a, b)
	}
	var c generation
	schema := url.Values{"model": {"harbour-4m"}, "prompt": {askOsmer}, "format": {`{"type":"object","properties":{"at":{"type":"string","pattern":"^\\d\\d:\\d\\d$"}},"required":["at"]}`}, "reasoning": {"false"}, "logit_bias": {`{"5": "1"}`}}
	h.post(t, "/v1/generate", schema.Encode(), &c, "Content-Type", "application/x-www-form-urlencoded")
	var at struct{ At string }
	if err := json.Unmarshal([]byte(c.Text), &at); err != nil || len(at.At) != 5 {
		t.Errorf("%q, %v", c.Text, err)
	}
	h.post(t, "/v1/generate", `{"model":"harbour-4m","prompt":"Which is longer, Osmer or Brannoc?","reasoning":"true"}`, &c)
	if c.Reasoning == "" || strings.Contains(c.Text, c.Reasoning) {
		t.Errorf("%+v", c)
	}
}

func TestGenerateInLines(t *testing.T) {
	h := start(t, &scripted.Runner{Before: pauses(map[int]time.Duration{1: 60 * time.Millisecond})}, func(o *Options) { o.Silence = 20 * time.Millisecond })
	resp, raw := h.do(t, "POST", "/v1/generate", h.key, `{"model":"harbour-4m","prompt":"one two three","stream":true}`, "Accept", jsonLines)
	if resp.StatusCode != 200 || resp.Header.Get("Content-Type") != jsonLines {
		t.Fatalf("%d %v", resp.StatusCode, resp.Header)
	}
	text, waited, last := "", false, ""
	for line := range strings.SplitSeq(strings.TrimSuffix(raw, "\n"), "\n") {
		last = textAt("object")([]byte(line))
		waited = waited || last == "generation.waiting"
		if last != "generation" {
			matchesSchema(t, "GenerationPiece", []byte(line))
			text += textAt("text")([]byte(line))
			continue
		}
		matchesSchema(t, "Generation", []byte(line))
		if whole := textAt("text")([]byte(line)); whole != text || whole != "one two three" {
			t.Errorf("the pieces say %q, the whole %q", text, whole)
		}
	}
	if last != "generation" || !waited {
		t.Errorf("waited %v, the last is %s:\n%s", waited, last, raw)
	}
	// An error in the middle is the last line.
	broken := start(t, &scripted.Runner{Before: func(_ context.Context, piece int) error {
		if piece == 1 {
			return fmt.Errorf("the cable was cut")
		}
		return nil
	}})
	_, raw = broken.do(t, "POST", "/v1/generate", broken.key, `{"model":"harbour-4m","prompt":"one two three","stream":true}`, "Accept", jsonLines)
	lines := strings.Split(strings.TrimSpace(raw), "\n")
	if code := textAt("error", "code")([]byte(lines[len(lines)-1])); code != "internal_error" {
		t.Errorf("%s", raw)
	}
}

// pauses waits before pieces.
func pauses(at map[int]time.Duration) func(context.Context, int) error {
	return func(ctx context.Context, piece int) error {
		if at[piece] == 0 {
			return nil
		}
		select {
		case <-time.After(at[piece]):
			return nil
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

func TestEmbeddings(t *testing.T) {
	h := startNative(t)
	type list struct {
		Model string
		Data  []struct {
			Index     int
			Embedding json.RawMessage
		}
		Usage struct {
			Prompt int `json:"prompt_tokens"`
			Total  int `json:"total_tokens"`
		}
	}
	var plain, packed, one list
	h.post(t, "/v1/embeddings", `{"model":"harbour-embed","input":["last boat to Osmer","a bicycle"],"dimensions":256}`, &plain)
	h.post(t, "/v1/embeddings", `{"model":"harbour-embed","input":["last boat to Osmer","a bicycle"],"encoding_format":"base64"}`, &packed)
	h.post(t, "/v1/embeddings", `{"model":"harbour-embed","input":[2041,1307]}`, &one)
	if len(plain.Data) != 2 || plain.Data[1].Index != 1 || plain.Usage.Prompt == 0 || plain.Usage != packed.Usage || len(one.Data) != 1 || one.Usage.Total != 2 {
		t.Fatalf("%d vectors, %+v; %+v", len(plain.Data), plain.Usage, one.Usage)
	}
	for i := range plain.Data {
		var numbers []float32
		var text string
		if err := json.Unmarshal(plain.Data[i].Embedding, &numbers); err != nil {
			t.Fatal(err)
		}
		if err := json.Unmarshal(packed.Data[i].Embedding, &text); err != nil {
			t.Fatal(err)
		}
		raw, err := base64.StdEncoding.DecodeString(text)
		if err != nil || len(raw) != 4*len(numbers) || len(numbers) != 256 {
			t.Fatalf("%d bytes for %d numbers: %v", len(raw), len(numbers), err)
		}
		length := 0.0
		for j, x := range numbers {
			if y := math.Float32frombits(binary.LittleEndian.Uint32(raw[4*j:])); x != y {
				t.Fatalf("number %d is %g in one form, %g in the other", j, x, y)
			}
			length += float64(x) * float64(x)
		}
		if math.Abs(length-1) > 1e-5 {
			t.Errorf("vector %d has the length %f", i, math.Sqrt(length))
		}
	}
	resp, raw := h.do(t, "POST", "/v1/chat/completions", h.key, `{"model":"harbour-embed","messages":[{"role":"user","content":"x"}]}`)
	if resp.StatusCode != 400 || !strings.Contains(raw, "POST /v1/embeddings") {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
}

func TestSnippetsAndContractOverHTTP(t *testing.T) {
	h := start(t, &scripted.Runner{})
	resp, raw := h.do(t, "POST", "/gate/snippet", h.owner, `{"style":"generate","language":"python","request":{"model":"m","prompt":"it's"}}`)
	if resp.StatusCode != 200 || !strings.Contains(raw, h.url+"/v1/generate") || strings.Contains(raw, h.owner) {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
	for _, body := range []string{`{"style":"x","language":"go","request":{}}`, `{"style":"chat","language":"cobol","request":{}}`, `{"style":"chat","language":"go"}`, `{"style":"chat","language":"go","request":{},"extra":1}`} {
		if resp, raw := h.do(t, "POST", "/gate/snippet", h.owner, body); resp.StatusCode != 400 {
			t.Errorf("%s: %d %s", body, resp.StatusCode, raw)
		}
	}
	var doc struct{ Openapi string }
	_, raw = h.do(t, "GET", "/openapi.json", "", "")
	if err := json.Unmarshal([]byte(raw), &doc); err != nil || doc.Openapi != "3.0.3" {
		t.Errorf("%v, %q", err, doc.Openapi)
	}
}

// A style gives an error about the conversation the name that its own field has.
func TestTooLongIsToldInTheStylesWords(t *testing.T) {
	h := start(t, &scripted.Runner{Before: func(context.Context, int) error {
		return &exchange.Error{Kind: exchange.Invalid, Code: "context_length_exceeded", Param: exchange.Conversation, Message: "too long"}
	}})
	for p, c := range map[string][2]string{
		"/v1/chat/completions": {`{"model":"harbour-4m","messages":[{"role":"user","content":"x"}]`, "messages"},
		"/v1/completions":      {`{"model":"harbour-4m","prompt":"x"`, "prompt"},
		"/v1/generate":         {`{"model":"harbour-4m","prompt":"x"`, "prompt"},
		"/v1/responses":        {`{"model":"harbour-4m","input":"x"`, "input"},
	} {
		for _, end := range []string{"}", `,"stream":true}`} {
			resp, raw := h.do(t, "POST", p, h.key, c[0]+end)
			if param := textAt("error", "param")([]byte(raw)); resp.StatusCode != 400 || param != c[1] {
				t.Errorf("%s: %d %s", p, resp.StatusCode, raw)
			}
		}
	}
}

// A preset may let the oldest turns go in chat too, and says so; and what answered is told alike by every style and by the list.
func TestPresetsInEveryStyle(t *testing.T) {
	h := startNative(t)
	if resp, raw := h.do(t, "POST", "/gate/presets", h.owner, `{"name":"short","model":"harbour-4m","context":200,"longest_answer":8,"drop_oldest":true,"reasoning":false,"fixed":true,"temperature":0}`); resp.StatusCode != 201 {
		t.Fatalf("%d %s", resp.StatusCode, raw)
	}
	var turns []string
	for i := range 90 {
		turns = append(turns, fmt.Sprintf(`{"role":"user","content":"When does boat %d to Osmer leave?"},{"role":"assistant","content":"It leaves at 10:%02d from the first pier."}`, i, i))
	}
	long := func(model, more string) string {
		return `{"model":"` + model + `","messages":[` + strings.Join(turns, ",") + `,{"role":"user","content":"And the last one?"}],"max_tokens":90` + more + `}`
	}
	resp, raw := h.do(t, "POST", "/v1/chat/completions", h.key, long("short", ""))
	var answer struct {
		Fingerprint string `json:"system_fingerprint"`
		Usage       struct {
			Prompt int `json:"prompt_tokens"`
			Answer int `json:"completion_tokens"`
		}
	}
	if err := json.Unmarshal([]byte(raw), &answer); err != nil || resp.StatusCode != 200 || answer.Usage.Prompt >= 200 || answer.Usage.Answer > 8 {
		t.Errorf("%d %s, %v", resp.StatusCode, raw, err)
	}
	dropped, err := strconv.Atoi(resp.Header.Get(droppedHeader))
	if err != nil || dropped < 10 || dropped%2 != 0 {
		t.Errorf("%s: %q", droppedHeader, resp.Header.Get(droppedHeader))
	}
	if r := <-h.records; r.DroppedTurns != dropped || r.Preset != "short" {
		t.Errorf("the record: %+v", r)
	}
	if resp, _ := h.do(t, "POST", "/v1/chat/completions", h.key, long("short", `,"stream":true`)); resp.Header.Get(droppedHeader) != strconv.Itoa(dropped) {
		t.Errorf("a stream says %q", resp.Header.Get(droppedHeader))
	}
	if resp, raw := h.do(t, "POST", "/v1/chat/completions", h.key, long("harbour-4m", "")); resp.StatusCode != 400 || !strings.Contains(raw, "context_length_exceeded") {
		t.Errorf("without the preset: %d %s", resp.StatusCode, raw)
	}
	if resp, raw := h.do(t, "POST", "/v1/generate", h.key, `{"model":"short","prompt":"`+strings.Repeat("boat ", 250)+`"}`); resp.StatusCode != 400 || !strings.Contains(raw, "200") {
		t.Errorf("a prompt that no dropping helps: %d %s", resp.StatusCode, raw)
	}
	var list struct {
		Data []struct {
			ID      string
			Context int `json:"context_length"`
			Longest int `json:"max_output_tokens"`
		}
	}
	_, raw = h.do(t, "GET", "/v1/models", h.key, "")
	if err := json.Unmarshal([]byte(raw), &list); err != nil {
		t.Fatal(err)
	}
	for _, m := range list.Data {
		if want := map[string][2]int{"harbour-4m": {2048, 2047}, "harbour-embed": {2048, 0}, "short": {200, 8}}[m.ID]; want != [2]int{m.Context, m.Longest} {
			t.Errorf("%+v, want %v", m, want)
		}
	}
	// The fingerprint.
	var facts struct{ Fingerprint string }
	_, raw = h.do(t, "GET", "/gate/models/harbour-4m", h.owner, "")
	if err := json.Unmarshal([]byte(raw), &facts); err != nil || !strings.HasPrefix(facts.Fingerprint, "fp_") || facts.Fingerprint == answer.Fingerprint || answer.Fingerprint == "" {
		t.Errorf("%s; the preset's is %s", raw, answer.Fingerprint)
	}
	for path, body := range map[string]string{
		"/v1/chat/completions": `"messages":[{"role":"user","content":"x"}],"max_tokens":2`, "/v1/completions": `"prompt":"x","max_tokens":2`,
		"/v1/generate": `"prompt":"x","max_tokens":2`, "/v1/responses": `"input":"x","max_output_tokens":2`,
	} {
		for _, stream := range []string{"", `,"stream":true`} {
			if _, raw := h.do(t, "POST", path, h.key, `{"model":"harbour-4m",`+body+stream+`}`); !strings.Contains(raw, `"system_fingerprint":"`+facts.Fingerprint+`"`) {
				t.Errorf("%s%s does not tell %s: %s", path, stream, facts.Fingerprint, raw)
			}
		}
	}
}

// A client that gives up on silence gets white space ahead of its answer, which is JSON all the same.
func TestWholeAnswersKeepTheLineAlive(t *testing.T) {
	release := make(chan struct{})
	h := start(t, &scripted.Runner{Pieces: aye, Before: func(_ context.Context, piece int) error {
		if piece == 1 {
			<-release
		}
		return nil
	}}, func(o *Options) { o.Silence = time.Nanosecond })
	patient, _ := h.issueWith(t, `{"label":"patient","keep_alive":true}`)
	calls := map[string]string{
		"/v1/chat/completions": chatBody(false, ""),
		"/v1/completions":      `{"model":"harbour-4m","prompt":"When?"}`,
		"/v1/generate":         `{"model":"harbour-4m","prompt":"When?"}`,
		"/v1/responses":        `{"model":"harbour-4m","input":"When?"}`,
	}
	for path, sent := range calls {
		req, err := http.NewRequestWithContext(t.Context(), "POST", h.url+path, strings.NewReader(sent))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+patient)
		req.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultClient.Do(req) // which comes back though the answer waits
		if err != nil {
			t.Fatal(err)
		}
		first := make([]byte, 1)
		if _, err := io.ReadFull(resp.Body, first); err != nil || first[0] != ' ' || resp.StatusCode != 200 || resp.Header.Get("Server-Timing") == "" {
			t.Errorf("%s: begins with %q, %d, %v", path, first, resp.StatusCode, err)
		}
		release <- struct{}{}
		raw, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		var doc map[string]any
		if err != nil || json.Unmarshal(raw, &doc) != nil || !strings.Contains(string(raw), "Aye, aye.") || !strings.HasPrefix(resp.Header.Get("Content-Type"), "application/json") {
			t.Errorf("%s: %q, %v", path, raw, err)
		}
	}
	go func() { release <- struct{}{} }()
	if _, body := h.do(t, "POST", "/v1/generate", h.key, calls["/v1/generate"]); strings.HasPrefix(body, " ") {
		t.Errorf("without the option: %q", body)
	}
}

// A request without a model asks the only one for text that its key may use, or the name for all others; what was chosen is in the answer and
// in the record. Where there are several, it is told to name one.
func TestRequestsWithoutAModel(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye})
	for path, body := range map[string]string{
		"/v1/chat/completions": `{"messages":[{"role":"user","content":"x"}]}`, "/v1/generate": `{"prompt":"x","model":""}`, "/v1/completions": `{"prompt":["x","y"]}`, "/v1/responses": `{"input":"x","model":null}`,
	} {
		resp, raw := h.do(t, "POST", path, h.key, body)
		if resp.StatusCode != 200 || !strings.Contains(raw, `"model":"harbour-4m"`) {
			t.Errorf("%s: %d %s", path, resp.StatusCode, raw)
		}
		if r := <-h.records; r.Model != "harbour-4m" || !r.Chosen {
			t.Errorf("%s: recorded as %q, chosen %v", path, r.Model, r.Chosen)
		}
	}
	if resp, raw := h.do(t, "POST", "/v1/embeddings", h.key, `{"input":"x"}`); resp.StatusCode != 400 || !strings.Contains(raw, "model is missing") {
		t.Errorf("%d %s", resp.StatusCode, raw)
	}
	if resp, raw := h.do(t, "PUT", "/gate/names", h.owner, `{"name":"*","of":[{"to":"harbour-4m"}]}`); resp.StatusCode != 200 {
		t.Fatal(raw)
	}
	for len(h.records) > 0 {
		<-h.records
	}
	h.do(t, "POST", "/v1/chat/completions", h.key, `{"messages":[{"role":"user","content":"x"}]}`)
	if r := <-h.records; r.Model != "*" || r.Answered != "harbour-4m" || !r.Chosen {
		t.Errorf("recorded as %q, served by %q", r.Model, r.Answered)
	}
}

// A field that is nearly another one is ignored, and said so in a header; what is far from all others is in the log alone.
func TestMisspeltFieldsAreTold(t *testing.T) {
	h := start(t, &scripted.Runner{Pieces: aye})
	resp, body := h.do(t, "POST", "/v1/chat/completions", h.key, `{"model":"harbour-4m","max_token":5,"mirror":1,"messages":[{"role":"user","contentt":1,"content":"x"}]}`)
	got := resp.Header.Values("Warning")
	want := []string{`199 kindred-gate "the field max_token was ignored; did you mean max_tokens?"`, `199 kindred-gate "the field messages[0].contentt was ignored; did you mean content?"`}
	if resp.StatusCode != 200 || !slices.Equal(got, want) {
		t.Errorf("%d %s: %q, not %q", resp.StatusCode, body, got, want)
	}
}

// An assistant may have said nothing, or have refused; results of tools go to the model in the order of their calls.
func TestTurnsAsTheTypesHaveThem(t *testing.T) {
	var turns []string
	h := start(t, &scripted.Runner{Pieces: func(req *exchange.Request) []string {
		turns = nil
		for _, turn := range req.Turns {
			for _, p := range turn.Parts {
				turns = append(turns, fmt.Sprintf("%s %v", turn.Role, p))
			}
		}
		return []string{"Aye."}
	}})
	const call = `{"id":"%s","type":"function","function":{"name":"f","arguments":"{}"}}`
	calls := fmt.Sprintf(call+","+call+","+call, "a", "b", "c")
	for name, c := range map[string]struct{ path, messages, want string }{
		"null":    {"/v1/chat/completions", `{"role":"assistant","content":null}`, "assistant "},
		"nothing": {"/v1/chat/completions", `{"role":"assistant"}`, "assistant "},
		"refusal": {"/v1/chat/completions", `{"role":"assistant","content":null,"refusal":null}`, "assistant "},
		"results": {"/v1/chat/completions", `{"role":"assistant","content":null,"tool_calls":[` + calls + `]},{"role":"tool","tool_call_id":"c","content":"third"},{"role":"tool","tool_call_id":"x","content":"of none"},{"role":"tool","tool_call_id":"a","content":"first"},{"role":"tool","tool_call_id":"b","content":"second"}`, "tool {a first }|tool {b second }|tool {c third }|tool {x of none }"},
	} {
		resp, body := h.do(t, "POST", c.path, h.key, `{"model":"harbour-4m","messages":[{"role":"user","content":"q"},`+c.messages+`,{"role":"user","content":"x"}]}`)
		if got := strings.Join(turns, "|"); resp.StatusCode != 200 || !strings.Contains(got, c.want) {
			t.Errorf("%s: %d %s: %q", name, resp.StatusCode, body, got)
		}
	}
	items := `{"type":"function_call","call_id":"a","name":"f","arguments":"{}"},{"type":"function_call","call_id":"b","name":"f","arguments":"{}"},{"type":"function_call_output","call_id":"b","output":"second"},{"type":"function_call_output","call_id":"a","output":"first"}`
	h.do(t, "POST", "/v1/responses", h.key, `{"model":"harbour-4m","input":[{"role":"user","content":"q"},`+items+`]}`)
	if got := strings.Join(turns, "|"); !strings.Contains(got, "tool {a first }|tool {b second }") {
		t.Errorf("responses: %q", got)
	}
}

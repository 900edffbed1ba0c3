package remote

import (
	"bufio"
	"encoding/json"
	"log/slog"
	"strings"
	"testing"
	"time"

	"kindredgate/internal/exchange"
)

// agrees holds what is read the short way to what encoding/json reads.
func agrees(t *testing.T, data []byte) (taken bool) {
	t.Helper()
	index, text, ok := textPiece(data)
	if !ok {
		return false
	}
	var c chatChunk
	if err := json.Unmarshal(data, &c); err != nil {
		t.Fatalf("%s is taken, and is no JSON: %v", data, err)
	}
	if len(c.Choices) != 1 || c.Choices[0].Index != index || c.Usage != nil || len(c.Error) > 0 && string(c.Error) != "null" || c.Choices[0].FinishReason != nil || c.Choices[0].Logprobs != nil ||
		len(c.Choices[0].Delta.ToolCalls) > 0 || c.Choices[0].Delta.ReasoningContent != "" || c.Choices[0].Delta.Reasoning != "" || c.Choices[0].Delta.Refusal != nil || c.Choices[0].Message.Content != nil {
		t.Fatalf("%s has more than text", data)
	}
	if got := c.Choices[0].Delta.Content; got == nil && len(text) > 0 || got != nil && *got != string(text) {
		t.Fatalf("%s: %q", data, text)
	}
	return true
}

var pieceCases = map[string]bool{
	`{"id":"c","object":"chat.completion.chunk","created":1893456000,"model":"m","choices":[{"index":2,"delta":{"content":" boat"},"logprobs":null,"finish_reason":null}],"usage":null}`: true,
	`{ "choices" : [ { "delta" : { "role" : "assistant" , "content" : "é" } , "index" : 0 } ] }`:                                                                                         true,
	`{"choices":[{"index":0,"delta":{"content":"a"},"finish_reason":"stop"}]}`:                                                                                                           false,
	`{"choices":[{"index":0,"delta":{"content":"a\n"}}]}`:                                                                                                                                false,
	`{"choices":[{"index":0,"delta":{"content":"a","tool_calls":[]}}]}`:                                                                                                                  false,
	`{"choices":[{"index":0,"delta":{"content":"a","reasoning_content":"b"}}]}`:                                                                                                          false,
	`{"choices":[{"index":0,"delta":{"content":"a"}}],"usage":{"prompt_tokens":1}}`:                                                                                                      false,
	`{"choices":[{"index":0,"delta":{"content":"a"}}],"error":{"message":"x"}}`:                                                                                                          false,
	`{"choices":[{"index":0,"delta":{"content":"a"}},{"index":1,"delta":{"content":"b"}}]}`:                                                                                              false,
	`{"choices":[{"index":0,"delta":{"content":"a"},"logprobs":{"content":[]}}]}`:                                                                                                        false,
	`{"choices":[]}`:                                                 false,
	`{"choices":[{"index":1.5,"delta":{}}]}`:                         false,
	`{"choices":[{"index":0,"delta":{"content":"a"}}]} x`:            false,
	`{"choices":[{"index":0,"delta":{"content":"a"}}],}`:             false,
	`{"choices":[{"index":00,"delta":{"content":"a"}}]}`:             false,
	`{"nullx":nullx,"choices":[{"index":0,"delta":{}}]}`:             false,
	"{\"choices\":[{\"index\":0,\"delta\":{\"content\":\"\xff\"}}]}": false,
}

func TestTextPieces(t *testing.T) {
	for data, want := range pieceCases {
		if got := agrees(t, []byte(data)); got != want {
			t.Errorf("%s: taken is %v", data, got)
		}
	}
}

func FuzzTextPiece(f *testing.F) {
	for data := range pieceCases {
		f.Add([]byte(data))
	}
	f.Fuzz(func(t *testing.T, data []byte) { agrees(t, data) })
}

// Whatever a server sends, in whatever style, ends in an answer that is one, or in an error; nothing is yielded after that.
func FuzzStream(f *testing.F) {
	f.Add("data: {\"choices\":[{\"index\":0,\"delta\":{\"content\":\"a\"}}]}\n\ndata: {\"choices\":[{\"index\":0,\"finish_reason\":\"stop\"}],\"usage\":{\"prompt_tokens\":1,\"completion_tokens\":1}}\n\ndata: [DONE]\n\n", uint8(0))
	f.Add(": wait\r\ndata: {\"choices\":[{\"delta\":{\"tool_calls\":[{\"id\":\"a\",\"function\":{\"name\":\"f\",\"arguments\":\"{}\"}}]}}]}\r\n\r\n", uint8(0))
	f.Add("data: {\"choices\":[{\"text\":\"a\",\"logprobs\":{\"tokens\":[\"a\"],\"token_logprobs\":[null],\"top_logprobs\":[null],\"text_offset\":[0]},\"finish_reason\":\"length\"}]}\n\ndata: [DONE]\n\n", uint8(1))
	f.Add("data: {\"type\":\"response.output_text.delta\",\"delta\":\"a\"}\n\ndata: {\"type\":\"response.completed\",\"response\":{\"status\":\"completed\"}}\n\n", uint8(2))
	f.Add("{\"delta\":{\"text\":\"a\"}}\n{\"over\":true}\n", uint8(3))
	m, err := New("attic", Settings{URL: "http://127.0.0.1:1"}, slog.New(slog.DiscardHandler))
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, stream string, style uint8) {
		req := &exchange.Request{Candidates: 2, MaxTokens: 50, Scores: new(int), Raw: &exchange.Raw{Text: "a", Echo: style > 127}}
		d := []decoder{&chatDecoder{newAnswer(m, req)}, &rawDecoder{answer: newAnswer(m, req)}, &responseDecoder{newAnswer(m, req)}, &formDecoder{answer: newAnswer(m, req), form: &Form{Piece: "delta.text", Done: "over"}}}[style%4]
		started, finished := 0, map[int]int{}
		emit := func(e exchange.Event) bool {
			switch e := e.(type) {
			case exchange.Started:
				started++
			case exchange.Finish:
				finished[e.Candidate]++
				if e.Tokens < 0 || e.PromptTokens < 0 || e.ReasoningTokens < 0 {
					t.Errorf("%+v", e)
				}
			case exchange.TextDelta:
				if e.Candidate < 0 || e.Candidate > 1 || started == 0 {
					t.Errorf("%+v", e)
				}
			}
			return true
		}
		dog := watch(time.Hour, time.Hour, func(error) {})
		defer dog.timer.Stop()
		err := follow(bufio.NewReader(strings.NewReader(stream)), style%4 == 3, d, emit, dog)
		if whole := len(finished) == 2 && finished[0] == 1 && finished[1] == 1; err == nil && (started != 1 || !whole) || err != nil && len(finished) > 0 {
			t.Errorf("started %d times, finished %v, %v", started, finished, err)
		}
		_ = d.whole([]byte(stream), func(exchange.Event) bool { return true })
	})
}
